"""Rehearsals with a real boot loader (U-Boot), a real kernel (Linux, user mode) and real cards: nothing is written to a
card, nothing is left running, and what was foretold is what is seen."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import secrets
import subprocess
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from failure_modes import MODES, made, swapped
from judges import cards, kernel, loader, logs
from kyklon.base import cell, tools
from kyklon.base.cell import Cell, why_none
from kyklon.base.errors import Cancelled, TargetError, ToolError, WrongUse
from kyklon.base.progress import CancelToken, Progress, Watch
from kyklon.base.running import Talk, run_watched
from kyklon.operations.card.observe import started_by
from kyklon.operations.card.volumes import contents
from kyklon.operations.poweron import rehearsal
from kyklon.operations.poweron.bench import Bench, lay_out
from kyklon.operations.poweron.bringup import bring_up
from kyklon.operations.poweron.rehearsal import Rehearsal, Terms, rehearse, translated, ways_for, why_not
from kyklon.operations.poweron.side_by_side import lay, of_forecast, of_rehearsal, verdict
from test_failures import LABELS, catalogue, good, good_build, world_of  # noqa: F401 # a fixture

real_kernel = pytest.mark.skipif(not kernel.available(), reason="no kernel: user-mode-linux and busybox-static")
real_loader = pytest.mark.skipif(not loader.available(), reason="no boot loader: qemu-system-arm and u-boot-qemu")


@pytest.fixture(autouse=True)
def _marked(monkeypatch: pytest.MonkeyPatch) -> None:
    """What this test starts bears its mark in its environment."""
    monkeypatch.setenv("KYKLON_TEST_MARK", secrets.token_hex(8))


def running() -> set[str]:
    """Programs that this test has started and that still run, but for the test itself."""
    mark, found = f"KYKLON_TEST_MARK={os.environ['KYKLON_TEST_MARK']}".encode(), set()
    for place in Path("/proc").iterdir():
        with contextlib.suppress(OSError):
            if place.name.isdigit() and mark in (place / "environ").read_bytes():
                stat = (place / "stat").read_text()
                found |= {stat} if stat.rpartition(")")[2].split()[0] not in "ZX" else set()
    return found


def bench_of(card: Path, way: str, folder: Path) -> Bench:
    build = good_build(way)
    world = world_of(build, folder)
    return lay_out(build, catalogue(), contents.observe(card, started_by(build, catalogue())), world)


def tried(card: Path, way: str, folder: Path, terms: Terms | None = None) -> tuple[Rehearsal, str]:
    """A rehearsal that must leave the card and this computer as they were; and what it comes to beside the forecast."""
    before = hashlib.sha256(card.read_bytes()).digest()
    bench = bench_of(card, way, folder)
    done = rehearse(bench, card, terms)
    assert hashlib.sha256(card.read_bytes()).digest() == before
    assert not running()
    left, right = of_forecast(bring_up(bench), "", tried=done.tried), of_rehearsal(done, "")
    found = verdict(left, right, lay(left, right))
    assert found.agree or found.why
    return done, f"{found.agree}: {found.text}"


@real_kernel
def test_the_demos_card_comes_to_its_menu_on_the_desk(good: dict[str, Path], tmp_path: Path) -> None:
    card = cards.copied(good["merrow"], tmp_path / "a card, with a comma.img")
    done, said = tried(card, "merrow", good["folder"])
    assert said.startswith("True: Both come to the menu")
    assert [phase.way for phase in done.phases] == ["root"]
    assert done.reading.times
    assert any("display" in words.lower() for words in done.unseen)
    assert "ubd0=" not in done.said


@pytest.mark.long
@real_loader
@real_kernel
def test_a_card_by_labels_goes_through_the_loader_first(good: dict[str, Path], tmp_path: Path) -> None:
    card = cards.copied(good[LABELS], tmp_path / "card.img")
    done, said = tried(card, LABELS, good["folder"])
    assert [phase.way for phase in done.phases] == ["loader", "root"]
    assert said == "True: Both come to the menu."
    cards.put_fat(card, "extlinux/extlinux.conf", b"LABEL up\n  LINUX /none\n  APPEND root=/dev/mmcblk0p2\n")
    done, said = tried(card, LABELS, good["folder"])
    assert said == "True: Both stop at kernel."
    assert [phase.way for phase in done.phases] == ["loader"]


FORETOLD = (
    "a partition that is not there",
    "no root",
    "an older kind named",
    "a wrong mark",
    "no init",
    "init named that is not there",
    "a user who is not there",
    "the front end not in the list",
    "a front end that is not executable",
)


@pytest.mark.long(keep=2)
@real_kernel
@pytest.mark.parametrize("name", FORETOLD)
def test_what_is_foretold_is_what_is_rehearsed(name: str, good: dict[str, Path], tmp_path: Path) -> None:
    mode = next(each for each in MODES if each.name == name)
    card = cards.copied(good["merrow"], tmp_path / "card.img")
    mode.card(card)
    done, said = tried(card, "merrow", good["folder"])
    assert said.startswith(f"True: Both stop at {mode.stage}"), (said, done.said[-600:])


# what an init tries that wants out: this computer's files by every road, its processes, its network, its devices
ESCAPES = """
T={tmp}; mount -o remount,rw /
for where in "$T" "../../../..$T" ../../../../../.. / . .. /proc/self/root /proc/1/root "/own/../..$T" /given/..; do
  mount -t hostfs -o "$where" none /tmp || continue
  echo "mounted: $where"
  for file in /tmp/secret "/tmp$T/secret" /tmp/etc/passwd /tmp/etc/hostname; do cat "$file"; echo bad >> "$file"; done
  ln -s "$T" /tmp/link; cat /tmp/link/secret; echo bad >> /tmp/link/secret
  ln -s / /tmp/top; cat "/tmp/top$T/secret"; echo bad >> "/tmp/top$T/secret"
  mknod /tmp/disk b 254 0 && dd if=/tmp/disk bs=512 count=1 | sed 's/^/disk: /'
  ls /tmp /tmp/home /tmp/proc /tmp/tmp /tmp/sys /tmp/root | sed 's/^/seen: /'
  umount /tmp
