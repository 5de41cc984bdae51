"""Kyklon on a desktop: what it lacks, what it puts there and takes away, and files that a desktop hands to it."""

from __future__ import annotations

import ast
import json
import os
import random
from pathlib import Path

import pytest

from kyklon.base import program_log, tools
from kyklon.base.errors import KyklonError
from kyklon.base.packages import _FAMILIES, Family, family_of, install_line, packages_for
from kyklon.commands.listing import COMMANDS
from kyklon.commands.main import _run as main
from kyklon.commands.manual import described, page_name
from kyklon.desktop import doctor, files, installing

SOURCE = Path(doctor.__file__).parents[1]
OWN = {"cp", "xdg-open"}  # in every system that has coreutils, and never needed


def programs_in_use() -> set[str]:
    """First words of what is handed to tools.run and tools.find in the whole tree, read from its syntax."""
    found = set()
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.args:
                owner, first = node.func.value, node.args[0]
                if isinstance(owner, ast.Name) and owner.id == "tools" and node.func.attr in ("run", "find"):
                    word = first.elts[0] if isinstance(first, ast.List) and first.elts else first
                    if isinstance(word, ast.Constant) and isinstance(word.value, str):
                        found.add(word.value)
    return found


def test_every_program_in_use_has_a_package_and_the_doctor_knows_its_package() -> None:
    used = programs_in_use() - OWN
    assert len(used) > 10
    debian = _FAMILIES["debian"]
    looked_for = {name for program, _purpose, _without in doctor._PROGRAMS for name in packages_for([program], debian)}
    for program in used:
        assert packages_for([program], debian), program
        if program not in ("umount", "ldd"):  # in every system that starts
            assert set(packages_for([program], debian)) <= looked_for, program


@pytest.mark.parametrize(
    ("own", "like", "line"),
    [
        ("debian", "", "sudo apt install mtools fdisk"),
        ("ubuntu", "debian", "sudo apt install mtools fdisk"),
        ("fedora", "", "sudo dnf install mtools util-linux"),
        ("opensuse-leap", "suse opensuse", "sudo zypper install mtools util-linux"),
        ("arch", "", "sudo pacman -S --needed mtools util-linux"),
        ("alpine", "", "sudo apk add mtools sfdisk"),
    ],
)
def test_each_family_has_its_own_line(own: str, like: str, line: str) -> None:
    assert install_line("mcopy", "mdir", "sfdisk", found=family_of(own, like)) == line


def test_where_no_package_is_known_none_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    assert family_of("something-else") is None
    assert install_line("linux.uml", found=Family("arch", 2, "x")) == ""
    monkeypatch.setattr("kyklon.base.packages.family", lambda: None)
    with pytest.raises(KyklonError, match="Install nothing-like-it with your system's package manager"):
        tools.find("nothing-like-it")


