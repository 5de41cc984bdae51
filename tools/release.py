"""Makes what is handed out: wheel, sdist, Debian package, the list of what is in it, its licences and checksums.

Usage: .venv/bin/python tools/release.py [OUT] [--site URL] [--only wheel|deb] [--tag]
OUT: a folder, dist when it is not given. The wheel is built twice and must come out the same. --site: where pictures
and documents will be found. --tag: make the version's tag in this clone; refused unless CHANGELOG.md names the version
and nothing is uncommitted. Needs the release extra of pyproject.toml, and dpkg-deb for the Debian package.
"""

from __future__ import annotations

import argparse
import gzip
import hashlib
import importlib.util
import os
import re
import shutil
import subprocess
import sys
import tempfile
import textwrap
from email.utils import formatdate
from pathlib import Path

ROOT = Path(__file__).parent.parent
QT_ROOMS = ("QtCore", "QtGui", "QtWidgets", "QtSvg", "QtDBus", "QtNetwork", "QtPrintSupport")  # what the window uses
QT_PLUGINS = (
    "platforms",
    "imageformats",
    "iconengines",
    "styles",
    "platforminputcontexts",
    "platformthemes",
    "xcbglintegrations",
    "egldeviceintegrations",
    "wayland-decoration-client",
    "wayland-graphics-integration-client",
    "wayland-shell-integration",
)
DEPENDS = (
    "mtools, dosfstools, e2fsprogs, fdisk, libegl1, libgl1, libdbus-1-3, libfontconfig1, "
    "libglib2.0-0 | libglib2.0-0t64, libxkbcommon0, libxkbcommon-x11-0, libxcb-cursor0, libxcb-icccm4, libxcb-image0, "
    "libxcb-keysyms1, libxcb-randr0, libxcb-render-util0, libxcb-shape0, libxcb-xfixes0, libxcb-xinerama0, libxcb-xkb1"
)
RECOMMENDS = "exfatprogs, udisks2, bubblewrap, busybox-static, desktop-file-utils, shared-mime-info"
SUGGESTS = "user-mode-linux, qemu-system-arm, u-boot-qemu, poppler-utils"


def own(name: str) -> object:
    """A module of the tree that is being released, whatever version is installed."""
    sys.path.insert(0, str(ROOT / "src"))
    return importlib.import_module(name)


def run(words: list[str], **settings: object) -> str:
    done = subprocess.run(words, capture_output=True, text=True, **settings)  # type: ignore[call-overload]
    if done.returncode:
        raise SystemExit(f"{words[0]} {words[1]} failed:\n{done.stdout}{done.stderr}")
    return done.stdout


def keeper() -> str:
    """Whoever makes the package: DEBFULLNAME and DEBEMAIL, as Debian's own tools read them, else what git knows."""
    name = os.environ.get("DEBFULLNAME") or run(["git", "-C", str(ROOT), "config", "user.name"]).strip()
    address = os.environ.get("DEBEMAIL") or run(["git", "-C", str(ROOT), "config", "user.email"]).strip()
    return f"{name} <{address}>"


def moment() -> int:
    """Seconds since 1970 of the last commit: every file of a release says so, so that it can be made again."""
    return int(run(["git", "-C", str(ROOT), "log", "-1", "--format=%ct"]))


def wheels(out: Path, when: int) -> Path:
    """Wheel and sdist, twice; the wheels must be the same. Built from what is committed or tracked, not from the folder
    as it lies there."""
    made = []
    for _ in range(2):
        with tempfile.TemporaryDirectory() as held:
            tree = Path(held) / "kyklon"
            tracked = run(["git", "-C", str(ROOT), "ls-files", "-z"]).split("\0")
            for name in filter(None, tracked):
                place = tree / name
                place.parent.mkdir(parents=True, exist_ok=True)
                if (ROOT / name).is_file():
                    shutil.copyfile(ROOT / name, place)
            words = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(Path(held) / "dist"), str(tree)]
            run(words, env={**os.environ, "SOURCE_DATE_EPOCH": str(when), "PYTHONHASHSEED": "0"}, cwd=held)
            files = sorted((Path(held) / "dist").iterdir())
            made.append({file.name: hashlib.sha256(file.read_bytes()).hexdigest() for file in files})
            for file in files:
                shutil.copyfile(file, out / file.name)
    first, second = ({name: told for name, told in row.items() if name.endswith(".whl")} for row in made)
    if first != second:
        raise SystemExit(f"Two builds differ: {first} {second}")
    print("Two builds of the wheel are the same.")
    return next(out.glob("*.whl"))


