"""Installs a release in a bare Debian root, as a new user would, and takes it away again.

Usage: .venv/bin/python tools/bare_root.py DIST [WAY ...]   WAY: deb, pipx; both when none is given
DIST: the folder that tools/release.py made. Needs root, debootstrap, and a package source that apt is set to here.
Prints what each line said; ends with an error at the first that fails.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
USER = "player"
SECONDS = 900


def run(words: list[str], **settings: object) -> str:
    began = time.monotonic()
    done = subprocess.run(  # type: ignore[call-overload]
        words, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, timeout=SECONDS, **settings
    )
    print(f"$ {' '.join(words[-3:])[:150]}   exit {done.returncode}, {time.monotonic() - began:.0f} s")
    if done.returncode:
        raise SystemExit(f"{done.stdout[-4000:]}")
    return str(done.stdout)


def bare(place: Path) -> None:
    """A root with nothing but what every Debian has, and the package source of this computer."""
    told = subprocess.run(
        ["apt-get", "indextargets", "--format", "$(REPO_URI) $(CODENAME) $(LABEL)"], capture_output=True, text=True
    ).stdout
    rows = [row.split() for row in told.splitlines() if row.endswith(" Debian")]
    source, release = next((row[0], row[1]) for row in rows if "-" not in row[1])
    run(["debootstrap", "--variant=minbase", release, str(place), source])
    for name in ("/etc/resolv.conf", "/etc/hosts"):
        shutil.copyfile(name, place / name.lstrip("/"))
    proxies = subprocess.run(["apt-config", "dump", "Acquire"], capture_output=True, text=True).stdout
    (place / "etc/apt/apt.conf.d/90here").write_text(proxies, encoding="utf-8")


class Inside:
    """Commands in the root: as root, or as an ordinary user without rights."""

    def __init__(self, place: Path) -> None:
        self._place = place

    def root(self, line: str) -> str:
        words = ["unshare", "--mount", "--pid", "--fork", "--mount-proc", "chroot", str(self._place), "/bin/sh", "-ec"]
        return run([*words, f"mount -t proc proc /proc; export DEBIAN_FRONTEND=noninteractive; {line}"])

    def user(self, line: str) -> str:
        return self.root(f"cd /home/{USER}; exec su {USER} -c 'export PATH=$PATH:$HOME/.local/bin; {line}'")


def files(place: Path) -> set[str]:
    return {
        str(path.relative_to(place))
        for folder in ("usr", "etc", "opt", "var/lib/kyklon")
        for path in (place / folder).rglob("*")
        if not path.is_dir() and "__pycache__" not in path.parts
    }


def walk(inside: Inside) -> None:
    """What a new user does first, without rights."""
    print(inside.user("kyklon doctor")[-1500:])
    print(inside.user("kyklon demo --no-window"))
    told = inside.user("kyklon check .local/share/kyklon/demo/lighthouse-cafe-table || test $? = 1")
    print(told[:400])
    opened = "QT_QPA_PLATFORM=offscreen timeout 25 kyklon demo --keep; test $? = 124"
    inside.user(opened)
    inside.user("QT_QPA_PLATFORM=offscreen timeout 15 kyklon start; test $? = 124")
    inside.user("QT_QPA_PLATFORM=offscreen timeout 15 kyklon help --window; test $? = 124")


def main() -> None:
    if os.geteuid() != 0:
        raise SystemExit("Only root makes a root.")
    dist, ways = Path(sys.argv[1]).absolute(), sys.argv[2:] or ["deb", "pipx"]
    for way in ways:
        with tempfile.TemporaryDirectory(prefix="bare-") as held:
            place = Path(held) / "root"
            bare(place)
            inside = Inside(place)
            inside.root(f"useradd -m {USER}")
            if way == "deb":
                package = next(dist.glob("*.deb"))
                shutil.copyfile(package, place / "tmp" / package.name)
                inside.root("apt-get -o DPkg::Lock::Timeout=600 update -q")
                before = files(place)
                inside.root(
                    f"apt-get -o DPkg::Lock::Timeout=600 install -y -q --no-install-recommends /tmp/{package.name}"
                )
                walk(inside)
                inside.root("apt-get purge -y -q kyklon")
                left = {name for name in files(place) - before if "kyklon" in name}
                print(f"Left behind in the system by the package: {sorted(left) or 'nothing'}")
                if left:
                    raise SystemExit(1)
            else:
                wheel = next(dist.glob("*.whl"))
                house = place / "tmp/house"
                words = [sys.executable, "-m", "pip", "download", "-q", "-d", str(house), str(wheel)]
                run([*words, "-c", str(ROOT / "constraints.txt")])
                inside.root("apt-get -o DPkg::Lock::Timeout=600 update -q")
                needed = subprocess.run(
                    [str(ROOT / "tools/prepare"), "packages"], capture_output=True, text=True, check=True
                ).stdout.split()
                inside.root(f"apt-get install -y -q --no-install-recommends pipx {' '.join(needed)}")
                inside.user(f'pipx install --pip-args="--no-index --find-links=/tmp/house" /tmp/house/{wheel.name}')
                walk(inside)
                inside.user("kyklon desktop add && kyklon desktop remove && pipx uninstall kyklon")
    print("Done.")


if __name__ == "__main__":
    main()
