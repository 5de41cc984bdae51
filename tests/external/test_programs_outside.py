"""Programs and their shared libraries beside what others say of them: readelf (binutils) on the programs of this
machine, and glibc's own loader, which starts real programs in a root of real files out of which something was taken."""

from __future__ import annotations

import contextlib
import os
import random
import re
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from kyklon.base.cell import why_none
from kyklon.operations.card.volumes.ext_inodes import Inode
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.libraries import Needs, elf_of, needs_of
from kyklon.operations.card.volumes.partitions import reader
from kyklon.operations.card.volumes.root_facts import Looker
from kyklon.operations.card.volumes.script_calls import calls_of
from kyklon.operations.card.volumes.script_needs import ScriptNeeds

LOADER = Path("/lib64/ld-linux-x86-64.so.2")
PROGRAMS = ("bash", "git", "find", "gpg", "openssl", "curl", "perl", "tar", "xz", "env", "sed", "grep")
real_loader = pytest.mark.skipif(
    not LOADER.exists() or bool(why_none()), reason="no x86-64 glibc, or programs cannot be held in a cell here"
)


@pytest.mark.skipif(shutil.which("readelf") is None, reason="no readelf: binutils")
def test_needed_libraries_and_paths_as_readelf_tells_them() -> None:
    """readelf(1), -d: NEEDED, RUNPATH and RPATH of every program and library, and of what is no ELF file nothing."""
    places = [*Path("/usr/bin").iterdir(), *Path("/usr/lib/x86_64-linux-gnu").glob("*.so.*")]
    seen = 0
    for place in random.Random(5).sample(places, min(150, len(places))):
        data = place.read_bytes() if place.is_file() else b""
        elf = elf_of(data[:64], lambda at, size, data=data: data[at : at + size])
        if data[:4] != b"\x7fELF":
            assert elf is None
            continue
        told = subprocess.run(["readelf", "-dW", place], capture_output=True, text=True, check=True).stdout
        needed = tuple(re.findall(r"\(NEEDED\).*\[(.*)\]", told))
        paths = re.findall(r"\((RUNPATH|RPATH)\).*\[(.*)\]", told)
        assert elf is not None
        assert elf.whole, place
        needs = needs_of(elf, lambda at, size, data=data: data[at : at + size])
        assert needs is not None
        assert needs.needed == needed, place
        assert needs.paths == (tuple(paths[0][1].split(":")) if paths else ()), place
        assert needs.inherits == (not any(kind == "RUNPATH" for kind, _words in paths))
        seen += bool(needed)
    assert seen > 30


def test_nothing_is_said_of_what_cannot_be_read() -> None:
    """Real programs with bytes at random: never an error, and never a library that no table names."""
    data, rng = Path("/usr/bin/env").resolve().read_bytes(), random.Random(8)
    for _round in range(300):
        hurt = bytearray(data[: rng.choice((len(data), rng.randrange(len(data))))])
        for _byte in range(rng.randrange(1, 40)):
            if hurt:
                hurt[rng.randrange(min(len(hurt), rng.choice((64, 900, len(hurt)))))] = rng.randrange(256)
        elf = elf_of(bytes(hurt[:64]), lambda at, size, hurt=hurt: bytes(hurt[at : at + size]))
        found = needs_of(elf, lambda at, size, hurt=hurt: bytes(hurt[at : at + size])) if elf else None
        assert found is None or isinstance(found, Needs)


