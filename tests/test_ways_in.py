"""What comes in: relative paths, links under the program's own names, pipes for files, two at one target."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from kyklon.base import durable, own_file, reading
from kyklon.base.errors import Cancelled, KyklonError, TargetError, WrongUse
from kyklon.base.progress import Progress, Watch
from kyklon.devices.linux.folder import Folder
from kyklon.model.build import edited
from kyklon.operations.card.sources import source
from kyklon.operations.library import carry
from kyklon.record import folder as store
from kyklon.record.answers import Answers
from kyklon.record.logbook import Logbook
from support import Demo, that_ends


def run(*words: str, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "kyklon", *words], capture_output=True, text=True, cwd=cwd, timeout=900, check=False
    )


@pytest.mark.long
def test_a_relative_build_folder_is_the_same_as_an_absolute_one(demo: Demo) -> None:
    there, name = demo.folder.parent, demo.folder.name
    done = run("transfer", name, "--to", f"{name}/stick", "--json", cwd=there)
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told["files"] > 100
    copied = [path for path in (demo.folder / "stick").rglob("*") if path.is_file()]
    assert len(copied) >= told["files"]
    again = run("transfer", ".", "--to", "stick", "--json", cwd=demo.folder)
    assert json.loads(again.stdout)["already_there"] == told["files"]
    undone = run("transfer", name, "--undo", cwd=there)
    assert undone.returncode == 0, undone.stderr
    for words in (
        ("check", name),
        ("bringup", name, "--card", "blank-card"),
        ("identify", name),
        ("fields", name),
        ("source", "inspect", f"{name}/attachments/quayside-4.2.img.xz"),
    ):
        near, far = run(*words, cwd=there), run(*(str(there / w) if name in w else w for w in words))
        assert (near.returncode, near.stdout) == (far.returncode, far.stdout), words


OWN = (
    "transfer.jsonl",
    "logbook.sqlite3",
    "logbook.sqlite3-wal",
    "sums.sqlite3",
    "titles.sqlite3",
    "transferred.json",
    "build.previous.json",
    ".build.json.lock",
    ".build.json.unfinished",
)


@pytest.mark.long(keep=2)
@pytest.mark.parametrize("name", OWN)
def test_nothing_is_written_through_a_link_under_a_name_of_ours(name: str, demo: Demo, tmp_path: Path) -> None:
    victim = tmp_path / "victim.txt"
    victim.write_text("mine\n")
    link = demo.folder / name
    link.unlink(missing_ok=True)
    link.symlink_to(victim)
    for words in (
        ("transfer", str(demo.folder), "--to", str(demo.folder / "stick")),
        ("identify", str(demo.folder)),
        ("set", str(demo.folder), "boot.country", "NL"),
        ("match", str(demo.folder)),
        ("transfer", str(demo.folder), "--undo"),
    ):
        done = run(*words)
        assert "Traceback" not in done.stderr
        assert victim.read_text() == "mine\n", words


@pytest.mark.parametrize("name", ["issued", "attachments"])
def test_a_folder_of_a_build_that_is_a_link_takes_nothing(name: str, demo: Demo, tmp_path: Path) -> None:
    elsewhere = tmp_path / "elsewhere"
    (demo.folder / name).rename(elsewhere)
    before = sorted(elsewhere.rglob("*"))
    (demo.folder / name).symlink_to(elsewhere)
    with pytest.raises(WrongUse, match="is a link to another folder"):
        durable.replace(demo.folder / name / "boot" / "kernel.line", b"x")
    assert sorted(elsewhere.rglob("*")) == before


def test_a_link_to_a_build_folder_is_a_build_folder(demo: Demo, tmp_path: Path) -> None:
    (tmp_path / "short").symlink_to(demo.folder)
    store.update(tmp_path / "short", lambda build: edited(build, "name", "by its ID"))
    assert demo.build.name == "by its ID"


def test_own_files_are_plain_files(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    for name, what in (("pipe", "not a plain file"), ("link", "a link")):
        if name == "link":
            (tmp_path / name).symlink_to(tmp_path / "gone")
        with that_ends(), pytest.raises(WrongUse, match=what):
            own_file.opened(tmp_path / name)
        with pytest.raises(WrongUse, match=what):
            own_file.database(tmp_path / name, 1)
    assert not (tmp_path / "gone").exists()
    with own_file.opened(tmp_path / "a.jsonl") as file:
        file.write("one\n")
    os.link(tmp_path / "a.jsonl", tmp_path / "kept")
    with own_file.opened(tmp_path / "a.jsonl", anew=True) as file:
        file.write("two\n")
    assert (tmp_path / "kept").read_text() == "one\n"  # somebody's copy of the old one
    Logbook(tmp_path).add(0, "Note")
    Answers(tmp_path).forget("x")
    assert sqlite3.connect(tmp_path / "logbook.sqlite3").execute("select count(*) from entry").fetchone() == (1,)


@pytest.mark.long
def test_a_pipe_is_no_file_and_nobody_waits_for_it(demo: Demo, tmp_path: Path) -> None:
    pipe = tmp_path / "pipe.img"
    os.mkfifo(pipe)
    folder = str(demo.folder)
    for words in (
        ("source", "inspect", str(pipe)),
        ("write", str(pipe), "blank-card", "--folder", folder, "--yes"),
        ("identify", folder, "--list", str(pipe), "--system", "alder-8"),
        ("edid", "read", str(pipe)),
        ("part", "learn", "display", str(pipe)),
        ("bringup", "log", folder, str(pipe)),
        ("keyboard", "matrix", str(pipe)),
        ("part", "import", str(pipe)),
        ("compare", str(pipe), folder),
        ("set", folder, "picture.identification", str(pipe)),
        ("check", folder),
    ):
        with that_ends():
            done = run(*words)
        assert "Traceback" not in done.stderr, done.stderr
        assert done.returncode in (1, 2, 3) or words[0] == "set", (words, done)
    with that_ends(), pytest.raises(KyklonError, match="a pipe"):
        source.inspect(pipe)
    with pytest.raises(KyklonError, match="a device"):
        reading.bytes_of(Path("/dev/zero"))


# --- two at one target ---------------------------------------------------------------------------------------------


def test_a_second_writer_to_one_file_is_refused(demo: Demo, tmp_path: Path) -> None:
    """A plain file as target: the second is told while the first writes, and the first one's bytes are whole."""
    target, told = tmp_path / "card.img", []
    target.write_bytes(bytes(128 << 20))
    started = threading.Event()

    def watch(_report: Progress) -> None:
        if not started.is_set():
            started.set()
            words = ("write", str(demo.image), str(target), "--folder", str(demo.folder), "--yes")
            told.append(run(*words, "--lose", target.name))
            told.append(run("prove", str(target), "--yes", "--lose", target.name, "--folder", str(demo.folder)))

    ended = demo.write(str(target), watch=Watch(watch), typed=demo_lose(demo, target))
    assert ended.bad is None
    assert [each.returncode for each in told] == [3, 3], told
    assert "another program" in told[0].stderr
    assert ended.report is not None
    assert ended.report.verified