def installed(wheel: Path, place: Path) -> None:
    """The wheel and all it needs, as pinned, below a folder; what the window never loads is left out."""
    system = run(["/usr/bin/python3", "-c", "import sys; print(*sys.version_info[:2])"]).split()
    if system != list(map(str, sys.version_info[:2])):
        raise SystemExit(f"Run this with Python {'.'.join(system)}: the package is made for /usr/bin/python3.")
    words = [sys.executable, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--no-compile"]
    run([*words, "--target", str(place), "-c", str(ROOT / "constraints.txt"), str(wheel)])
    shutil.rmtree(place / "bin", ignore_errors=True)
    for folder in [*place.rglob("__pycache__"), *place.rglob("tests"), *place.rglob("include")]:
        if folder.is_dir():
            shutil.rmtree(folder)
    _slim(place / "PyQt6")
    for path in place.rglob("*"):
        if path.is_file() and not path.is_symlink():
            os.chmod(path, 0o644)  # nothing is stripped: libraries that a wheel's maker has patched do not survive it


def _slim(qt: Path) -> None:
    """Qt without QML, media and the like: 60 % of it, of which nothing is ever loaded."""
    for name in ("qml", "qsci", "metatypes", "libexec"):
        shutil.rmtree(qt / "Qt6" / name, ignore_errors=True)
    for name in ("bindings", "uic", "lupdate"):
        shutil.rmtree(qt / name, ignore_errors=True)
    for file in [*qt.glob("Qt*.abi3.so"), *qt.glob("Qt*.pyi")]:
        if file.name.partition(".")[0] not in QT_ROOMS:
            file.unlink()
    for folder in (qt / "Qt6" / "plugins").iterdir():
        if folder.name not in QT_PLUGINS:
            shutil.rmtree(folder)
    needed, waiting = set[str](), [*qt.glob("*.so"), *(qt / "Qt6" / "plugins").rglob("*.so")]
    there = {file.name: file for file in (qt / "Qt6" / "lib").iterdir()}
    while waiting:
        told = run(["readelf", "-d", str(waiting.pop())])
        for name in re.findall(r"\(NEEDED\).*\[(.*)\]", told):
            if name in there and name not in needed:
                needed.add(name)
                waiting.append(there[name])
    for name, file in there.items():
        if name not in needed:
            file.unlink()


def debian(wheel: Path, out: Path, when: int, site: str) -> Path:
    """A package that brings its own Python packages, for the system's Python."""
    version = str(own("kyklon").__version__)  # type: ignore[attr-defined]
    architecture = run(["dpkg", "--print-architecture"]).strip()
    with tempfile.TemporaryDirectory() as held:
        top = Path(held) / "package"
        place = top / "usr/lib/kyklon"
        place.mkdir(parents=True)
        installed(wheel, place)
        launcher = top / "usr/bin/kyklon"
        launcher.parent.mkdir(parents=True)
        launcher.write_text(_LAUNCHER, encoding="ascii")
        launcher.chmod(0o755)
        files = own("kyklon.desktop.files").share(own("kyklon.app.theme.icon_file").pixels, site=site)  # type: ignore[attr-defined]
        files |= own("kyklon.commands.desktop").texts()  # type: ignore[attr-defined]
        for path, data in files.items():
            target = top / "usr/share" / path
            if path.parts[0] == "zsh":
                target = top / "usr/share/zsh/vendor-completions" / path.name
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(data)
        _documents(top / "usr/share/doc/kyklon", place, version, when)
        manual = top / "usr/share/doc/kyklon/manual"
        run([sys.executable, str(ROOT / "tools/manual.py"), str(manual)])
        for file in (*manual.rglob("*.gz"), *manual.rglob("sitemap.xml")):
            file.unlink()
        overrides = top / "usr/share/lintian/overrides/kyklon"
        overrides.parent.mkdir(parents=True)
        overrides.write_text(_OVERRIDES, encoding="ascii")
        _control(top, version, architecture)
        for path in sorted(top.rglob("*"), reverse=True):
            if path.is_dir():
                path.chmod(0o755)
            os.utime(path, (when, when), follow_symlinks=False)
        target = out / f"kyklon_{version}_{architecture}.deb"
        environment = {**os.environ, "SOURCE_DATE_EPOCH": str(when)}
        run(["dpkg-deb", "--root-owner-group", "-Zxz", "--build", str(top), str(target)], env=environment)
    return target


_LAUNCHER = """#!/usr/bin/python3 -I
import sys

sys.path.insert(0, "/usr/lib/kyklon")
from kyklon.commands.main import main

main()
"""
_OVERRIDES = """# The Python packages come as their makers built them, pinned to what the
# tests ran with; Debian has other versions.
kyklon: embedded-library *
kyklon: custom-library-search-path *
kyklon: library-not-linked-against-libc *
kyklon: shared-library-lacks-prerequisites *
kyklon: unstripped-binary-or-object *
"""


def _control(top: Path, version: str, architecture: str) -> None:
    folder = top / "DEBIAN"
    folder.mkdir()
    size = sum(path.lstat().st_size for path in top.rglob("*") if path.is_file()) // 1024
    major, minor = sys.version_info[:2]
    fields = {
        "Package": "kyklon",
        "Version": version,
        "Architecture": architecture,
        "Maintainer": keeper(),
        "Installed-Size": str(size),
        "Section": "electronics",
        "Priority": "optional",
        "Depends": f"python3 (>= {major}.{minor}), python3 (<< {major}.{minor + 1}), libc6, libstdc++6, {DEPENDS}",
        "Recommends": RECOMMENDS,
        "Suggests": SUGGESTS,
        "Description": "bench book for building a retro games machine\n"
        + "\n".join(
            f" {line}"
            for line in textwrap.wrap(
                "Kyklon takes over the measuring, arithmetic and record keeping of whoever builds a retro games "
                "machine: parts that fit, the card and its boot files, controls, picture, library and wiring. It "
                "predicts the first power-on from the bytes on the card, and finds the fault with the fewest checks "
                "when the screen stays black.",
                76,
            )
        ),
    }
    text = "".join(f"{name}: {value}\n" for name, value in fields.items())
    (folder / "control").write_text(text, encoding="utf-8")
    for name, body in (
        ("postinst", 'if [ "$1" = configure ]; then\n  py3compile -p kyklon /usr/lib/kyklon || true\nfi\n'),
        ("prerm", "find /usr/lib/kyklon -name __pycache__ -prune -exec rm -rf {} +\n"),
    ):
        (folder / name).write_text(f"#!/bin/sh\nset -e\n{body}", encoding="ascii")
        (folder / name).chmod(0o755)
    sums = [
        f"{hashlib.md5(path.read_bytes()).hexdigest()}  {path.relative_to(top)}\n"
        for path in sorted(top.rglob("*"))
        if path.is_file() and not path.is_symlink() and folder not in path.parents
    ]
    (folder / "md5sums").write_text("".join(sums), encoding="utf-8")


def _documents(folder: Path, packages: Path, version: str, when: int) -> None:
    """copyright, with the licences of all that is brought along, and both changelogs."""
    folder.mkdir(parents=True)
    rows = [
        "Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/\nUpstream-Name: Kyklon\n",
        "Files: *\nCopyright: The Kyklon founders\nLicense: GPL-3+\n"
        " On Debian systems the whole text is in /usr/share/common-licenses/GPL-3.\n",
    ]
    for told in licences(packages):
        body = "\n".join(f" {line}" if line.strip() else " ." for line in told["text"].splitlines())
        common = [name for words, name in _COMMON if words in told["text"]]
        if common or not body:
            where = f"/usr/share/common-licenses/{common[0]}" if common else f"{told['folder']}, or on its page"
            body = f" The whole text is in {where}."
        name = re.sub(r"[^A-Za-z0-9.+-]+", "-", told["name"])
        rows.append(
            f"Files: usr/lib/kyklon/{told['folder']}*\nCopyright: its authors\nLicense: {name}\n"
            f" {told['name']} {told['version']}: {told['licence']}\n .\n{body}\n"
        )
    (folder / "copyright").write_text("\n".join(rows), encoding="utf-8")
    native = f"kyklon ({version}) unstable; urgency=medium\n\n  * See NEWS.\n\n -- {keeper()}  {formatdate(when)}\n"
    (folder / "changelog.gz").write_bytes(gzip.compress(native.encode(), 9, mtime=0))
    (folder / "NEWS.gz").write_bytes(gzip.compress((ROOT / "CHANGELOG.md").read_bytes(), 9, mtime=0))


_COMMON = (  # what a licence's own text says, and the file in which Debian keeps it
    ("GNU AFFERO GENERAL PUBLIC LICENSE", "GPL-3"),
    ("GNU LESSER GENERAL PUBLIC LICENSE", "LGPL-3"),
    ("GNU GENERAL PUBLIC LICENSE", "GPL-3"),
    ("Apache License", "Apache-2.0"),
)


def licences(packages: Path) -> list[dict[str, str]]:
    """Name, version, licence and its text of every package below a folder."""
    from importlib.metadata import distributions

    rows = []
    for found in sorted(distributions(path=[str(packages)]), key=lambda each: each.name.lower()):
        if found.name == "kyklon":
            continue
        told = found.metadata
        kinds = [row.rpartition(" :: ")[2] for row in told.get_all("Classifier") or [] if row.startswith("License ::")]
        own_word = (
            told.get("License-Expression") or ", ".join(kinds) or (told.get("License") or "unknown").split("\n")[0]
        )
        texts = [
            Path(str(file.locate())).read_text(encoding="utf-8", errors="replace")
            for file in found.files or ()
            if re.search(r"(?i)\b(licen[cs]e|copying|notice)", file.name) and Path(str(file.locate())).is_file()
        ]
        tops = {file.parts[0] for file in found.files or () if file.parts and not file.parts[0].endswith(".dist-info")}
        folder = min((top for top in tops if top not in ("..", "bin")), default=found.name, key=len)
        rows.append(
            {
                "name": found.name,
                "version": found.version,
                "licence": own_word,
                "folder": folder,
                "text": "\n\n".join(texts),
            }
        )
    return rows


def bill(wheel: Path, out: Path) -> Path:
    """What is in a release (CycloneDX 1.6), read off an environment that holds the wheel and nothing else."""
    target = out / f"{wheel.name.split('-py3')[0]}.cdx.json"
    with tempfile.TemporaryDirectory() as held:
        place = Path(held) / "venv"
        run([sys.executable, "-m", "venv", "--without-pip", str(place)])
        words = [sys.executable, "-m", "pip", "--python", str(place / "bin/python"), "install", "--quiet"]
        run([*words, "--disable-pip-version-check", "-c", str(ROOT / "constraints.txt"), str(wheel)])
        run(
            [sys.executable, "-m", "cyclonedx_py", "environment", "--output-reproducible", "--of", "JSON", "-o"]
            + [str(target), str(place / "bin/python")]
        )
        unknown = [
            f"{told['name']} {told['version']}"
            for told in licences(place / "lib" / f"python{sys.version_info[0]}.{sys.version_info[1]}" / "site-packages")
            if told["licence"] == "unknown"
        ]
    if unknown:
        raise SystemExit(f"No licence is told by {', '.join(unknown)}.")
    return target


def checked(version: str) -> None:
    """Whether the tree may be tagged."""
    if run(["git", "-C", str(ROOT), "status", "--porcelain"]).strip():
        raise SystemExit("Something is not committed.")
    if f"## {version}" not in (ROOT / "CHANGELOG.md").read_text(encoding="utf-8"):
        raise SystemExit(f"CHANGELOG.md has no heading for {version}.")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("out", nargs="?", type=Path, default=ROOT / "dist")
    parser.add_argument("--site", default="")
    parser.add_argument("--only", choices=("wheel", "deb"))
    parser.add_argument("--tag", action="store_true")
    told = parser.parse_args()
    version = str(own("kyklon").__version__)  # type: ignore[attr-defined]
    if told.tag:
        checked(version)
    told.out.mkdir(parents=True, exist_ok=True)
    when = moment()
    wheel = wheels(told.out, when)
    if told.only != "wheel":
        print(debian(wheel, told.out, when, told.site))
    if told.only is None:
        print(bill(wheel, told.out))
    files = sorted(path for path in told.out.iterdir() if path.name != "SHA256SUMS")
    sums = "".join(f"{hashlib.sha256(path.read_bytes()).hexdigest()}  {path.name}\n" for path in files)
    (told.out / "SHA256SUMS").write_text(sums, encoding="ascii")
    if told.tag:
        run(["git", "-C", str(ROOT), "tag", "-a", f"v{version}", "-m", f"Kyklon {version}"])
        print(f"Tagged v{version}.")


if __name__ == "__main__":
    main()
