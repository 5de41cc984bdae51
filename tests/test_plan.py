"""Parts that fit and parts that do not; power; tuning; the next thing to do."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kyklon.base.errors import BuildFolderError, WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Adapter, Board, Cable, Card, Display, Encoder, Port
from kyklon.catalogue.system_records import Emulator, System
from kyklon.catalogue.text_records import TuningSetting
from kyklon.demo import camper
from kyklon.model.build import Build, Part, TuningLayers, edited, remedied
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.operations.assembly import findings as electrical
from kyklon.operations.assembly.budget import budget
from kyklon.operations.next_step import next_step
from kyklon.operations.picture.ranges import fit
from kyklon.operations.plan.acts import start_build
from kyklon.operations.plan.connections import connect, connections, cost, unconnected, with_cable, with_length
from kyklon.operations.plan.findings import findings
from kyklon.operations.registry import OPERATIONS
from kyklon.operations.tuning import findings as tuning
from kyklon.operations.tuning.cascade import effective, issue, with_unit
from kyklon.operations.tuning.latency import Share, Way, ear_shares, shares, total
from kyklon.record import folder as store
from support import Demo


def codes(build: Build, catalogue: Catalogue) -> set[str]:
    return {finding.code for finding in findings(build, catalogue, World())}


def test_the_demos_parts_fit_together(demo: Demo, catalogue: Catalogue) -> None:
    assert findings(demo.build, catalogue, World()) == []
    assert not any(connection.faults for connection in connections(demo.build, catalogue))


def test_a_board_with_small_sockets_needs_other_cables_and_says_which(demo: Demo, catalogue: Catalogue) -> None:
    build = demo.build.with_part("board", "ling")
    found = {finding.code: finding for finding in findings(build, catalogue, World())}
    assert set(found) >= {"plan.link:supply.out-board.power", "plan.link:board.video-adapter.in"}
    assert "HDMI D" in found["plan.link:board.video-adapter.in"].message
    for _ in range(len(found)):  # one at a time: every edit makes the findings anew
        remedies = [
            finding.remedy for finding in findings(build, catalogue, World()) if finding.code.startswith("plan.link")
        ]
        build = remedied(build, remedies[0]) if remedies and remedies[0] else build
    assert not {code for code in codes(build, catalogue) if code.startswith("plan.link")}


@pytest.mark.parametrize(
    ("role", "part", "code"),
    [
        ("supply", "ballast-3c", "plan.link:supply.out-board.power"),
        ("display", "pane-24", "plan.link:adapter.out-display.rgb"),
        ("display", "casement-tri-25", "plan.link:adapter.out-display.rgb"),
        ("adapter", "gantry-15", "plan.link:adapter.out-display.rgb"),
        ("board", "halibut-desk", "plan.image-board"),
    ],
)
def test_what_does_not_fit_is_a_stop(role: str, part: str, code: str, demo: Demo, catalogue: Catalogue) -> None:
    found = {finding.code: finding for finding in findings(demo.build.with_part(role, part), catalogue, World())}
    assert found[code].severity == "stop"
    assert found[code].why
    assert found[code].source


def test_another_display_is_connected_by_one_click(demo: Demo, catalogue: Catalogue) -> None:
    parts = [part.model_dump() for part in demo.build.parts if part.role != "adapter"]
    build = edited(edited(demo.build, "parts", parts).with_part("display", "pane-24"), "links", [])
    found = {finding.code: finding for finding in findings(build, catalogue, World())}
    assert found["plan.unconnected"].severity == "stop"
    after = remedied(build, found["plan.unconnected"].remedy)
    assert findings(after, catalogue, World()) == []
    ends = {(link.start, link.end) for link in after.links}
    assert {("board.video", "display.video"), ("supply.out", "board.power"), ("card.plug", "board.card")} <= ends


def test_connecting_goes_through_the_adapter_where_there_is_one(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build, "links", [])
    ends = {(link.start, link.end) for link in connect(build, catalogue)}
    assert ends == {(link.start, link.end) for link in demo.build.links}


def test_a_new_build_has_nothing_that_stops_it(catalogue: Catalogue, tmp_path: Path) -> None:
    made = store.load(start_build(tmp_path / "new", "Camper", catalogue)).build
    found = inspection.inspect(made, catalogue, World())
    assert [each.code for each in found if each.severity == "stop"] == []
    with pytest.raises(BuildFolderError, match="not empty"):
        start_build(tmp_path / "new", "Again", catalogue)


def test_directions_and_signals_are_checked(demo: Demo, catalogue: Catalogue) -> None:
    links = [link.model_dump() for link in demo.build.links]
    links[1] = {"start": "adapter.in", "end": "board.video", "cable": "hdmi-a-a-1m"}
    links[3] = {"start": "board.video", "end": "encoder.usb", "cable": "hdmi-a-a-1m"}
    links.append({"start": "board.gone", "end": "nobody.in", "cable": "no-such"})
    told = " ".join(finding.message for finding in findings(edited(demo.build, "links", links), catalogue, World()))
    assert "wrong way round" in told
    assert "sends HDMI; Tackle Pair accepts USB 2.0" in told
    assert "has no port “gone”" in told
    assert "No nobody has no port “in”" in told
    assert "no cable 'no-such'" in told


def test_missing_parts_are_cautions(demo: Demo, catalogue: Catalogue) -> None:
    parts = [part.model_dump() for part in demo.build.parts if part.role != "encoder"]
    assert "plan.missing:encoder" in codes(edited(demo.build, "parts", parts), catalogue)


def test_a_weak_supply_is_told_with_a_better_one(demo: Demo, catalogue: Catalogue) -> None:
    build = demo.build.with_part("supply", "ballast-2a").with_part("board", "cod")
    power = budget(build, catalogue)
    assert power.peak_a == pytest.approx(1.4)
    assert power.usable_a == pytest.approx(1.6)
    assert "plan.supply" not in codes(build, catalogue)
    parts = [*build.parts, build.parts[0].model_copy(update={"role": "second", "part": "pane-7"})]
    build = edited(build, "parts", [part.model_dump() for part in parts])
    found = next(finding for finding in findings(build, catalogue, World()) if finding.code == "plan.supply")
    assert found.severity == "caution"
    assert "plan.supply" not in codes(remedied(build, found.remedy), catalogue)


def test_a_thin_cable_starves_the_board(demo: Demo, catalogue: Catalogue) -> None:
    links = [link.model_dump() for link in demo.build.links]
    links[0]["cable"] = "power-a-micro-3m"
    build = edited(demo.build, "links", links)
    power = budget(build, catalogue)
    # V = U − R · P / V: 1.1 A and 0.1 A at 5 V, AWG 24 at 25 °C; the encoder's own cable takes a little more
    ohms, watts = 2 * 3.05 * 0.0842 * (1 + 0.00393 * 5) + 4 * 0.030, 1.2 * 5
    assert power.board_v == pytest.approx((5.1 + (5.1**2 - 4 * ohms * watts) ** 0.5) / 2, abs=5e-3)
    (found,) = electrical.findings(build, catalogue, World())
    assert (found.code, found.severity) == ("assembly.low-voltage", "stop")
    assert electrical.findings(remedied(build, found.remedy), catalogue, World()) == []
    assert "AWG 24" in " ".join(power.working)


def test_a_hot_board_in_a_closed_case(demo: Demo, catalogue: Catalogue) -> None:
    found = electrical.findings(demo.build.with_part("board", "ling"), catalogue, World())
    assert "assembly.heat" in {each.code for each in found}


def test_the_parts_list_counts_each_part_once(demo: Demo, catalogue: Catalogue) -> None:
    rows = cost(demo.build, catalogue)
    assert len({name for name, _count, _price in rows}) == len(rows)
    assert sum(price for _name, _count, price in rows) > 100


# --- tuning ----------------------------------------------------------------------------------------------------


def test_a_later_layer_wins(catalogue: Catalogue) -> None:
    settings = catalogue.all(TuningSetting)
    layers = TuningLayers(
        front_end={"frames-ahead": 1, "smoothing": True},
        systems={"birch-16": {"frames-ahead": 2}},
        games={"birch-16/X": {"frames-ahead": 0}},
    )
    rows = {row.setting.id: row for row in effective(settings, layers, "birch-16", "birch-16/X")}
    assert (rows["frames-ahead"].value, rows["frames-ahead"].layer) == (0, "game")
    assert rows["frames-ahead"].by_layer == (0, 1, None, 2, None, 0)
    assert (rows["smoothing"].value, rows["smoothing"].layer) == (True, "front end")
    assert rows["vertical-sync"].layer == "default"
    rows = {row.setting.id: row for row in effective(settings, layers, "alder-8")}
    assert rows["frames-ahead"].value == 1


def test_settings_files_say_where_each_value_comes_from(demo: Demo, catalogue: Catalogue) -> None:
    files = issue(demo.build, catalogue, World())
    assert len(files) == 6  # of five systems, and of a game with settings of its own
    assert "frames-ahead = 1    # system" in files["settings/birch-16.conf"]
    assert "; from front end\nrender-queue-frames=1" in files["settings/cedar-disc.ini"]
    assert with_unit(catalogue.get(TuningSetting, "frames-ahead"), 1).endswith("frame")


def latency_of(demo: Demo, catalogue: Catalogue, **values: int) -> tuple[Share, ...]:
    system = catalogue.get(System, "birch-16")
    rows = {row.setting.id: row.value for row in effective(catalogue.all(TuningSetting), TuningLayers(), system.id)}
    way = Way(
        system,
        catalogue.get(Emulator, system.emulator),
        catalogue.get(Encoder, "tackle-pair"),
        (catalogue.get(Adapter, "gantry-rgb"),),
        catalogue.get(Display, "casement-19"),
        900,
    )
    return shares(way, rows | values, 60.0)


def test_games_with_settings_of_their_own_have_a_file_of_their_own(demo: Demo, catalogue: Catalogue) -> None:
    files = issue(demo.build, catalogue)
    own, all_ = files["settings/birch-16/Brass Parade.conf"], files["settings/birch-16.conf"]
    assert "frames-ahead = 0    # game" in own
    assert "frames-ahead = 1    # system" in all_
    odd = edited(
        demo.build, "tuning.games", {"birch-16/../../x: y?": {"frames-ahead": 2}, "gone/A": {"frames-ahead": 2}}
    )
    names = [path for path in issue(odd, catalogue) if "birch-16/" in path]
    assert names == ["settings/birch-16/_.._x_ y_.conf"]


def test_everything_on_the_way_moves_the_latency(catalogue: Catalogue) -> None:
    system = catalogue.get(System, "birch-16")
    values = {row.setting.id: row.value for row in effective(catalogue.all(TuningSetting), TuningLayers(), system.id)}
    way = Way(
        system,
        catalogue.get(Emulator, system.emulator),
        catalogue.get(Encoder, "tackle-pair"),
        (),
        catalogue.get(Display, "pane-24"),
        900,
    )

    def seen(way: Way = way, **changed: object) -> float:
        return total(shares(way, values | changed, 60.0)).mean

    def heard(way: Way = way, **changed: object) -> float:
        return total(ear_shares(way, values | changed, 60.0)).mean

    plain = seen()
    assert plain - seen(replace(way, display=way.display.model_copy(update={"processing_ms": 0}))) == pytest.approx(9)
    assert plain - seen(**{"vertical-sync": False}) == pytest.approx(1000 / 60 - 5.2 / 0.9)  # the rest of its field
    slow = replace(way, emulator=way.emulator.model_copy(update={"frame_ms": 20.0}))
    assert seen(slow) - plain == pytest.approx(1000 / 60)  # it misses a field
    assert seen(replace(slow, processor_mhz=1800)) == pytest.approx(plain)
    late = catalogue.get(Adapter, "gantry-colour")
    assert seen(replace(way, adapters=(late, late))) - plain == pytest.approx(2 * late.delay_ms)
    assert heard(**{"audio-buffer-ms": 128}) - heard(**{"audio-buffer-ms": 64}) == pytest.approx(48)
    assert seen(**{"audio-buffer-ms": 128}) == plain
    assert heard(replace(slow, processor_mhz=500)) - heard(slow) == pytest.approx(40 - 20 / 0.9)


def test_latency_is_the_sum_of_its_shares(demo: Demo, catalogue: Catalogue) -> None:
    latency = total(latency_of(demo, catalogue))
    assert latency.density.sum() == pytest.approx(1)
    mean = float(np.sum(latency.times * latency.density))
    assert mean == pytest.approx(latency.mean, abs=0.2)
    variance = float(np.sum((latency.times - mean) ** 2 * latency.density))
    wanted = sum((share.high - share.low) ** 2 / 12 for share in latency.shares)  # of independent uniform shares
    assert variance == pytest.approx(wanted, rel=0.02)
    assert latency.percentile(5) < latency.percentile(50) < latency.percentile(95)


def test_one_frame_ahead_is_one_frame_less(demo: Demo, catalogue: Catalogue) -> None:
    one, none = (total(latency_of(demo, catalogue, **{"frames-ahead": n})).mean for n in (1, 0))
    assert none - one == pytest.approx(1000 / 60)
    beyond, all_ = (total(latency_of(demo, catalogue, **{"frames-ahead": n})).mean for n in (3, 2))
    assert beyond == pytest.approx(all_)  # no more than the game lags


def test_tuning_findings(demo: Demo, catalogue: Catalogue) -> None:
    systems = {
        "birch-16": {"frames-ahead": 3},
        "cedar-disc": {"frames-ahead": 1},
        "alder-8": {"scanline-percent": 40},
    }
    build = edited(demo.build, "tuning.systems", systems)
    found = {finding.code: finding for finding in tuning.findings(build, catalogue, World())}
    assert set(found) == {
        "tuning.frames-ahead:birch-16",
        "tuning.speed:birch-16",  # so many are more than the board makes
        "tuning.no-frames-ahead:cedar-disc",
        "tuning.scanlines:alder-8",
    }
    after = remedied(build, found["tuning.frames-ahead:birch-16"].remedy)
    assert "tuning.frames-ahead:birch-16" not in {
        finding.code for finding in tuning.findings(after, catalogue, World())
    }


# --- the whole list ----------------------------------------------------------------------------------------------


def test_findings_are_sorted_unique_and_give_reasons(demo: Demo, catalogue: Catalogue) -> None:

    found = inspection.inspect(demo.build, catalogue, inspection.observe(demo.build, demo.folder, catalogue))
    assert [each.operation for each in found] == sorted(each.operation for each in found)
    assert len({each.code for each in found}) == len(found)
    assert all(each.why and each.source and each.title and each.message for each in found)
    assert [each.code for each in found if each.severity == "stop"] == [
        "boot.kernel-set",
        "controls.encoder-quirk",
        "picture.out-of-range:menu",
        "library.system-file-name:cedar-disc",
    ]
    assert inspection.find(found, "picture.out").code == "picture.out-of-range:menu"
    with pytest.raises(WrongUse, match=r"boot\.kernel-set"):
        inspection.find(found, "nothing")


def test_a_sign_off_goes_stale_when_its_inputs_change(demo: Demo) -> None:
    operation = OPERATIONS[0]
    assert inspection.state(demo.build, operation, ()) == "not started"
    sign = {"operation": 10, "at": "2026-01-01T10:00:00", "inputs": inspection.fingerprint(demo.build, operation)}
    build = edited(demo.build, "sign_offs", [sign])
    assert inspection.state(build, operation, ()) == "clear"
    assert inspection.state(edited(build, "boot.country", "NL"), operation, ()) == "clear"
    assert inspection.state(build.with_part("board", "cod"), operation, ()) == "stale"


def test_the_next_step_follows_the_work(demo: Demo, catalogue: Catalogue) -> None:
    found = inspection.inspect(demo.build, catalogue, World())
    step = next_step(demo.build, World(), found, bring_up_passed=False)
    assert step.operation == 30
    assert "merrow-armv7.krn" in step.sentence
    step = next_step(demo.build, World(), (), bring_up_passed=False)
    assert step.operation == 20
    done = edited(demo.build, "card.state", "written and read back")
    assert next_step(done, World(), (), bring_up_passed=False).operation == 90
    assert "Switch on" in next_step(done, World(), (), bring_up_passed=True).sentence


def test_generic_parts_say_so_and_hold_no_more_than_they_must(catalogue: Catalogue) -> None:
    """Named by standard and measure alone: nobody types what everybody has, and nothing in them is a guess upwards."""
    generic = [part for rows in catalogue.parts.values() for part in rows.values() if part.id.startswith("generic-")]
    assert len(generic) >= 15
    assert all(part.note.startswith("Generic") for part in generic)
    for display in (each for each in generic if isinstance(each, Display)):
        for timing in display.modes:
            assert fit(timing, display.ranges).holds, (display.id, timing)
            assert not display.most_clock_hz or timing.clock_hz <= display.most_clock_hz
        if display.tube:  # a band of a few per cent: what is not sure is not offered
            (band,) = display.ranges
            assert band.line_khz[1] / band.line_khz[0] < 1.04


def test_what_takes_power_besides_its_picture_needs_a_cable_for_it(catalogue: Catalogue) -> None:
    """Its own power input is fed by a USB socket where that gives enough (USB 2.0, 7.2.1: 0.5 A)."""
    build = camper.build(catalogue, "0" * 64)
    assert not unconnected(build, catalogue)
    assert not [connection for connection in connections(build, catalogue) if connection.faults]
    dark = edited(build, "links", tuple(link for link in build.links if link.end != "display.power"))
    assert unconnected(dark, catalogue) == ("display.power",)
    told = {finding.code: finding for finding in findings(dark, catalogue, World())}
    assert told["plan.unconnected"].severity == "stop"
    again = edited(dark, "links", connect(dark, catalogue))
    assert not unconnected(again, catalogue)
    display = catalogue.get(Display, "pane-7")
    hungry = display.model_copy(
        update={"ports": tuple(p.model_copy(update={"draws_a": 0.6}) if p.draws_a else p for p in display.ports)}
    )
    parts = replace(catalogue, parts={**catalogue.parts, "displays": {**catalogue.parts["displays"], "pane-7": hungry}})
    assert unconnected(edited(dark, "links", connect(dark, parts)), parts) == ("display.power",), "0.5 A are too few"
    assert any(each.code.startswith("plan.usb-current") for each in findings(build, parts, World()))


def test_pieces_in_series_are_one_cable(demo: Demo, catalogue: Catalogue) -> None:
    """USB 2.0, 5.11.1: 30 mΩ a contact; ASTM B258: 24 AWG 84.2, 28 AWG 213 mΩ a metre (from memory)."""
    cool = edited(edited(demo.build, "assembly.wire_c", 20.0), "boot.processor_mhz", 0)
    one = with_cable(cool, "supply.out", "board.power", "power-a-micro-3m", catalogue)
    (three,) = [link for link in one.links if link.end == "board.power"]
    pieces = ["generic-usb-a-extension-2m", "power-a-micro-3m"]
    two = with_cable(cool, "supply.out", "board.power", pieces, catalogue)
    link = next(link for link in two.links if link.end == "board.power")
    assert link.pieces == tuple(pieces)
    assert not [each for each in connections(two, catalogue) if each.faults]
    before, after = budget(one, catalogue), budget(two, catalogue)
    assert before is not None
    assert after is not None
    assert before.drop_v is not None
    assert after.drop_v is not None
    more = after.drop_v / after.way_a - before.drop_v / before.way_a
    assert more == pytest.approx(2 * 2.0 * 0.213 + 2 * 0.030, rel=0.01)
    assert {name for name, _count, _price in cost(two, catalogue)} >= {catalogue.get(Cable, three.cable).name}
    turned = with_cable(demo.build, "board.power", "supply.out", pieces[::-1], catalogue)
    assert next(each for each in turned.links if each.end == "board.power").pieces == tuple(pieces)


@pytest.mark.parametrize(
    ("pieces", "words"),
    [
        (["power-a-micro-3m", "generic-usb-a-extension-2m"], "do not go into each other"),
        (["generic-usb-a-extension-2m"], "ends in a USB-A socket"),
        (["power-a-c-1m", "power-a-micro-3m"], "do not go into each other"),
        (["generic-usb-a-extension-2m"] * 5 + ["power-a-micro-3m"], "more than the 5"),
        (["generic-usb-a-extension-2m", "hdmi-a-a-1m"], "do not go into each other"),
    ],
)
def test_pieces_that_do_not_go_together(pieces: list[str], words: str, demo: Demo, catalogue: Catalogue) -> None:
    build = with_cable(demo.build, "supply.out", "board.power", pieces, catalogue)
    faults = " ".join(fault for each in connections(build, catalogue) for fault in each.faults)
    assert words in faults


def test_no_remedy_makes_a_cable_too_short(demo: Demo, catalogue: Catalogue) -> None:
    """A wish for three metres is kept by whatever is proposed: the thicker cable and the one that fits."""
    build = with_cable(demo.build, "supply.out", "board.power", "power-a-micro-3m", catalogue, 3.0)
    for finding in inspection.inspect(build, catalogue, World()):
        if finding.remedy is None:
            continue
        made = remedied(build, finding.remedy)
        lengths = [
            each.cable.length_m
            for each in connections(made, catalogue)
            if each.cable and each.link.end == "board.power"
        ]
        assert min(lengths, default=9.0) >= 3.0, finding.code
    short = with_cable(build, "supply.out", "board.power", "power-a-micro-1m5", catalogue)
    assert "plan.link:supply.out-board.power" in codes(short, catalogue), "1.5 m do not reach"
    far = with_length(short, "supply.out", "board.power", 0.0)
    assert "plan.link:supply.out-board.power" not in codes(far, catalogue)
    with pytest.raises(ValueError, match=r"over 20 m"):
        with_cable(build, "supply.out", "board.power", "", catalogue, 20.0)


def test_a_display_powers_the_board(demo: Demo, catalogue: Catalogue) -> None:
    display = catalogue.get(Display, demo.build.part("display") or "")
    socket = Port(id="usb", label="USB", connector="USB-A", direction="out", signal="USB 2.0", volts=5, supplies_a=1.5)
    own = display.model_copy(update={"ports": (*display.ports, socket)})
    parts = replace(catalogue, parts={**catalogue.parts, "displays": {**catalogue.parts["displays"], own.id: own}})
    build = with_cable(demo.build, "display.usb", "board.power", "power-a-micro-1m5", parts)
    power = budget(build, parts)
    assert power is not None
    assert (power.supply.amps, power.supply.volts) == (1.5, 5.0)
    assert display.name in power.supply.name
    assert power.usable_a == pytest.approx(1.5 * 0.8)
    assert all(draw.name != display.name for draw in power.draws)


def test_two_sources_on_one_board_are_a_stop(demo: Demo, catalogue: Catalogue) -> None:
    own = Port(id="jack", label="Second power", connector="USB-C", direction="in", signal="power", draws_a=1.0)
    board = catalogue.get(Board, demo.build.part("board") or "")
    two = board.model_copy(update={"ports": (*board.ports, own)})
    parts = replace(catalogue, parts={**catalogue.parts, "boards": {**catalogue.parts["boards"], two.id: two}})
    build = edited(demo.build, "parts", [*demo.build.parts, Part(role="supply-2", part="ballast-3c")])
    build = with_cable(build, "supply-2.out", "board.jack", "power-c-c-1m", parts)
    told = {finding.code: finding for finding in findings(build, parts, World())}
    stop = told["plan.two-feeds:board"]
    assert stop.severity == "stop"
    after = remedied(build, stop.remedy)
    assert "plan.two-feeds:board" not in {finding.code for finding in findings(after, parts, World())}


def test_stops_of_the_plan_offer_the_nearest_replacement(demo: Demo, catalogue: Catalogue) -> None:
    tiny = catalogue.get(Card, "cockle-16").model_copy(update={"id": "tiny", "capacity_bytes": 2_000_000_000})
    parts = replace(catalogue, parts={**catalogue.parts, "cards": {**catalogue.parts["cards"], "tiny": tiny}})
    for build, code in (
        (demo.build.with_part("card", "tiny"), "plan.card-size"),
        (demo.build.with_part("board", "sprat").with_part("card", "cockle-128"), "plan.card-loader"),
        (demo.build.with_part("board", "halibut-desk"), "plan.image-board"),
    ):
        told = {finding.code: finding for finding in findings(build, parts, World())}
        assert told[code].remedy is not None, code
        after = remedied(build, told[code].remedy)
        assert code not in {finding.code for finding in findings(after, parts, World())}
