"""Files put on ext volumes: e2fsck and debugfs (e2fsprogs) are the judges, whole and cut short at every write."""

from __future__ import annotations

import random
import shutil
from pathlib import Path

import pytest

from external.test_journals import FORMS as JOURNALS
from external.test_journals import Log
from external.test_roots_outside import FORMS, run, tree  # noqa: F401 - the fixture
from kyklon.base.errors import TargetError, TargetFull, ToolError, VerifyError
from kyklon.operations.card.drives import looking
from kyklon.operations.card.drives.ext_files import ExtFiles, NewFile
from kyklon.operations.card.drives.interlock import OpenTarget, Purpose, Request, opened

MIB = 1 << 20
START, SIZE = MIB, 40 * MIB
NEW = (
    NewFile("/deep/size-60", b"replaced\n" * 3, 0o600),
    NewFile("/deep/size-100000", random.Random(1).randbytes(150_000)),
    NewFile("/up", b"through a link\n"),
    NewFile("/etc/systemd/system/one.service", b"[Unit]\n"),
    NewFile("/etc/systemd/system/multi-user.target.wants/one.service", b"/etc/systemd/system/one.service", link=True),
    NewFile("/many/file-new", b"!" + bytes(9000)),  # zeros, where something else may have been
    NewFile("/deep/far", b"../" * 40 + b"etc/x", link=True),
)


