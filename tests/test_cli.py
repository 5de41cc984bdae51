"""The chain by commands alone, in processes of their own: JSON, exit codes, and nothing else on standard output."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from kyklon import __version__
from kyklon.record import folder as store
from support import Demo


def kyklon(
    *arguments: str, code: int | None = 0, env: dict[str, str] | None = None
) -> subprocess.CompletedProcess[str]:
    run = subprocess.run(
        [sys.executable, "-m", "kyklon", *arguments], capture_output=True, text=True, env={**os.environ, **(env or {})}
    )
    assert code is None or run.returncode == code, f"{arguments}: {run.returncode}\n{run.stdout}\n{run.stderr}"
    assert "Traceback" not in run.stderr, run.stderr
    return run


def data(*arguments: str, code: int = 0) -> Any:
    """The one JSON document a command prints."""
    return json.loads(kyklon(*arguments, "--json", code=code).stdout)


@pytest.mark.long
def test_the_whole_chain_by_commands(demo: Demo) -> None:
    folder, image = str(demo.folder), str(demo.image)
    found = data("check", folder, code=1)["findings"]
    keys = {"code", "severity", "operation", "subject", "message", "why", "source", "remedy"}
    assert all(set(row) == keys for row in found)
    stops = [row["code"] for row in found if row["severity"] == "stop"]
    assert len(stops) == 4

    for name in ("system-disk", "photo-stick", "locked-card", "small-card"):
        before = demo.drive(name).read_bytes() if demo.drive(name).exists() else None
        refused = kyklon("write", image, name, "--folder", folder, "--yes", code=3)
        assert refused.stdout == ""
        assert (demo.drive(name).read_bytes() if demo.drive(name).exists() else None) == before
    report = data("write", image, "blank-card", "--folder", folder, "--yes")
    assert {"bytes", "seconds", "sha256", "verified"} <= set(report)
    assert report["verified"]
    assert demo.build.card.state == "written and read back"

    first = data("bringup", folder, "--card", "blank-card", code=1)
    assert set(first) >= {"reached", "events", "failure", "screen"}
    assert set(first["events"][0]) == {"at_s", "stage", "text", "lamp"}
    assert first["failure"]["code"] == "boot.kernel-set"
    assert "merrow-armv7.krn" in first["failure"]["remedy"]

    for code in stops:
        kyklon("remedy", folder, code)
    assert not [row for row in data("check", folder)["findings"] if row["severity"] == "stop"]

    dry = kyklon("apply", folder, "--card", "blank-card", "--dry-run").stdout
    assert "+kernel.file = merrow-armv7.krn" in dry
    assert kyklon("apply", folder, "--card", "blank-card").stdout == dry
    assert "already" in kyklon("apply", folder, "--card", "blank-card").stdout
    moved = data("transfer", folder, "--to", str(demo.folder / "stick"))
    second = data("bringup", folder, "--card", str(demo.drive("blank-card")))
    assert second["failure"] is None
    assert second["reached"] == "front end"
    assert sum(map(len, second["games"].values())) == moved["games"]


def test_the_stick_with_photos_goes_only_when_it_is_named(demo: Demo) -> None:
    image = str(demo.image)
    kyklon("write", image, "photo-stick", "--folder", str(demo.folder), "--lose", "holiday 24", "--yes", code=3)
    assert data("write", image, "photo-stick", "--folder", str(demo.folder), "--lose", "HOLIDAY 24")["verified"]


def test_drives_and_their_verdicts(demo: Demo) -> None:
    rows = {row["name"]: row for row in data("drives", str(demo.folder))["drives"]}
    assert rows["blank-card"]["allowed"]
    assert not rows["system-disk"]["allowed"]
    assert rows["photo-stick"]["lose"] == "HOLIDAY 24"
    assert "free to write" in kyklon("drives", str(demo.folder)).stdout


def test_writing_to_a_file(demo: Demo, tmp_path: Path) -> None:
    target = tmp_path / "out.img"
    wrong = kyklon("write", str(demo.image), str(target), "--yes", "--sha256", "0" * 64, code=3)
    assert "SHA-256" in wrong.stderr
    target.unlink()
    assert data("write", str(demo.image), str(target), "--yes", "--sha256", demo.build.source.sha256)["verified"]
    assert target.stat().st_size == 88_080_384
    photos = tmp_path / "photos.zip"
    photos.write_bytes(b"PK" + bytes(100_000_000))
    kyklon("write", str(demo.image), str(photos), "--yes", code=3)
    assert photos.read_bytes()[:2] == b"PK"


def test_scanning(demo: Demo) -> None:
    found = data("scan", str(demo.folder), code=1)
    assert found["ready"] == sum(game["ready"] for game in found["games"])
    other = data(
        "scan", str(demo.folder), "--library", str(demo.folder / "library" / "elm"), code=1
    )  # no system file there
    assert other["ready"] == 0
    kyklon("scan", str(demo.folder), "--library", "/no/such/folder", code=3)


def test_issued_files(demo: Demo, tmp_path: Path) -> None:
    kyklon("issue", str(demo.folder), "--to", str(tmp_path / "out"))
    there = {path.relative_to(tmp_path / "out").as_posix() for path in (tmp_path / "out").rglob("*") if path.is_file()}
    assert there >= {
        "boot/merrow.settings",
        "boot/kernel.line",
        "boot/services.list",
        "boot/first-boot.settings",
        "controls/sdl-mapping.txt",
        "controls/70-kyklon-controls.rules",
        "controls/wiring.csv",
        "picture/modelines.conf",
        "picture/display.edid",
        "plan/parts.csv",
        "settings/birch-16.conf",
        "settings/cedar-disc.ini",
    }


def test_timings(tmp_path: Path) -> None:
    found = data("timing", "cta", "1")
    assert found["clock_hz"] == 25_175_000
    assert found["horizontal"] == {"active": 640, "front": 16, "sync": 96, "back": 48, "positive": False}
    assert set(found) == {"clock_hz", "horizontal", "vertical", "interlaced", "horizontal_hz", "vertical_hz"}
    assert data("timing", "dmt", "12h") == data("timing", "dmt", "18") == data("timing", "dmt", "0x12")
    assert data("timing", "cvt", "1920", "1080", "60", "--blanking", "reduced1")["clock_hz"] == 138_500_000
    assert data("timing", "cvt", "1024", "768", "60", "--interlaced")["interlaced"]
    assert data("timing", "gtf", "640", "480", "60")["clock_hz"] == 23_856_000
    for wrong in (
        ["dmt", "999"],
        ["cta", "x"],
        ["cvt", "1", "1", "1"],
        ["cvt", "640", "480", "60", "--blanking", "odd"],
    ):
        kyklon("timing", *wrong, code=2)
    out = tmp_path / "a.edid"
    kyklon("edid", "write", "--timing", "cta 8", "--timing", "cvt 1440 288 50", "--out", str(out), "--name", "Mine")
    told = data("edid", "read", str(out))
    assert told["name"] == "Mine"
    assert told["timings"][0]["clock_hz"] == 27_000_000
    out.write_bytes(out.read_bytes()[:100])
    assert "128 bytes" in kyklon("edid", "read", str(out), code=3).stderr
    kyklon("edid", "write", "--timing", "nonsense", "--out", str(out), code=2)


@pytest.mark.parametrize(
    ("arguments", "code"),
    [
        (["check", "/no/such/build"], 3),
        (["nonsense"], 2),
        (["check"], 2),
        (["remedy", "DEMO", "no.such.finding"], 2),
        (["remedy", "DEMO", "library.damaged"], 2),
        (["bringup", "DEMO", "--card", "blank-card"], 2),
        (["apply", "DEMO", "--card", "/no/such/card"], 2),
        (["write", "/no/such/image.img", "blank-card", "--yes"], 3),
        (["transfer", "DEMO", "--to", "/proc/nowhere"], 3),
        (["demo", "--folder", "HOME", "--no-window"], 3),
    ],
)
def test_wrong_use_and_failure_have_their_exit_codes(
    arguments: list[str], code: int, demo: Demo, tmp_path: Path
) -> None:
    home = tmp_path / "home"
    home.mkdir()
    (home / "letter.txt").write_text("mine", encoding="utf-8")
    places = {"DEMO": str(demo.folder), "HOME": str(home)}
    run = kyklon(*[places.get(argument, argument) for argument in arguments], code=code)
    assert run.stdout == "" or code == 2
    assert run.stderr.strip()
    assert (home / "letter.txt").exists()


def test_a_build_from_the_future_is_refused(demo: Demo) -> None:
    path = demo.folder / store.CURRENT
    path.write_text(
        path.read_text(encoding="utf-8").replace(f'"version": {store.VERSION}', f'"version": {store.VERSION + 1}'),
        encoding="utf-8",
    )
    assert "newer Kyklon" in kyklon("check", str(demo.folder), code=3).stderr


@pytest.mark.long
def test_the_demo_is_made_where_it_is_asked_for(tmp_path: Path) -> None:
    run = kyklon("demo", "--folder", str(tmp_path / "d"), "--no-window")
    assert run.stdout.strip() == str(tmp_path / "d")
    assert store.load(tmp_path / "d").build.name == "Lighthouse Café table"
    (tmp_path / "d" / "stick" / "mine").write_text("x", encoding="utf-8")
    kyklon("demo", "--folder", str(tmp_path / "d"), "--no-window")
    assert not (tmp_path / "d" / "stick" / "mine").exists()


def test_looking_into_an_image_and_asking_the_interlock(demo: Demo) -> None:
    told = data("source", "inspect", str(demo.image))
    assert (told["kind"], told["unpacked"], told["exact"]) == ("xz", 88_080_384, True)
    assert [part["type"] for part in told["partitions"]] == ["FAT32", "Linux"]
    assert {kernel["instruction_set"] for kernel in told["kernels"]} == {"ARMv6", "ARMv7", "ARMv8"}
    assert "kernel merrow-armv7.krn for ARMv7" in kyklon("source", "inspect", str(demo.image)).stdout
    for name, code, lose in (("blank-card", 0, None), ("photo-stick", 0, "HOLIDAY 24"), ("system-disk", 1, None)):
        verdict = data("interlock", str(demo.image), name, "--folder", str(demo.folder), code=code)
        assert verdict["allowed"] == (code == 0)
        if code == 0:
            assert verdict["lose"] == lose


@pytest.mark.long
def test_controls_by_commands(demo: Demo, tmp_path: Path) -> None:
    folder = str(demo.folder)
    shown = data("controls", "show", folder, "--system", "birch-16")
    assert len(shown["switches"]) == 24
    assert next(row for row in shown["switches"] if row["switch"] == "p2.b2")["inputs"] == ["Hop"]
    wired = data("controls", "wire", folder, "--add", "tackle-12")
    assert wired["wired"] == 24
    assert wired["mixed"]
    found = data("controls", "prove", folder, "--faults", "2", "--seed", "5", code=1)
    assert found["clear"]
    assert len(found["faults"]) == 2
    assert demo.build.controls.proof.faults == tuple(row["title"] for row in found["faults"])
    assert "controls.proof" in {row["code"] for row in data("check", folder, code=1)["findings"]}
    assert data("controls", "prove", folder)["right"]
    before = data("controls", "map", folder)["total"]
    solved = data("controls", "map", folder, "--solve")
    assert solved["bound"] <= solved["total"] <= before
    held = data("controls", "map", folder, "--solve", "--hold", "birch-16:act=b6")
    assert {row["input"]: row["place"] for row in held["systems"]["birch-16"]}["act"] == "b6"
    assert held["total"] > solved["total"]
    assert "No seat has a button" in kyklon("controls", "map", folder, "--hold", "birch-16:act=b9", code=2).stderr
    files = data("controls", "export", folder, "--into", str(tmp_path / "out"))["files"]
    assert all(Path(file).stat().st_size for file in files)
    told = data("pins", folder, "--add", "stick-bank", "--add", "bus-sound", "--write")
    assert len(told["pins"]) == 9
    assert demo.build.boot.overlays == tuple(told["words"])
    assert "pin 23" in data("pins", folder, "--add", "marquee-panel", code=1)["conflict"]["reason"]


def test_a_ribbon_by_commands(tmp_path: Path) -> None:
    readings = tmp_path / "ribbon.txt"
    readings.write_text("a, 1, 2\nb 1 3\nc\t4\t2  # twice\nd,4,3\n", encoding="utf-8")
    found = data("keyboard", "matrix", str(readings))
    assert (found["rows"], found["columns"]) == ([1, 4], [2, 3])
    readings.write_text("a 1 2\nb 2 3\nc 3 1\n", encoding="utf-8")
    assert data("keyboard", "matrix", str(readings), code=1)["doubtful"]
    for text in ("", "a 1\n", "a one two\n", "a 0 2\n", "-- 1 2\n", "\x00"):
        readings.write_text(text, encoding="utf-8")
        assert "Write key, pin, pin" in kyklon("keyboard", "matrix", str(readings), code=3).stderr


@pytest.mark.parametrize(
    ("words", "code"),
    [(["prove", "none.img"], 3), (["part", "learn", "display", "-"], 2), (["edid", "check", "-"], None)],
)
def test_standard_input_that_is_closed_is_no_bug(words: list[str], code: int | None, tmp_path: Path) -> None:
    """As a job of cron, or `<&-` in a shell, starts a program."""
    line = f"exec {sys.executable} -m kyklon {' '.join(words)} <&-"
    done = subprocess.run(["sh", "-c", line], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert "bug in Kyklon" not in done.stderr, done.stderr
    assert done.returncode != 0
    assert code is None or done.returncode == code


def test_the_version_is_printed() -> None:
    """GNU Coding Standards 4.8.1: --version prints the program's name and version and ends with 0."""
    for word in ("--version", "-V"):
        assert kyklon(word).stdout == f"kyklon {__version__}\n"
