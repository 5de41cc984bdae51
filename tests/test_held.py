"""What is judged is what is opened and what is written, whatever happens to names and links in between."""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kyklon.base.errors import KyklonError, Refused, TargetError, TargetLost, WrongUse
from kyklon.devices.files import FileHandle, open_path
from kyklon.devices.image_file import ImageFile
from kyklon.devices.layers import Layers
from kyklon.devices.ports import DriveFacts, Handle, Target
from kyklon.devices.simulated.drives import SimulatedDrive, SimulatedDrives
from kyklon.operations.card.drives import looking
from kyklon.operations.card.drives.interlock import Consent, Purpose, Request, opened
from kyklon.operations.card.sources import source
from support import MIB, Demo, simulated, write


def plain(path: Path, size: int = 2 * MIB, fill: bytes = b"IMAGE") -> Path:
    path.write_bytes((fill * (size // len(fill) + 1))[:size])
    return path


# --- names that are no drives ------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "name",
    ["/dev/sdzz", "/dev/mapper/none", "/proc/card.img", "/sys/card", "/run/card.img", "/dev/../dev/sdzz", "/dev/null"],
)
def test_a_name_in_the_systems_own_folders_is_a_device_or_refused(name: str) -> None:
    before = set(os.listdir("/dev")), set(os.listdir("/run"))
    with pytest.raises((WrongUse, TargetError)):
        looking.find(name, None, MIB)
    assert (set(os.listdir("/dev")), set(os.listdir("/run"))) == before


def test_a_link_into_the_systems_own_folders_is_seen_through(tmp_path: Path) -> None:
    (tmp_path / "cards").symlink_to("/dev")
    with pytest.raises(WrongUse, match="no drive"):
        looking.find(str(tmp_path / "cards" / "sdzz"), None, MIB)


def test_the_memory_disk_is_a_place_like_any_other() -> None:
    target = looking.find("/dev/shm/kyklon-none.img", None, MIB)
    assert target.facts.is_file


# --- stand-ins ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "backing", ["/etc/hostname", "../outside.standin", "card.img", "sub/card.standin", ".standin/x"]
)
def test_a_stand_in_is_a_file_of_its_own_folder_and_bears_our_ending(tmp_path: Path, backing: str) -> None:
    target = simulated(tmp_path)
    assert isinstance(target.drives, SimulatedDrives)
    target.drives.save((SimulatedDrive(facts=target.facts, backing=backing),))
    for look in (target.drives.list, lambda: target.drives.path("sim:x")):
        with pytest.raises(TargetError, match="simulated drive"):
            look()
    with pytest.raises(TargetError), opened(Request(target, Purpose.PREPARE)):
        pass


def test_a_stand_in_is_no_link_and_has_no_other_name(tmp_path: Path) -> None:
    victim = plain(tmp_path / "victim")
    target = simulated(tmp_path)
    path = tmp_path / "drives" / "x.standin"
    for make in (path.symlink_to, path.hardlink_to):
        make(victim)
        with pytest.raises(TargetError, match="simulated drive"):
            write(target, source.inspect(plain(tmp_path / "image.img")))
        path.unlink()
    assert victim.read_bytes() == plain(tmp_path / "same").read_bytes()


def test_what_the_list_says_of_nodes_counts_for_nothing(tmp_path: Path) -> None:
    target = simulated(tmp_path)
    assert isinstance(target.drives, SimulatedDrives)
    lie = replace(target.facts, simulated=False, is_file=True, node="f1:1", nodes=("f1:1",))
    target.drives.save((SimulatedDrive(facts=lie, backing="x.standin"),))
    (facts,) = target.drives.list()
    assert (facts.simulated, facts.is_file, facts.nodes) == (True, False, ())


# --- the source --------------------------------------------------------------------------------------------------


def test_the_image_by_another_name_is_still_the_image(tmp_path: Path) -> None:
    image = plain(tmp_path / "a.img")
    (tmp_path / "hard.img").hardlink_to(image)
    (tmp_path / "soft.img").symlink_to(image)
    for name in ("hard.img", "soft.img", "a.img"):
        with pytest.raises(Refused, match="image file itself"):
            write(looking.find(str(tmp_path / name), None), image, typed=name)
    with pytest.raises(Refused, match="image file itself"):  # and the other way about
        write(looking.find(str(image), None), tmp_path / "hard.img", typed="a.img")


def test_every_part_of_a_split_image_counts(tmp_path: Path) -> None:
    whole = plain(tmp_path / "w", 3 * MIB).read_bytes()
    for number in range(3):
        (tmp_path / f"big.img.00{number + 1}").write_bytes(whole[number * MIB : (number + 1) * MIB])
    second = tmp_path / "big.img.002"
    with pytest.raises(Refused, match="image file itself"):
        write(looking.find(str(second), None), tmp_path / "big.img.001", typed=second.name)


def test_a_file_of_nothing_but_zeros_is_empty(tmp_path: Path) -> None:
    empty = tmp_path / "sparse.img"
    with empty.open("wb") as file:
        file.truncate(40 << 30)
    assert looking.find(str(empty), None).facts.holds == ""
    write(looking.find(str(empty), None), plain(tmp_path / "a.img"))  # nothing has to be typed
    with empty.open("r+b") as file:
        file.truncate(0)
        file.truncate(40 << 30)
        file.seek(39 << 30)
        file.write(b"x")
    with pytest.raises(Refused, match=r"sparse\.img"):
        write(looking.find(str(empty), None), tmp_path / "a.img")


# --- what is built on a drive ------------------------------------------------------------------------------------


class Computer:
    """A /sys and a /proc as the kernel lays them out (sysfs-block, proc_pid_mountinfo(5), proc_swaps(5))."""

    def __init__(self, folder: Path) -> None:
        self.sys, self.proc = folder / "sys", folder / "proc"
        for each in ("block", "dev/block", "devices"):
            (self.sys / each).mkdir(parents=True)
        (self.proc / "self").mkdir(parents=True)
        self.mounts: list[str] = []

    def device(self, name: str, number: str, under: str = "", **files: str) -> Path:
        place = self.sys / "devices" / under / name
        for each in ("holders", "slaves"):
            (place / each).mkdir(parents=True)
        for file, text in {"dev": number, **files}.items():
            at = place / file.replace("__", "/")
            at.parent.mkdir(parents=True, exist_ok=True)
            at.write_text(text + "\n")
        (self.sys / "dev" / "block" / number).symlink_to(place)
        return place

    def build(self, above: Path, on: Path) -> None:
        (on / "holders" / above.name).symlink_to(above)
        (above / "slaves" / on.name).symlink_to(on)

    def mount(self, number: str, place: str, source: str) -> None:
        self.mounts.append(f"40 1 {number} / {place} rw - ext4 {source} rw")
        (self.proc / "self" / "mountinfo").write_text("\n".join(self.mounts) + "\n")

    @property
    def layers(self) -> Layers:
        return Layers(self.sys, self.proc)


@pytest.mark.parametrize(
    ("files", "kind"),
    [
        ({"dm__uuid": "LVM-abc"}, "LVM"),
        ({"dm__uuid": "CRYPT-LUKS2-abc"}, "crypt"),
        ({"md__level": "raid1"}, "RAID"),
        ({"dm__uuid": "mpath-1"}, "RAID"),
        ({"bcache__label": ""}, "mapped"),
        ({}, "mapped"),
    ],
)
def test_what_is_built_on_a_partition_counts_for_the_drive(tmp_path: Path, files: dict[str, str], kind: str) -> None:
    computer = Computer(tmp_path)
    computer.device("sdq", "65:0")
    part = computer.device("sdq1", "65:1", "sdq", partition="1")
    above = computer.device("dm-7", "253:7", **files)
    top = computer.device("dm-8", "253:8", dm__uuid="other")
    computer.build(above, part)
    computer.build(top, above)
    computer.mount("253:8", "/srv/with\\040blank", "/dev/mapper/x")
    uses = computer.layers.uses("b65:0")
    assert kind in uses.members
    assert uses.mounts == ("/srv/with blank",)  # two floors up, and still on this drive
    assert computer.layers.uses("b65:9").members == ()


# --- the time between --------------------------------------------------------------------------------------------


class Meddled:
    """A file target to which something is done at a chosen moment. list 0: when it is chosen; 1 and 2: the interlock's
    two looks; 'open': when it is open; 'byte': right before the first byte."""

    called = "as a file"

    def __init__(self, inner: ImageFile, moment: str, deed: Callable[[], object]) -> None:
        self._inner, self._moment, self._deed, self._looks = inner, moment, deed, 0

    def __getattr__(self, name: str) -> object:
        return getattr(self._inner, name)

    def _now(self, moment: str) -> None:
        if moment == self._moment:
            self._deed()

    def list(self) -> tuple[DriveFacts, ...]:
        found = self._inner.list()
        self._now(f"after look {self._looks}")
        self._looks += 1
        return found

    def path(self, identity: str) -> Path:
        return self._inner.path(identity)

    @contextlib.contextmanager
    def open(self, identity: str, *, write: bool) -> Iterator[Handle]:
        with self._inner.open(identity, write=write) as handle:
            self._now("open")
            yield handle


MOMENTS = ("after look 0", "after look 1", "open", "after look 2", "byte")
DEEDS = ("another file", "a link to the victim", "a link in the folder", "contents", "nothing", "gone", "longer")


@given(there=st.sampled_from(["absent", "empty", "full"]), moment=st.sampled_from(MOMENTS), deed=st.sampled_from(DEEDS))
@settings(
    max_examples=int(os.environ.get("KYKLON_HELD", "120")),
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)
def test_no_permit_is_spent_on_something_else_than_was_judged(
    tmp_path_factory: pytest.TempPathFactory, there: str, moment: str, deed: str
) -> None:
    folder = tmp_path_factory.mktemp("held")
    image = plain(folder / "a.img")
    facts = source.inspect(image)
    victims = folder / "theirs"
    victims.mkdir()
    victim = plain(victims / "card.img", fill=b"THEIRS")
    place = folder / "place"
    place.mkdir()
    path = place / "card.img"
    if there != "absent":
        path.write_bytes(b"MINE" * 1000 if there == "full" else b"")
    judged = path.stat().st_ino if path.exists() else None
    theirs: list[int] = [victim.stat().st_ino]

    def do() -> None:
        if deed == "another file":
            path.unlink(missing_ok=True)
            plain(path, fill=b"OTHER")
            theirs.append(path.stat().st_ino)
        elif deed == "a link to the victim":
            path.unlink(missing_ok=True)
            path.symlink_to(victim)
        elif deed == "a link in the folder":
            place.rename(folder / "moved")
            place.symlink_to(victims)
        elif deed == "contents" and path.exists():
            path.write_bytes(b"\xeb\x3c\x90FORMATTED" * 999)
        elif deed == "gone":
            path.unlink(missing_ok=True)
        elif deed == "longer" and path.exists():
            with path.open("ab") as file:
                file.write(b"more")

    target = Target(Meddled(ImageFile(path, 4 * MIB), moment, do), ImageFile(path, 4 * MIB).list()[0])  # type: ignore[arg-type]
    target.drives.list()  # the choosing
    consent = Consent(target.facts.labels[0] if target.facts.labels else "", target.facts.identity, target.facts.node)
    wrote: int | None = None
    with contextlib.suppress(KyklonError), opened(Request(target, Purpose.WRITE, facts, consent)) as held:
        handle = held.handle_for(Purpose.WRITE, facts)
        if moment == "byte":
            do()
        handle.write_at(b"WRITTEN", 0)
        wrote = held.path.stat().st_ino
    assert victim.read_bytes().startswith(b"THEIRS")
    assert wrote not in theirs or deed == "nothing"
    if wrote is not None and judged is not None:
        assert wrote == judged
    if deed == "contents" and there == "full" and moment in ("after look 2", "byte"):
        assert wrote is None  # it was judged again before the first byte


def test_a_card_formatted_while_the_question_waits_must_be_named_anew(tmp_path: Path) -> None:
    path = tmp_path / "card.img"
    path.write_bytes(b"")
    target = looking.find(str(path), None)
    path.write_bytes(b"photos of somebody")
    with pytest.raises(Refused, match="type its name"):
        write(target, plain(tmp_path / "a.img"))
    assert path.read_bytes() == b"photos of somebody"


def test_nothing_is_left_of_a_file_that_was_made_and_not_written(tmp_path: Path) -> None:
    target = looking.find(str(tmp_path / "new.img"), None, MIB)
    with pytest.raises(Refused, match="not opened for this"), opened(Request(target, Purpose.WRITE)) as held:
        held.handle_for(Purpose.PREPARE)
    assert not (tmp_path / "new.img").exists()


def test_a_target_that_went_away_is_told(demo: Demo) -> None:
    target = demo.target()
    gone = Target(target.drives, replace(target.facts, name="gone"))
    with pytest.raises(TargetError, match="no longer connected"):
        write(gone, demo.image)


@pytest.mark.parametrize("number", [errno.ENOSPC, errno.EIO, errno.ENXIO])
def test_a_drive_pulled_out_is_gone_and_neither_full_nor_worn(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, number: int
) -> None:
    """A real stick in a virtual machine said 'No space left on device' when it was pulled: it has no size any more."""
    path = plain(tmp_path / "card.img")

    def fails(*_all: object) -> int:
        raise OSError(number, os.strerror(number))

    with open_path(path, write=True) as handle:
        monkeypatch.setattr(os, "pwrite", fails)
        monkeypatch.setattr(FileHandle, "_gone", lambda _handle: True)
        with pytest.raises(TargetLost, match="was disconnected at byte 4096"):
            handle.write_at(b"x", 4096)
        with pytest.raises(TargetLost):
            handle.read_at(100, 3 * MIB)
        monkeypatch.setattr(FileHandle, "_gone", lambda _handle: False)
        with pytest.raises(TargetError) as told:
            handle.write_at(b"x", 4096)
    assert (type(told.value) is TargetLost) == (number == errno.ENXIO)