def card(form: str, tree: Path, folder: Path) -> Path:
    """A card with one partition, every free block of which holds something old."""
    image = folder / "card.img"
    image.write_bytes(random.Random(2).randbytes(MIB) * ((START + SIZE) // MIB + 1))
    run("sfdisk", "--quiet", image, input=f"label: dos\nstart={START // 512}, size={SIZE // 512}, type=83\n".encode())
    run("mkfs.ext4", "-q", "-F", *FORMS[form], "-E", f"offset={START},nodiscard", "-d", tree, image, f"{SIZE // 1024}k")
    return image


def put(image: Path, files: tuple[NewFile, ...] = NEW, size: int = SIZE) -> tuple[str, ...]:
    with opened(Request(looking.find(str(image), None), Purpose.EDIT)) as place:
        return ExtFiles(place, START, size).replace(files)


def taken_out(image: Path, folder: Path, start: int = START) -> dict[str, bytes | str]:
    """Every file and link as debugfs takes it out."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    run("debugfs", "-R", f"rdump / {folder}", f"{image}?offset={start}")
    return {
        str(path.relative_to(folder)): str(path.readlink()) if path.is_symlink() else path.read_bytes()
        for path in folder.rglob("*")
        if path.is_symlink() or path.is_file()
    }


def after(before: dict[str, bytes | str], files: tuple[NewFile, ...] = NEW) -> dict[str, bytes | str]:
    """What must be there then."""
    found = dict(before)
    for file in files:
        path = file.path[1:] if file.path != "/up" else "deep/size-150"
        found[path] = file.data.decode() if file.link else file.data
    return found


def plain(found: dict[str, bytes | str], form: str) -> dict[str, bytes | str]:
    """debugfs gives out what lies in an inode with the zeros behind it."""
    if form != "inline":
        return found
    return {path: data if isinstance(data, str) else data.rstrip(b"\0") for path, data in found.items()}


@pytest.mark.parametrize("form", FORMS)
def test_on_every_form_of_a_volume(form: str, tree: Path, tmp_path: Path) -> None:
    image = card(form, tree, tmp_path)
    before = taken_out(image, tmp_path / "out")
    files = NEW
    if form == "inline":  # debugfs writes no holes there, which is told
        with pytest.raises(ToolError, match="file-new"):
            put(image)
        files = tuple(file for file in NEW if file.path != "/many/file-new")
    assert len(put(image, files)) == len(files)
    checked = run("e2fsck", "-fn", f"{image}?offset={START}", check=False)
    assert checked.returncode == 0, checked.stdout
    assert plain(taken_out(image, tmp_path / "out"), form) == plain(after(before, files), form)
    told = run("debugfs", "-R", "stat /deep/size-60", f"{image}?offset={START}").stdout.decode()
    assert "Mode:  0600" in told
    assert "Links: 1" in told
    assert put(image, files) == ()  # it is there already


class Cut:
    """A drive that keeps what was written since the last sync in any part and order, or none of it."""

    def __init__(self, target: OpenTarget) -> None:
        self._inner = target.handle_for(Purpose.EDIT)
        self.stages: list[list[tuple[int, bytes]]] = [[]]

    def write_at(self, data: bytes, offset: int) -> None:
        self.stages[-1].append((offset, bytes(data)))
        self._inner.write_at(data, offset)

    def sync(self) -> None:
        self.stages.append([])
        self._inner.sync()

    def __getattr__(self, name: str) -> object:
        return getattr(self._inner, name)


@pytest.mark.parametrize("form", ["4k", "1k", "ext3", "no journal"])
def test_cut_short_anywhere_it_is_the_old_or_the_new(form: str, tree: Path, tmp_path: Path) -> None:
    image = card(form, tree, tmp_path)
    old = tmp_path / "old.img"
    shutil.copy(image, old)
    before = taken_out(image, tmp_path / "out")
    with opened(Request(looking.find(str(image), None), Purpose.EDIT)) as place:
        files = ExtFiles(place, START, SIZE)
        files._handle = cut = Cut(place)  # type: ignore[assignment]
        files.replace(NEW)
    rng, wanted, seen = random.Random(3), after(before), set()
    for stage, writes in enumerate(cut.stages):
        for _ in range(4):
            torn = tmp_path / "torn.img"
            shutil.copy(old, torn)
            with torn.open("r+b") as file:
                kept = [each for whole in cut.stages[:stage] for each in whole]
                for offset, data in (*kept, *rng.sample(writes, rng.randint(0, len(writes)))):
                    file.seek(offset)
                    file.write(data)
            volume = tmp_path / "volume.img"
            volume.write_bytes(torn.read_bytes()[START : START + SIZE])
            repaired = run("e2fsck", "-fy", volume, check=False)  # with ?offset= it cannot replay a journal
            assert repaired.returncode in (0, 1), repaired.stdout
            found = taken_out(volume, tmp_path / "out", 0)
            if form == "no journal" and found not in (before, wanted):
                assert stage in (2, 3)  # nothing makes it one step there: e2fsck puts the volume right, not the files
                continue
            told = [[key for key in {*one, *found} if one.get(key) != found.get(key)] for one in (before, wanted)]
            assert found in (before, wanted), f"cut at stage {stage}: {told}"
            seen.add(found == wanted)
    assert seen == {False, True}


def test_what_cannot_be_written_is_told_and_left_as_it_is(tree: Path, tmp_path: Path) -> None:
    image = card("4k", tree, tmp_path)
    volume, whole = f"{image}?offset={START}", image.read_bytes()

    def refused(match: str, *files: NewFile, kind: type[Exception] = TargetError) -> None:
        now = image.read_bytes()
        with pytest.raises(kind, match=match):
            put(image, files or NEW)
        assert image.read_bytes() == now

    refused("only letters", NewFile("/etc/a b", b""))
    refused("only letters", NewFile('/etc/a"\nrm /deep', b""))
    refused("no plain file", NewFile("/deep", b""))
    refused("no folder", NewFile("/deep/size-60/x", b""))
    refused("bytes free", NewFile("/large", bytes(60 * MIB)), kind=TargetFull)
    run("debugfs", "-w", "-R", "ea_set /deep/size-59 user.mark x", volume)
    refused("attributes", NewFile("/deep/size-59", b"new"))
    run("debugfs", "-w", "-R", "symlink /nowhere /none/at/all", volume)
    refused("leads nowhere", NewFile("/nowhere", b"new"))
    run("debugfs", "-w", "-R", "set_inode_field /deep/size-1024 block[0] 1", volume)
    refused("has errors|whole")
    image.write_bytes(whole)
    run("debugfs", "-w", "-R", "clri /many", volume)
    refused("errors|cannot be reached")


@pytest.mark.parametrize("form", JOURNALS)
def test_a_volume_that_was_not_shut_down_is_replayed_first(form: str, tmp_path: Path) -> None:
    """As e2fsck replays it; what was deleted while it was open is put away as every start does."""
    log = Log(form, tmp_path)
    (tmp_path / "marked").write_bytes(bytes.fromhex("C03B3998") + b"begins as a journal does" * 400)
    two = run("debugfs", "-R", "stat /sbin/two", log.image).stdout.decode().split("Inode: ")[1].split()[0]
    log.step("unlink /sbin/two", f"sif <{two}> links_count 0", f"ssv last_orphan {two}")
    log.step("rm /sbin/one", f"write {tmp_path / 'marked'} sbin/marked")
    image, data = tmp_path / "card.img", log.image.read_bytes()
    image.write_bytes(bytes(START) + data)
    rows = f"label: dos\nstart={START // 512}, size={len(data) // 512}, type=83\n"
    run("sfdisk", "--quiet", image, input=rows.encode())
    theirs = log.replayed()
    run("e2fsck", "-fp", theirs, check=False)
    put(image, (NewFile("/etc/new", b"new\n"),), len(data))
    checked = run("e2fsck", "-fn", f"{image}?offset={START}", check=False)
    assert checked.returncode == 0, checked.stdout
    assert taken_out(image, tmp_path / "out") == {**taken_out(theirs, tmp_path / "theirs", 0), "etc/new": b"new\n"}


def test_a_drive_that_keeps_other_bytes_is_told(tree: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    image = card("4k", tree, tmp_path)
    with opened(Request(looking.find(str(image), None), Purpose.EDIT)) as place:
        files = ExtFiles(place, START, SIZE)
        handle = files._handle
        monkeypatch.setattr(handle, "write_at", lambda data, offset: None)
        with pytest.raises(VerifyError, match="reads back differently"):
            files.replace(NEW)


def test_every_complaint_counts_before_anything_is_mended(tree: Path, tmp_path: Path) -> None:
    """What a power cut leaves is mended; with one thing more, though e2fsck -p mends that too, nothing is."""
    image = card("4k", tree, tmp_path)
    volume = f"{image}?offset={START}"
    listed = run("debugfs", "-R", "ls -p /many", volume).stdout.decode().split("\n")
    numbers = sorted((int(row[1]), row[5]) for row in (line.split("/") for line in listed) if len(row) > 6)
    files = [(number, name) for number, name in numbers if name.startswith("file-")]
    counts = [f"sif <{number}> links_count 3" for number, _name in files[:8]]  # told in the order of the inodes
    run("debugfs", "-w", "-f", "-", volume, input="\n".join(counts).encode())
    hurt = image.read_bytes()
    assert put(image, NEW[:1])
    assert run("e2fsck", "-fn", volume, check=False).returncode == 0
    image.write_bytes(hurt)
    empty = next(name for _number, name in files[::-1] if not (tree / "many" / name).stat().st_size)
    run("debugfs", "-w", "-R", f"unlink /many/{empty}", volume)
    before = image.read_bytes()
    with pytest.raises(TargetError, match="has errors"):
        put(image, NEW[:1])
    assert image.read_bytes() == before