done
for disk in /dev/ubdb /dev/ubdc; do [ -b $disk ] && dd if=$disk bs=16 count=1; done
mount -t proc none /tmp && sed 's/^/net: /' /tmp/net/dev; umount /tmp
echo "start: nothing more to start"
exec sh
"""


@pytest.mark.long(keep=1)
@real_kernel
@pytest.mark.parametrize("way", ["line", "init"])
def test_what_is_on_a_card_sees_nothing_of_this_computer(
    way: str,
    good: dict[str, Path],
    tmp_path: Path,
) -> None:
    """A card whose kernel line and init ask for this computer's files by relative paths, links, devices and sockets."""
    card, secret = cards.copied(good["merrow"], tmp_path / "card.img"), tmp_path / "secret"
    secret.write_text("not for you")
    if way == "line":
        asks = f"hostfs=/ ubd1={secret} con1=fd:1 con2=port:4321 eth0=tuntap,,,1.2.3.4 mem=9999M root="
        swapped("kernel.line", "root=", asks)(card)
    made("/sbin/init", f"#!/bin/sh\nPATH=/bin{ESCAPES.replace('{tmp}', str(tmp_path))}".encode())(card)
    before = sorted(tmp_path.iterdir())
    done, _said = tried(card, "merrow", good["folder"])
    assert "nothing more to start" in done.said, done.said[-2000:]
    assert "mounted: .." in done.said
    told = done.said.partition("as init process")[2]
    assert "not for you" not in told
    assert "root:x:" not in told
    seen = set(re.findall(r"^seen: ([^\s:]+)$", told, re.MULTILINE))
    assert "given" in seen  # it did look round
    assert not seen & {"etc", "home", "proc", "root", "sys", "var", "boot", "tmp", "passwd", "pytest-of-root"}, seen
    assert not re.search("^disk: ", told, re.MULTILINE)
    assert set(re.findall(r"^net: +(\w+):", told, re.MULTILINE)) <= {"lo"}
    assert secret.read_text() == "not for you"
    assert sorted(tmp_path.iterdir()) == before