@pytest.fixture(scope="module")
def tree(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A root of programs of this machine with what ldd(1) says that they need."""
    place = tmp_path_factory.mktemp("root") / "root"
    for name in ("bin", "lib", "lib64", "sbin"):
        (place / "usr" / name).mkdir(parents=True)
        (place / name).symlink_to(f"usr/{name}")
    for name in PROGRAMS:
        program = Path("/usr/bin") / name
        if not program.exists():
            continue
        shutil.copy(program, place / "usr" / "bin")
        told = subprocess.run(["ldd", program], capture_output=True, text=True, check=True).stdout
        for library in {*re.findall(r"=> (/\S+)", told), str(LOADER)}:
            inside = place / library.lstrip("/")
            inside.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(library, inside)
    return place


@contextlib.contextmanager
def looker_on(tree: Path, image: Path) -> Iterator[Looker]:
    with image.open("wb") as file:
        file.truncate(160 << 20)
    subprocess.run(["mkfs.ext4", "-q", "-F", "-d", tree, image], check=True, capture_output=True)
    with image.open("rb") as file:
        yield Looker(ExtReader(reader(file.fileno()), 0, image.stat().st_size))


def runs(tree: Path, *command: str) -> bool:
    """Whether the loader starts a program in that root: 127 is what it, and env(1), end with where something lacks, and
    a library that is cut short ends it by a signal."""
    cell = ["bwrap", "--unshare-all", "--ro-bind", tree, "/", "--dev", "/dev", "--proc", "/proc", *command]
    told = subprocess.run(cell, capture_output=True, text=True, errors="replace", stdin=subprocess.DEVNULL, timeout=60)
    return not (
        told.returncode >= 127
        or "error while loading shared libraries" in told.stderr
        or re.search(r"bwrap: execvp .*: No such file", told.stderr)
    )


@real_loader
def test_what_lacks_is_what_the_loader_lacks(tree: Path, tmp_path: Path) -> None:
    """From a real root something is taken at random: a library, its end, its processor, its place; ld.so(8) judges."""
    (tree / "dev").mkdir(exist_ok=True)
    (tree / "proc").mkdir(exist_ok=True)
    rng, names = random.Random(11), [name for name in PROGRAMS if (tree / "usr" / "bin" / name).exists()]
    libraries = [
        path for path in tree.rglob("*.so*") if path.is_file() and not path.name.startswith(("ld-", "libc.so"))
    ]
    with looker_on(tree, tmp_path / "whole.img") as looker:
        assert [looker.program(f"/usr/bin/{name}").trouble for name in names] == [""] * len(names)
    wrong = []
    for number in range(10):
        place = rng.choice(libraries)
        kept, way = place.read_bytes(), ("gone", "cut", "other", "elsewhere")[number % 4]
        place.unlink()
        if way == "cut":
            place.write_bytes(kept[: len(kept) // 3])
        elif way == "other":
            place.write_bytes(kept[:18] + (183).to_bytes(2, "little") + kept[20:])
        elif way == "elsewhere":
            (tree / "usr" / "lib" / place.name).write_bytes(kept)
        with looker_on(tree, tmp_path / "hurt.img") as looker:
            programs = {name: looker.program(f"/usr/bin/{name}") for name in names}
        for name, program in programs.items():
            if runs(tree, f"/usr/bin/{name}", "--version") != (not program.trouble):
                wrong.append((way, place.name, name, program.trouble))
            assert not program.why
            assert not program.lacks or place.name in program.lacks
        (tree / "usr" / "lib" / place.name).unlink(missing_ok=True)
        place.write_bytes(kept)
    assert not wrong, "\n".join(map(str, wrong))


@real_loader
def test_scripts_that_env_starts(tree: Path, tmp_path: Path) -> None:
    """env(1) looks for the rest of the first line, which the kernel hands over as one word; execve(2)."""
    (tree / "dev").mkdir(exist_ok=True)
    (tree / "proc").mkdir(exist_ok=True)
    rows = {
        "good": "#!/usr/bin/env bash",
        "split": "#!/usr/bin/env -S bash -e",
        "words": "#!/usr/bin/env bash -e",
        "gone": "#!/usr/bin/env python9",
        "full": "#! /usr/bin/env /usr/bin/bash",
        "return": "#!/usr/bin/env bash\r",
        "handed": "#!/bin/bash\nexec /opt/front/front --full",
        "handed well": "#!/bin/bash\nexec /usr/bin/sed --version",
        "handed by name": "#!/bin/bash\nif true; then :; fi\nexec front9",
        "handed perhaps": "#!/bin/bash\n[ -x /opt/front/front ] && exec /opt/front/front",
        "set": "#!/usr/bin/env -S A=1 bash",
    }
    for name, line in rows.items():
        (tree / "usr" / "bin" / name).write_text(f"{line}\n" + "exit 0\n" * ("exec" not in line), newline="")
        (tree / "usr" / "bin" / name).chmod(0o755)
    with looker_on(tree, tmp_path / "scripts.img") as looker:
        foretold = {name: not looker.program(f"/usr/bin/{name}").trouble for name in rows}
    assert foretold == {name: runs(tree, f"/usr/bin/{name}") for name in rows}
    for name in rows:
        (tree / "usr" / "bin" / name).unlink()


class ThisMachine:
    """The files of the machine that runs the tests, by the verbs of ExtReader."""

    def __init__(self) -> None:
        self._paths: dict[int, str] = {}

    def find(self, path: str, *, follow: bool = True) -> Inode | None:
        with contextlib.suppress(OSError):
            told = os.stat(path, follow_symlinks=follow)
            self._paths[told.st_ino] = path
            return Inode(told.st_ino, told.st_mode, told.st_uid, told.st_gid, told.st_size, 0, b"", 0)
        return None

    def walk(self, path: str) -> tuple[Inode | None, tuple[()], str]:
        return self.find(path), (), os.path.realpath(path)

    def real(self, path: str) -> str:
        return os.path.realpath(path)

    def head(self, inode: Inode, most: int) -> bytes:
        return self.span(inode, 0, most)

    def span(self, inode: Inode, begin: int, most: int) -> bytes:
        with open(self._paths[inode.number], "rb") as file:
            file.seek(begin)
            return file.read(most)

    def entries(self, folder: Inode) -> list[tuple[str, int]]:
        return [(name, 0) for name in os.listdir(self._paths[folder.number])]


@pytest.mark.skipif(shutil.which("ldd") is None or not LOADER.exists(), reason="no x86-64 glibc")
def test_the_programs_of_a_whole_system_as_ldd_judges_them() -> None:
    """ldd(1): 'not found' for what the loader does not find, behind links, with $ORIGIN, by its cache."""
    looker = Looker(ThisMachine())  # type: ignore[arg-type] # the same verbs
    names = sorted(os.listdir("/usr/bin"))
    judged = 0
    for name in random.Random(6).sample(names, min(120, len(names))):
        place = f"/usr/bin/{name}"
        if not os.path.isfile(place) or Path(place).read_bytes()[:4] != b"\x7fELF":
            continue
        told = subprocess.run(["ldd", os.path.realpath(place)], capture_output=True, text=True).stdout
        assert bool(looker.program(place).trouble) == ("not found" in told), place
        judged += 1
    assert judged > 30


# a script of a shell, and what bash(1) and dash(1) say is not there when they run it
SCRIPTS = {
    "plain": "i2cset9 -y 1 0x20 0x01 0x02",
    "hidden": "until i2cset9 -y 1 2>/dev/null; do break; done",
    "asked": "if command -v tool9 >/dev/null; then tool9; fi; which tool8 && tool8",
    "tested": "[ -x /opt/tool9 ] && /opt/tool9\ntest -e /opt/tool8 || exit 0\n/opt/tool8",
    "function": "helper() { echo in; }\nhelper | helper\nhelper9",
    "substituted": 'x=$(tool9 +%s)\necho "$x `tool8`" | tee9 /tmp/log',
    "behind": "nohup tool9\nsetsid /opt/tool8\n",
    "here": "cat <<EOF\ntool9 in a text\nEOF\n# tool8 in a remark\necho 'tool7 in quotes'; tool6",
    "variable": 'tool=tool9\n$tool\nPATH=/opt/bin:$PATH\n"$tool" ${tool#t}',
    "words": "for tool9 in a b; do case $tool9 in a) tool8;; esac; done",
}


def of_this_machine() -> ScriptNeeds:
    def names(folder: str) -> list[str]:
        return os.listdir(folder) if os.path.isdir(folder) else []

    return ScriptNeeds(os.path.exists, lambda _path: "", names)


@pytest.mark.parametrize("name", SCRIPTS)
def test_what_a_shell_script_misses_is_what_its_shell_misses(name: str, tmp_path: Path) -> None:
    """Run for real: POSIX.1-2017, XCU 2.8.2: 127 and a word on standard error for a command that is not found."""
    script = tmp_path / "script"
    script.write_text(f"#!/bin/bash\n{SCRIPTS[name]}\n")
    plain = script.read_text().replace("2>/dev/null", "")
    told = subprocess.run(["bash", "-c", plain], capture_output=True, text=True, cwd=tmp_path, timeout=60).stderr
    lost = {each.rpartition("/")[2] for each in re.findall(r"([\w./]+): (?:command not found|No such file)", told)}
    lost |= set(re.findall(r"nohup: failed to run command '(?:.*/)?([^']+)'", told))
    lost |= set(re.findall(r"setsid: failed to execute (?:.*/)?(\w+)", told))
    needs = of_this_machine()
    missed = needs.misses(str(script), calls_of(script.read_text(), "bash"))
    made_up = {"tool9", "ool9"} if name == "variable" else set()  # names that are made up as it runs are not foretold
    assert {words.split()[0].rpartition("/")[2].rstrip(",") for words in missed} == lost - made_up
    assert all(("/dev/null" in words) == (name == "hidden") for words in missed)


@pytest.mark.skipif(not Path("/usr/bin/python3").exists(), reason="no system Python")
def test_modules_that_a_script_misses_are_those_that_python_misses(tmp_path: Path) -> None:
    """ModuleNotFoundError of the system's own Python judges: standard, compiled, its own neighbours, none."""
    (tmp_path / "beside.py").write_text("")
    modules = (
        "json",
        "os.path",
        "_ctypes",
        "sys",
        "math",
        "beside",
        "gpio9",
        "numpy9.linalg",
        "asyncio",
        "zlib",
        "time",
    )
    needs = ScriptNeeds(os.path.exists, lambda _path: "", lambda path: os.listdir(path) if os.path.isdir(path) else [])
    for module in modules:
        script = tmp_path / "tool.py"
        script.write_text(f"import {module}\ntry:\n    import perhaps9\nexcept ImportError:\n    pass\n")
        done = subprocess.run(["/usr/bin/python3", script], capture_output=True, text=True, timeout=60)
        missed = needs.misses(str(script), calls_of(script.read_text(), "python3"))
        assert bool(missed) == ("ModuleNotFoundError" in done.stderr), (module, missed, done.stderr)