def test_what_lacks_is_told_with_one_line_to_type(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    real, lost = tools.where, {"mcopy", "bwrap", "mkfs.exfat"}
    whole = doctor.examine()
    assert doctor.verdict(whole) != "missing", doctor.report(whole)
    monkeypatch.setattr(tools, "where", lambda name: None if name in lost else real(name))
    monkeypatch.setattr("kyklon.base.packages.family", lambda: _FAMILIES["debian"])
    monkeypatch.setattr(doctor, "family", lambda: _FAMILIES["debian"])
    assert main(["doctor", "--json"]) == 1
    told = json.loads(capsys.readouterr().out)
    assert {row["what"]: row["state"] for row in told["checks"] if row["what"] in lost} == {
        "mcopy": "missing",
        "bwrap": "limited",
        "mkfs.exfat": "limited",
    }
    assert told["type"][0].startswith("sudo apt install ")
    assert {"mtools", "bubblewrap", "exfatprogs"} <= set(told["type"][0].split())
    assert main(["doctor"]) == 1
    assert "MISSING  mcopy" in capsys.readouterr().out


def test_a_check_that_fails_ends_no_other(monkeypatch: pytest.MonkeyPatch) -> None:
    def broken() -> None:
        raise PermissionError("no")

    areas = (("System", doctor._system), ("Rights", broken), ("Places", doctor._places))
    monkeypatch.setattr(doctor, "_AREAS", areas)
    found = doctor.examine()
    assert [check.said for check in found if check.area == "Rights"] == ["It failed: PermissionError: no"]
    assert any(check.area == "Places" for check in found)


@pytest.mark.skipif(os.geteuid() == 0, reason="root may write everywhere")
def test_a_folder_that_cannot_be_written_is_missing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    tmp_path.chmod(0o500)
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    assert any(check.state == "missing" and check.area == "Places" for check in doctor.examine())


# --- put there, taken away ---------------------------------------------------------------------------------------


def snapshot(folder: Path) -> dict[str, bytes]:
    return {str(path.relative_to(folder)): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


def test_what_is_put_there_goes_again_and_nothing_else_does(tmp_path: Path) -> None:
    """Random files of others before, between and after; a newer version with other files; twice."""
    draw = random.Random(5)
    names = [f"{a}/{b}/{c}.x" for a in "pq" for b in "rs" for c in "tuvw"]
    for round_ in range(60):
        share = tmp_path / str(round_)
        others = {name: bytes([draw.randrange(256)]) for name in draw.sample(names, draw.randrange(5))}
        for name, data in others.items():
            (share / name).parent.mkdir(parents=True, exist_ok=True)
            (share / name).write_bytes(data)
        for _version in range(draw.randrange(1, 4)):
            offered = {Path(name): draw.randbytes(3) + b"ours" for name in draw.sample(names, 6)}
            done = installing.put(share, offered)
            now = snapshot(share)
            assert all(now[name] == data for name, data in others.items())
            for path in offered:
                if str(path) not in others:
                    assert now[str(path)] == offered[path]
            assert {path for path, _why in done.kept} == {share / name for name in others if Path(name) in offered}
        theirs = set(snapshot(share)) - set(others) - {str(installing.LIST)}
        changed = draw.choice(sorted(theirs)) if theirs and draw.random() < 0.5 else ""
        if changed:
            (share / changed).write_bytes(b"by hand")
            others[changed] = b"by hand"
        gone = installing.take_away(share)
        assert snapshot(share) == others
        assert [path for path, _why in gone.kept] == ([share / changed] if changed else [])
        kept = {parent for name in others for parent in (share / name).parents if parent.is_relative_to(share)}
        assert {path for path in share.rglob("*") if path.is_dir()} <= kept


def test_a_list_that_leads_elsewhere_removes_nothing(tmp_path: Path) -> None:
    """The list is a file that anybody may have written."""
    share, victim = tmp_path / "share", tmp_path / "mine"
    victim.write_bytes(b"mine")
    (share / "kyklon").mkdir(parents=True)
    digest = "6cdf1e2ec0ab83fd4c5ddd7a8dff8f4ab0ec2c6d9f8d2a3a1cf0b8f4bb2ee4a1"
    told = {"../mine": digest, str(victim): digest, "": digest}
    (share / installing.LIST).write_text(json.dumps(told), encoding="utf-8")
    installing.take_away(share)
    assert victim.read_bytes() == b"mine"
    (share / "kyklon").mkdir(parents=True, exist_ok=True)
    (share / installing.LIST).write_text("{not", encoding="utf-8")
    with pytest.raises(KyklonError, match="cannot be read"):
        installing.take_away(share)


def test_links_are_not_written_through(tmp_path: Path) -> None:
    share, victim = tmp_path / "share", tmp_path / "victim"
    victim.write_bytes(b"mine")
    (share / "a").mkdir(parents=True)
    (share / "a/b").symlink_to(victim)
    done = installing.put(share, {Path("a/b"): b"ours"})
    assert victim.read_bytes() == b"mine"
    assert done.kept


def test_the_whole_set_by_command(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["desktop", "add", "--prefix", str(tmp_path), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    names = {Path(name).name for name in told["files"]}
    assert {f"{page_name(command)}.1.gz" for command in COMMANDS} | {"kyklon.1.gz", "kyklon.svg", "kyklon.png"} <= names
    assert main(["desktop", "remove", "--prefix", str(tmp_path)]) == 0
    assert "files removed below" in capsys.readouterr().out
    left = {path.name for path in tmp_path.rglob("*") if path.is_file() and "kyklon" in path.name}
    assert left <= {f"{kind.partition('/')[2]}.xml" for kind in files.TYPES}  # the desktop's own cache of types
    assert not list(tmp_path.rglob("*.gz"))


@pytest.mark.parametrize(
    ("program", "word"),
    [
        ("kyklon", "kyklon"),
        ("/opt/my tools/kyklon", '"/opt/my tools/kyklon"'),
        ("/opt/50%/kyklon", '"/opt/50%%/kyklon"'),
        ('/a"b/kyklon', '"/a\\\\"b/kyklon"'),
    ],
)
def test_a_path_with_odd_letters_is_quoted_for_the_menu(program: str, word: str) -> None:
    """Desktop Entry Specification, 'The Exec key': quoted, and the backslash doubled as in every string."""
    assert f"Exec={word} open %f\n" in files.entry(program)


def test_every_command_is_described_with_all_its_options() -> None:
    for command in COMMANDS:
        row = described(command)
        assert row.usage.startswith(f"kyklon {command.name}")
        assert all(line.names[0] in row.usage for line in row.lines), command.name


# --- the program's own log ---------------------------------------------------------------------------------------


def test_the_log_rotates_and_tells_no_names(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(program_log, "place", lambda: tmp_path / "log" / program_log.NAME)
    monkeypatch.setattr(program_log.getpass, "getuser", lambda: "wilhelmina")
    monkeypatch.setattr(program_log.platform, "node", lambda: "attic-box")
    monkeypatch.setenv("HOME", "/home/wilhelmina")
    key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIBhzQm7Zp1Xn0QmY0XoV2m3tq5m7yqk0l9i3n4o5p6q7"
    text = f"File /home/wilhelmina/x.py on attic-box: wilhelmina@attic-box wilhelminas {key}\npsk={'ab' * 32}\n"
    for _ in range(300):
        program_log.note(text * 40)
    files = sorted((tmp_path / "log").iterdir())
    assert len(files) == 1 + program_log.OLD_FILES
    assert max(path.stat().st_size for path in files) <= program_log.MOST_BYTES
    told = "".join(path.read_text(encoding="utf-8") for path in files)
    assert "~/x.py on HOST" in told
    assert "abab" not in told
    assert "wilhelmina@" not in told
    assert "wilhelminas" in told  # another word that only begins so


def test_a_log_that_cannot_be_written_stops_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "file").write_text("", encoding="utf-8")
    monkeypatch.setattr(program_log, "place", lambda: tmp_path / "file" / "log")
    program_log.note("nobody hears it")