def demo_lose(demo: Demo, target: Path) -> str:
    from kyklon.operations.card.drives import looking
    from kyklon.operations.card.drives.interlock import Purpose, Request, judge

    return judge(Request(looking.find(str(target), demo.folder), Purpose.WRITE).case).lose


def test_two_transfers_to_one_place_take_turns(demo: Demo) -> None:
    destination = Folder(demo.folder / "stick")
    with carry.only_one(destination):
        done = run("transfer", str(demo.folder), "--to", str(demo.folder / "stick"))
        assert done.returncode == 3
        assert "is copying to" in done.stderr
        told: list[BaseException] = []

        def second() -> None:
            try:
                with carry.only_one(destination):
                    pass
            except TargetError as bad:
                told.append(bad)

        thread = threading.Thread(target=second)
        thread.start()
        thread.join()
        assert len(told) == 1
    assert run("transfer", str(demo.folder), "--to", str(demo.folder / "stick")).returncode == 0


# --- what becomes of the output ------------------------------------------------------------------------------------

SHORT = (
    ("--help",),
    ("check", "--help"),
    ("part", "--help"),
    ("fields", "FOLDER"),
    ("check", "FOLDER", "--json"),
    ("part", "list"),
    ("timing", "dmt", "0x52"),
    ("no-such-command", "--json"),
)


@pytest.mark.long(keep=2)
@pytest.mark.parametrize("words", SHORT, ids=" ".join)
def test_a_reader_who_has_seen_enough_is_no_error_and_a_full_disk_is_one(words: tuple[str, ...], demo: Demo) -> None:
    command = [sys.executable, "-m", "kyklon", *(str(demo.folder) if word == "FOLDER" else word for word in words)]
    whole = subprocess.run(command, capture_output=True, text=True, timeout=900, check=False)
    assert "Traceback" not in whole.stderr
    with open("/dev/full", "w") as full:
        done = subprocess.run(command, stdout=full, stderr=subprocess.PIPE, text=True, timeout=900, check=False)
    assert done.returncode not in (0, 120)
    assert "Traceback" not in done.stderr
    assert "Exception ignored" not in done.stderr
    read, write = os.pipe()
    os.close(read)  # nobody reads
    done = subprocess.run(command, stdout=write, stderr=subprocess.PIPE, text=True, timeout=900, check=False)
    os.close(write)
    assert "Traceback" not in done.stderr
    assert "Exception ignored" not in done.stderr
    closed = ["sh", "-c", '"$@" >&-', "sh", *command]
    done = subprocess.run(closed, stderr=subprocess.PIPE, text=True, timeout=900, check=False)
    assert done.returncode != 0
    assert "Traceback" not in done.stderr


def test_ctrl_c_ends_every_command_with_one_line_and_130(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    """POSIX shells: 128 and the signal's number. A question that is answered with no is no interrupt."""
    from kyklon.commands import build, main, shared

    signal.signal(signal.SIGINT, signal.default_int_handler)  # ignored where a shell started it with &

    def in_the_middle(folder: Path) -> int:
        with shared.watching() as watch:
            os.kill(os.getpid(), signal.SIGINT)
            watch.check()
        return 0

    def said_no(folder: Path) -> int:
        raise Cancelled("Nothing was written.")

    for act, code, words in (
        (in_the_middle, 130, "kyklon: Cancelled.\n"),
        (said_no, 3, "kyklon: Nothing was written.\n"),
    ):
        monkeypatch.setattr(build, "open_build", act)
        assert main._run(["open", str(tmp_path)]) == code
        assert capsys.readouterr().err == words
    monkeypatch.setattr("kyklon.commands.line.read", lambda *_given: (_ for _ in ()).throw(KeyboardInterrupt))
    assert main._run(["open", str(tmp_path)]) == 130
    assert signal.getsignal(signal.SIGINT) is signal.default_int_handler