def test_a_program_in_a_cell_sees_itself_and_what_it_was_given(tmp_path: Path) -> None:
    """busybox looks round: files, processes, network, users and devices."""
    if why := why_none():
        pytest.skip(why)
    (tmp_path / "given").write_text("this one")
    (tmp_path / "other").write_text("not this one")
    asked = (
        "ls /; cat /given/one; echo x > /given/one; ls /proc; cat /sys/class/net/*/address; ls /home /root /etc /tmp; "
        f"cat {tmp_path}/other; cat /proc/1/environ; kill -0 {os.getpid()} && echo reached; mount -t tmpfs none /mnt; "
        "mknod /own/sda b 8 0; nc -w 1 127.0.0.1 22 && echo reached; id -u; echo $HOME $KYKLON_TEST_MARK; echo done"
    )
    asked = re.sub(r"(?<![\w/])(ls|cat|mount|mknod|nc|id) ", rf"{tools.find('busybox')} \1 ", asked)
    shut = Cell({"/given/one": tmp_path / "given"}).around(["busybox", "sh", "-c", asked])
    ran = run_watched(shut, tmp_path, seconds=60, title="t", talk=Talk(lambda _said, _quiet: False))
    told = ran.said.decode()
    assert told.rstrip().endswith("done")
    assert "this one" in told
    assert "not this one" not in told
    assert "reached" not in told
    assert os.environ["KYKLON_TEST_MARK"] not in told
    top = set(told.partition("this one")[0].split())
    assert top <= {"dev", "given", "usr", "own", "lib", "lib64", "bin"}, top
    assert (tmp_path / "given").read_text() == "this one"
    assert not running()


