"""Every rule of the interlock by itself, and the one way to an open drive."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from kyklon.base.errors import Refused
from kyklon.devices.ports import DriveFacts
from kyklon.devices.simulated.drives import SimulatedDrive, SimulatedDrives
from kyklon.model.image_file import SourceFacts
from kyklon.operations.card.drives.interlock import (
    LARGEST_CARD,
    RULES,
    Case,
    Consent,
    OpenTarget,
    Purpose,
    Request,
    Verdict,
    check,
    judge,
    opened,
)
from support import simulated

GB = 10**9


def drive(**facts: Any) -> DriveFacts:
    return DriveFacts(
        **({"identity": "usb|1", "name": "card", "size": 32 * GB, "bus": "usb", "removable": True} | facts)
    )


def verdict(
    need: int = GB, source: str = "/images/a.img", chosen: str = "", own: bool = False, **facts: Any
) -> Verdict:
    return judge(Case(drive(**facts), need, source, own=own, chosen_identity=chosen))


def test_an_empty_card_is_free() -> None:
    found = verdict()
    assert found.allowed
    assert (found.lose, found.loss, found.warnings) == ("", "", ())


REFUSALS: dict[str, tuple[dict[str, Any], str]] = {
    "running-system": ({"in_use": True}, "running system"),
    "not-removable": ({"removable": False}, "built in"),
    "mounted": ({"mounts": ("/media/pics",)}, "/media/pics"),
    "read-only": ({"read_only": True}, "write-protect switch"),
    "too-small": ({"size": GB - 1}, "needs"),
    "changed": ({"chosen": "usb|2"}, "swapped"),
    "is-source": ({"mounts": ("/images",)}, "very drive"),
    "swap": ({"swap": True}, "swap space"),
    "lvm": ({"member_of": "LVM"}, "volume group"),
    "raid": ({"member_of": "RAID"}, "disk array"),
    "crypt": ({"member_of": "crypt"}, "encrypted volume"),
    "mapped": ({"member_of": "mapped"}, "built on it"),
    "partition": ({"part_of": "/dev/card"}, "Choose the whole drive"),
    "too-large": ({"size": LARGEST_CARD + 1}, "backup disk"),
}


def test_every_rule_has_a_test_of_its_own() -> None:
    assert {rule.code for rule in RULES} == set(REFUSALS)


@pytest.mark.parametrize("code", REFUSALS)
def test_the_rule_refuses_with_a_reason_a_beginner_understands(code: str) -> None:
    facts, words = REFUSALS[code]
    found = verdict(**facts)
    assert not found.allowed
    assert any(words in reason for reason in found.refusals)
    rule = next(rule for rule in RULES if rule.code == code)
    assert rule.reason(Case(drive(), GB, "/images/a.img")) is None


@pytest.mark.parametrize("code", REFUSALS)
def test_nothing_typed_overrides_a_refusal(code: str) -> None:
    facts, _words = REFUSALS[code]
    facts = dict(facts)
    chosen = facts.pop("chosen", "")
    case = Case(drive(labels=("X",), **facts), GB, "/images/a.img", chosen_identity=chosen)
    with pytest.raises(Refused):
        check(judge(case), Consent("X"))


def test_the_image_itself_is_no_target() -> None:
    case = Case(drive(identity="file:/images/a.img", is_file=True), 1, "/images/a.img")
    assert not judge(case).allowed


def test_a_drive_with_files_must_be_named_letter_for_letter() -> None:
    case = Case(drive(labels=("HOLIDAY 24",), holds="48 photos", files=48, newest="2024-08-29"), GB, "/a.img")
    found = judge(case)
    assert found.allowed
    assert found.lose == "HOLIDAY 24"
    assert "48 photos" in found.loss
    assert "2024-08-29" in found.loss
    for typed in ("", "yes", "holiday 24", "HOLIDAY 24 ", "HOLIDAY"):
        with pytest.raises(Refused, match="HOLIDAY 24"):
            check(found, Consent(typed))
    check(found, Consent("HOLIDAY 24"))


def test_a_large_drive_is_allowed_for_a_build_on_a_disk_and_must_be_named() -> None:
    found = judge(Case(drive(size=LARGEST_CARD + 1), GB, "/images/a.img", disk=True))
    assert found.allowed
    assert found.lose == "card"
    assert "larger than a card" in found.warnings[0]


def test_the_builds_own_card_needs_no_naming_again() -> None:
    assert verdict(own=True, holds="the image").lose == ""


def test_an_edit_of_boot_files_loses_nothing_but_keeps_the_rules() -> None:
    assert judge(Case(drive(labels=("QUAYBOOT",)), 0, "boot files", edit=True)).lose == ""
    assert not judge(Case(drive(in_use=True), 0, "boot files", edit=True)).allowed


def test_nobody_else_hands_out_open_drives(tmp_path: Path) -> None:
    target = simulated(tmp_path)
    with target.drives.open("sim:x", write=True) as handle, pytest.raises(Refused):
        OpenTarget(object(), Request(target, Purpose.WRITE), handle)


def test_a_drive_exchanged_since_it_was_chosen_is_not_opened(tmp_path: Path) -> None:
    target = simulated(tmp_path)
    other = replace(target.facts, identity="sim:other", labels=("THEIRS",))
    drives = SimulatedDrives(tmp_path / "drives")
    drives.save((SimulatedDrive(facts=other, backing="x.standin"),))
    request = Request(target, Purpose.PROVE, consent=Consent("THEIRS", target.facts.identity))
    with pytest.raises(Refused, match="swapped"), opened(request):
        pass
    assert not target.drives.folder.joinpath("x.standin").exists()


def test_the_drive_is_judged_as_it_is_now_and_not_as_it_was_listed(tmp_path: Path) -> None:
    target = simulated(tmp_path)
    target.drives.change("sim:x", facts=replace(target.facts, labels=("NEW HERE",), holds="3 files"))
    with pytest.raises(Refused, match="NEW HERE"), opened(Request(target, Purpose.PREPARE)):
        pass


def test_an_image_on_the_drive_itself_is_seen_by_its_device_too() -> None:
    case = Case(drive(nodes=("b8:0", "b8:1")), GB, "/somewhere/a.img", source_nodes=frozenset({"f2049:7", "b8:1"}))
    assert "very drive" in judge(case).refusals[0]


def test_an_estimated_size_warns_but_does_not_refuse() -> None:
    found = judge(Case(drive(size=GB), 0, "/a.img.bz2", likely=2 * GB))
    assert found.allowed
    assert "about" in found.warnings[0]
    assert judge(Case(drive(size=GB), 0, "/a.img.bz2", likely=GB // 2)).warnings == ()


def test_what_the_system_says_about_read_only_is_passed_on() -> None:
    assert "rights forbid" in verdict(read_only=True, why_read_only="The file's rights forbid it.").refusals[0]


@pytest.mark.parametrize(
    ("mounts", "source", "refused"),
    [
        (("/images",), "/images/a.img", True),
        (("/images/",), "/images/deep/a.img", True),
        (("/image",), "/images/a.img", False),
        (("/",), "/images/a.img", False),
        (("/other",), "/images/a.img", False),
        (("/images",), "", False),
        (("/x", "/images"), "/images/a.img", True),
    ],
)
def test_the_image_lies_below_a_mount_of_the_drive(mounts: tuple[str, ...], source: str, refused: bool) -> None:
    codes = judge(Case(drive(mounts=mounts), GB, source)).codes
    assert ("is-source" in codes) is refused


@pytest.mark.parametrize(
    ("unpacked", "exact", "need", "likely"), [(5, True, 5, 0), (5, False, 0, 5), (None, False, 0, 0)]
)
def test_only_a_size_that_is_sure_is_needed(
    tmp_path: Path, unpacked: int | None, exact: bool, need: int, likely: int
) -> None:
    facts = SourceFacts(tmp_path / "a.img", "plain", 5, unpacked, exact=exact)
    case = Request(simulated(tmp_path), Purpose.WRITE, facts).case
    assert (case.need, case.likely) == (need, likely)
    without = Request(simulated(tmp_path), Purpose.PROVE).case
    assert (without.need, without.likely, without.source, without.own, without.edit) == (0, 0, "", False, False)


@pytest.mark.parametrize(
    ("size", "allowed"), [(GB - 1, False), (GB, True), (LARGEST_CARD, True), (LARGEST_CARD + 1, False)]
)
def test_a_drive_of_exactly_the_needed_size_and_the_largest_card(size: int, allowed: bool) -> None:
    assert verdict(size=size).allowed is allowed
    assert bool(verdict(size=size).warnings) is (size > LARGEST_CARD)


def test_an_open_target_is_closed_behind_its_block(tmp_path: Path) -> None:
    target = simulated(tmp_path)
    with opened(Request(target, Purpose.PROVE)) as held:
        held.handle_for(Purpose.PROVE)
    with pytest.raises(Refused, match="not opened for this"):
        held.handle_for(Purpose.PROVE)


@pytest.mark.parametrize(
    ("own", "asked", "given"),
    [
        (Purpose.PROVE, Purpose.PROVE, True),
        (Purpose.PROVE, Purpose.EDIT, False),
        (Purpose.PREPARE, Purpose.EDIT, True),
        (Purpose.EDIT, Purpose.PREPARE, False),
        (Purpose.PREPARE, Purpose.PROVE, False),
    ],
)
def test_what_a_drive_was_opened_for(tmp_path: Path, own: Purpose, asked: Purpose, given: bool) -> None:
    with opened(Request(simulated(tmp_path), own)) as held:
        if given:
            held.handle_for(asked)
        else:
            with pytest.raises(Refused):
                held.handle_for(asked)


def test_the_largest_card_is_one_and_nothing_larger() -> None:
    assert LARGEST_CARD == 1_100_000_000_000  # 1 TB and a tenth
    assert verdict(size=LARGEST_CARD).allowed
    assert verdict(size=LARGEST_CARD).lose == ""
    case = Case(drive(size=LARGEST_CARD + 1, name="disk"), GB, disk=True)
    assert judge(case).lose == "disk"
    assert not judge(replace(case, disk=False)).allowed


def test_only_a_file_that_is_not_there_yet_has_no_size_of_its_own() -> None:
    assert judge(Case(drive(is_file=True, size=0), GB)).allowed
    assert "too-small" in judge(Case(drive(is_file=True, size=GB - 1), GB)).codes
    assert "too-small" in judge(Case(drive(size=0), GB)).codes
    assert "too-small" not in judge(Case(drive(size=GB), GB)).codes


def image_facts(path: Path) -> SourceFacts:
    path.write_bytes(bytes(512))
    return SourceFacts(path, "plain", 512, 512, exact=True, name=path.name)


def test_an_open_drive_is_for_the_image_it_was_judged_for_and_for_no_other(tmp_path: Path) -> None:
    image, other = image_facts(tmp_path / "a.img"), image_facts(tmp_path / "b.img")
    with opened(Request(simulated(tmp_path), Purpose.WRITE, image)) as place:
        for wrong in (None, other):
            with pytest.raises(Refused, match="another image"):
                place.handle_for(Purpose.WRITE, wrong)
        handle = place.handle_for(Purpose.WRITE, image)
        handle.write_at(b"x" * 512, 0)
        handle.write_at(b"y" * 512, 0)  # its own first bytes are no reason to refuse the second
        assert handle.read_at(512, 0) == b"y" * 512


@pytest.mark.parametrize("at", [0, 1, (1 << 20) - 1])
def test_any_byte_of_the_first_mib_that_changes_meanwhile_is_seen(at: int, tmp_path: Path) -> None:
    target, image = simulated(tmp_path), image_facts(tmp_path / "a.img")
    with opened(Request(target, Purpose.WRITE, image)) as place:
        handle = place.handle_for(Purpose.WRITE, image)
        with target.path.open("r+b") as file:
            file.seek(at)
            file.write(b"z")
        with pytest.raises(Refused, match="Something else has just written"):
            handle.write_at(b"x", 0)
