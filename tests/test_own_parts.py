"""What is learnt of a user's own board, image and display, where nobody here knows them by name."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Display
from kyklon.demo import samples
from kyklon.model.build import Build, edited
from kyklon.model.card import CardContents, Session
from kyklon.operations.assembly.findings import electrical_findings
from kyklon.operations.picture.observe import said_by
from kyklon.operations.picture.video_word import made_of, modes_offered, parsed
from kyklon.operations.plan.acts import fresh_build, with_part_used
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.stages.games import front_end
from kyklon.parts import board
from kyklon.parts.learning import learn

CORE = "arm,armv8"


@pytest.mark.parametrize(
    ("more", "name"),
    [
        ('timer { compatible = "arm,armv8-timer"; };', "ARMv8"),
        ('pmu { compatible = "arm,armv8-pmuv3"; };', "ARMv8"),
        ('timer { compatible = "arm,armv7-timer"; };', "ARMv7"),
        ('watch { compatible = "arm,arm11mp-twd-timer"; };', "ARMv6"),
    ],
)
def test_a_core_of_no_known_name_has_the_set_of_its_timer(more: str, name: str, catalogue: Catalogue) -> None:
    """Bindings: timer/arm,arch_timer.yaml, arm/pmu.yaml, timer/arm,twd-timer.yaml (Linux 6.1)."""
    text = samples.TREE.replace(CORE, "nobody,core-x1")
    at = text.rindex("};")
    node, _, rest = more.partition(" { ")
    data = samples.tree(f"{text[:at]}    {node} {{\n        {rest.removesuffix(' };')}\n    }};\n}};\n")
    draft = board.learn(data, catalogue, "own.dtb")
    assert draft.row["native_set"] == name
    assert draft.known["native_set"].how == "read"


def test_what_was_added_to_a_boards_sockets_is_no_fact(catalogue: Catalogue) -> None:
    draft = board.learn(samples.tree(), catalogue, "own.dtb")
    made = draft.agreed()
    named = board.learn(samples.tree(samples.TREE.replace("usb-a-connector", "nobody,plug")), catalogue, "own.dtb")
    assert "ports" not in named.row, "its USB sockets were added"
    assert named.agreed().part("Own").is_assumed("ports")
    assert made.part("Own").is_assumed("peak_a")
    assert not draft.answered("peak_a", "900 mA").agreed().part("Own").is_assumed("peak_a")


def test_a_current_that_is_only_assumed_stops_nothing(demo_build: Build, catalogue: Catalogue) -> None:
    """The demo's cable loses too much at 5 A; whether the board takes them was only suggested."""
    own = board.learn(samples.tree(), catalogue, "own.dtb").agreed().part("Own").model_copy(update={"peak_a": 5.0})
    sure = own.model_copy(update={"known": {k: v for k, v in own.known.items() if k != "peak_a"}})
    for part, severity in ((own, "caution"), (sure, "stop")):
        parts = replace(catalogue, parts={**catalogue.parts, "boards": {**catalogue.parts["boards"], part.id: part}})
        build = with_part_used(demo_build, "boards", part.id, parts)
        found = {finding.code: finding for finding in electrical_findings(build, parts)}
        assert found["assembly.low-voltage"].severity == severity
        assert ("assumed" in found["assembly.low-voltage"].message) is (severity == "caution")


@pytest.fixture
def demo_build(catalogue: Catalogue) -> Build:
    return fresh_build("Own", catalogue)


def test_a_size_is_sent_with_the_displays_own_timing(catalogue: Catalogue) -> None:
    """CTA-861, code 16: 148.5 MHz. By GTF the same size would be 172.8 MHz, which the board may not send."""
    said = said_by(catalogue.get(Display, "generic-full-hd"))
    word = parsed("1920x1080@60D")
    assert word is not None
    timing = made_of(word, modes_offered(said))
    assert timing is not None
    assert timing.clock_hz == 148_500_000
    computed = made_of(word, ())
    assert computed is not None
    assert round(computed.clock_hz, -5) == 172_800_000
    assert said_by(catalogue.get(Display, "casement-19")) is None
    assert said_by(None) is None


@pytest.mark.parametrize(
    ("values", "session", "cause"),
    [
        ({"front_end_program": ""}, None, "it is a base system and stops at a login prompt"),
        ({"foreground_service": "getty@tty1"}, None, "Nobody is logged in automatically"),
        ({"foreground_service": "getty@tty1"}, Session("getty@tty1", "player"), "nothing in their start-up files"),
        (
            {"foreground_service": "getty@tty1", "front_end_program": "/opt/menu"},
            Session("getty@tty1", "player", ("/home/player/.profile", "/opt/other")),
            "The login starts /opt/other, not /opt/menu (getty@tty1 → /home/player/.profile → /opt/other)",
        ),
        ({"foreground_service": "getty@tty1"}, Session("getty@tty1", "x", trouble="nobody"), "Nobody."),
    ],
)
def test_a_front_end_is_what_the_login_leads_to(
    values: dict[str, str], session: Session | None, cause: str, demo_build: Build, catalogue: Catalogue, whole_root
) -> None:  # type: ignore[no-untyped-def]
    own = catalogue.get(Image, "quayside").model_copy(update=values)
    parts = replace(catalogue, parts={**catalogue.parts, "images": {"quayside": own}})
    contents = replace(whole_root, root=replace(whole_root.root, session=session))
    contents = replace(contents, roots=dict.fromkeys(contents.roots, contents.root))
    build = edited(demo_build, "boot.dialect", "merrow").with_part("image", "quayside").with_part("board", "herring")
    step = front_end(lay_out(build, parts, contents))
    assert step.failures, "predicted as fine"
    assert cause in step.failures[0].cause
    assert step.failures[0].code == "system.front-end"


@pytest.fixture(scope="module")
def whole_root(tmp_path_factory: pytest.TempPathFactory) -> CardContents:
    from judges.cards import whole_card
    from kyklon.operations.card.volumes import contents

    return contents.observe(whole_card(tmp_path_factory.mktemp("root")))


def test_an_image_says_what_it_reads_and_whether_it_grows(demo_master: Path, catalogue: Catalogue) -> None:
    """Nothing on the sample grows its root; the demo's own image has the files that its system reads."""
    draft = learn("image", demo_master / "samples" / "skiff-1.0.img.xz", catalogue)
    assert draft.suggested["grows"] is False
    assert draft.because["grows"] == "nothing on it grows the root"
    own = learn("image", demo_master / "attachments" / "quayside-4.2.img.xz", catalogue)
    assert set(own.row["reads"]) <= {"services.list", "first-boot.settings"}
    assert "services.list" in own.row["reads"]
    assert own.known["reads"].how == "read"