def test_without_a_cell_nothing_is_rehearsed(
    good: dict[str, Path],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """A kernel without user namespaces, or no bubblewrap: refused with the reason, whatever the way."""
    monkeypatch.setattr(cell, "why_none", lambda: "No program can be shut away on this computer (no namespaces).")
    monkeypatch.setattr(rehearsal, "why_none", cell.why_none)
    bench = bench_of(good["merrow"], "merrow", good["folder"])
    assert ways_for(bench) == ()
    with pytest.raises(WrongUse, match="shut away"):
        rehearse(bench, good["merrow"])
    with pytest.raises(ToolError, match="shut away"):
        Cell().around(["true"])


@real_kernel
def test_a_start_that_hangs_ends_at_its_limit(good: dict[str, Path], tmp_path: Path) -> None:
    card = cards.copied(good["merrow"], tmp_path / "card.img")
    done, _said = tried(card, "merrow", good["folder"], Terms(limit_s=0.5))
    assert done.at_limit
    assert "time limit" in done.verdict


@real_kernel
def test_cancel_ends_it_at_once(
    good: dict[str, Path],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    card, token, told = cards.copied(good["merrow"], tmp_path / "card.img"), CancelToken(), []

    def sink(report: Progress) -> None:
        told.append(report)
        if report.phase == "Root":
            token.cancel()

    with pytest.raises(Cancelled):
        rehearse(bench_of(card, "merrow", good["folder"]), card, Terms(), Watch(sink, token))
    assert not running()
    assert told[-1].seconds_left is not None
    assert not list(tmp_path.glob("kyklon-*"))


def test_programs_that_are_missing_are_said_with_their_package(
    good: dict[str, Path],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(tools, "_SYSTEM_FOLDERS", ())
    card = cards.copied(good["merrow"], tmp_path / "card.img")
    bench = bench_of(card, "merrow", good["folder"])
    monkeypatch.setenv("PATH", str(tmp_path))
    with pytest.raises(ToolError, match="user-mode-linux"):
        rehearse(bench, card)
    with pytest.raises(ToolError, match="qemu-system-arm"):
        rehearse(bench, card, Terms(("kernel",)))


@real_kernel
def test_programs_that_are_not_one_shell_by_other_names_are_no_twin(
    good: dict[str, Path],
    tmp_path: Path,
) -> None:
    """A shell of the same bytes elsewhere: replacing /bin/busybox would start nothing, and blame the card."""
    card = cards.copied(good["merrow"], tmp_path / "card.img")
    cards.debugfs(
        card,
        "ln /bin/busybox /bin/other",
        "unlink /bin/busybox",
        "rm /bin/sh",
        "ln /bin/other /bin/sh",
        *(f"rm /bin/{name}" for name in ("mount", "sed", "tr", "tail", "ls", "grep", "su")),
    )
    with pytest.raises(ToolError, match="not /bin/busybox under other names"):
        rehearse(bench_of(card, "merrow", good["folder"]), card)


@real_kernel
def test_a_card_that_is_gone_is_said_in_words(good: dict[str, Path], tmp_path: Path) -> None:
    bench = bench_of(good["merrow"], "merrow", good["folder"])
    with pytest.raises(TargetError, match="cannot be rehearsed"):
        rehearse(bench, tmp_path / "pulled.img")


def test_ways_that_do_not_fit_are_refused_with_the_reason(good: dict[str, Path]) -> None:
    bench = bench_of(good["merrow"], "merrow", good["folder"])
    assert ways_for(bench) == ("root",)
    assert "firmware of its own" in why_not(bench, "loader")
    with pytest.raises(WrongUse, match="firmware of its own"):
        rehearse(bench, good["merrow"], Terms(("loader",)))
    none = replace(bench, contents=replace(bench.contents, kernels=()))
    assert "not on the card" in why_not(none, "kernel")


@real_loader
def test_the_cards_own_kernel_is_started_in_a_virtual_board(good: dict[str, Path], tmp_path: Path) -> None:
    """The demo's kernels are stand-ins: nothing is said, and it ends at its limit without a claim."""
    done, said = tried(
        cards.copied(good["merrow"], tmp_path / "card.img"), "merrow", good["folder"], Terms(("kernel",), 3.0)
    )
    assert done.at_limit
    assert done.reading.quiet
    assert said.startswith("False")


def test_lines_are_translated_for_other_names_of_the_card() -> None:
    line = "console=tty1 root=/dev/mmcblk0p2 rootwait"
    assert translated(line, "ubda").split() == ["root=/dev/ubda2", "rootwait"]
    assert translated("root=179:2", "vda").strip() == "root=254:2"
    assert translated("root=b302", "ubda").strip() == "root=6202"
    assert translated("root=PARTUUID=4b594b31-02", "ubda").strip() == "root=PARTUUID=4b594b31-02"


# --- programs that run on -------------------------------------------------------------------------------------------


def test_nothing_that_a_program_started_outlives_it(tmp_path: Path) -> None:
    ran = run_watched(
        ["sh", "-c", "sleep 321 & sleep 322 & echo begun; sleep 323"],
        tmp_path,
        seconds=20,
        title="t",
        talk=Talk(lambda said, _quiet: b"begun" in said),
    )
    assert (ran.ended, ran.said) == ("mark", b"begun\n")
    assert not running()


def test_a_program_that_floods_is_ended_and_one_is_answered(tmp_path: Path) -> None:
    ran = run_watched(["yes", "x" * 1000], tmp_path, seconds=30, title="t", talk=Talk(lambda _said, _quiet: False))
    assert ran.ended == "flood"
    talk = Talk(lambda _said, _quiet: False, lambda said: b"Pip\n" if said.endswith(b"name?\n") else b"")
    ran = run_watched(
        ["sh", "-c", "echo name?; read name; echo hello $name"], tmp_path, seconds=20, title="t", talk=talk
    )
    assert ran.said == b"name?\nhello Pip\n"
    assert ran.ended == "itself"
    with pytest.raises(ToolError, match="missing"):
        run_watched(["no-such-program"], tmp_path, seconds=1, title="t", talk=Talk(lambda _said, _quiet: False))


def test_it_ends_with_this_program_however_that_ends(tmp_path: Path) -> None:
    """A helper that runs one is killed outright."""
    code = (
        "import sys\nfrom pathlib import Path\nfrom kyklon.base.running import Talk, run_watched\n"
        "run_watched(['sh', '-c', 'echo begun >&2; sleep 654'], Path('.'), seconds=60, title='t',"
        " talk=Talk(lambda said, quiet: (print(said.decode(), flush=True), False)[1]))"
    )
    helper = subprocess.Popen([os.sys.executable, "-c", code], cwd=tmp_path, stdout=subprocess.PIPE, text=True)
    assert helper.stdout is not None
    while "begun" not in helper.stdout.readline():
        pass
    helper.kill()
    helper.wait()
    helper.stdout.close()
    until = time.monotonic() + 300  # what is left of it may take a moment to go
    while running() and time.monotonic() < until:
        time.sleep(0.05)
    assert not running()


# --- logs of real starts --------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return cards.whole_card(tmp_path_factory.mktemp("whole") / "card")


def read_rightly(
    make: Callable[..., logs.Truth], stage_of: Callable[..., str], whole: Path, to: Path, seed: int
) -> bool:
    truth = make(whole, to, seed)
    reading = logs.read(logs.mangled(truth.text, seed))
    return stage_of(reading) == truth.stage and (not truth.code or logs.same_cause(reading, truth.code))


@pytest.mark.long
@real_kernel
@real_loader
def test_logs_of_real_starts_are_read_rightly(whole: Path, tmp_path: Path) -> None:
    """Sixteen here; benchmarks/logs.py reads two hundred."""
    right = 0
    for seed in range(200, 208):
        for make, stage_of in ((logs.of_kernel, logs.kernel_stage), (logs.of_loader, logs.loader_stage)):
            # a busy machine cuts a start short: one that was not read rightly is started once more
            right += any(read_rightly(make, stage_of, whole, tmp_path / "card.img", seed) for _start in range(2))
    assert right >= 15
