"""Real USB sticks, in a virtual machine: listed with and without UDisks2, written, proven, pulled out half-way.

A Debian kernel and a small root (mmdebstrap) with this tree in it run under qemu-system-x86_64; the sticks are its
usb-storage devices, pulled with device_del. Needs root, apt's packages qemu-system-x86 and mmdebstrap, and a kernel
package as a .deb file.

Usage: .venv/bin/python tools/sticks.py KERNEL.deb [PULLS]
"""

from __future__ import annotations

import json
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent
PACKAGES = "python3,udisks2,dbus,mtools,dosfstools,e2fsprogs,fdisk,util-linux,mount,kmod,udev,procps"
MODULES = ("xhci_pci", "usb_storage", "sd_mod", "vfat", "ext4", "nls_cp437", "nls_ascii")
STICK = 512 << 20  # bytes
MOST_S = 1500.0  # seconds for all of it, on a slow machine

GUEST = r"""
import json, os, subprocess, sys, time
sys.path.insert(0, "/kyklon/site")
sys.path.insert(0, "/kyklon/src")
PULLS = int(sys.argv[1])

def say(word, **told):
    print("@@" + json.dumps({"word": word, **told}), flush=True)

def kyklon(*words):
    env = {**os.environ, "PYTHONPATH": "/kyklon/src:/kyklon/site", "HOME": "/root", "LC_ALL": "C.UTF-8"}
    done = subprocess.run([sys.executable, "-m", "kyklon", *words, "--json"], capture_output=True, text=True, env=env)
    try:
        told = json.loads(done.stdout)
    except ValueError:
        told = {"out": done.stdout[-300:], "err": done.stderr[-600:]}
    assert "Traceback" not in done.stderr, done.stderr
    if "The report is in " in done.stderr:
        place = done.stderr.split("The report is in ")[1].strip().rstrip(".")
        told["report"] = open(place).read()[-700:]
    return done.returncode, told

def stick(there, seconds=60):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        found = [name for name in os.listdir("/sys/block") if name.startswith("sd")]
        if bool(found) == there:
            if there:
                time.sleep(1.0)
            return "/dev/" + found[0] if found else ""
        time.sleep(0.1)
    raise SystemExit(f"the stick did not {'come' if there else 'go'}")

def listed():
    code, rows = kyklon("drives")
    if "drives" not in rows:
        return {"code": code, "told": rows}
    return [(row["name"], row["allowed"], row["removable"], row["bus"]) for row in rows["drives"]]

say("up")
device = stick(True)
say("listed", by="lsblk", drives=listed())
code, told = kyklon("write", "/kyklon/a.img", device, "--yes")
say("written", code=code, told=told)
code, told = kyklon("prove", device, "--lose", "QUAYBOOT")
say("proven", code=code, told=told)
code, told = kyklon("write", "/kyklon/a.img", device, "--yes", "--lose", device)
say("again", code=code, told=told)
os.makedirs("/run/dbus", exist_ok=True)
subprocess.run(["dbus-daemon", "--system", "--fork"], check=True)
subprocess.Popen(["/usr/libexec/udisks2/udisksd"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
time.sleep(8)
say("listed", by="UDisks2", drives=listed())
code, told = kyklon("write", "/kyklon/a.img", device, "--yes", "--lose", "QUAYBOOT")
say("written", by="UDisks2", code=code, told=told)
for number in range(PULLS):
    device = stick(True)
    say("go", number=number)
    lose = ["--lose", "QUAYBOOT"]
    code, told = kyklon("write", "/kyklon/a.img", device, "--yes", *lose)
    if code and "type its name exactly" in json.dumps(told):
        name = told["error"].rsplit("type its name exactly: ", 1)[1]
        code, told = kyklon("write", "/kyklon/a.img", device, "--yes", "--lose", name)
    say("pulled", number=number, code=code, told=told)
    say("back", number=number)
    time.sleep(2)
say("end")
os.sync()
time.sleep(1)
with open("/proc/sysrq-trigger", "w") as trigger:
    trigger.write("o")
time.sleep(30)
"""

INIT = """#!/bin/sh
export PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev
mkdir -p /dev/pts /run /tmp; mount -t tmpfs run /run; mount -t tmpfs tmp /tmp
exec </dev/ttyS0 >/dev/ttyS0 2>&1
for module in MODULES; do modprobe $module; done
/lib/systemd/systemd-udevd --daemon; udevadm trigger; udevadm settle
python3 /kyklon/guest.py PULLS || echo '@@{"word": "failed"}'
echo o > /proc/sysrq-trigger
sleep 30
"""


def make_root(
    kernel: Path,
    work: Path,
    argument: str,
    guest: str = GUEST,
    modules: tuple[str, ...] = MODULES,
    packages: str = PACKAGES,
) -> tuple[Path, Path]:
    """The kernel file and the root as one cpio archive, in which a guest's program runs with this argument."""
    root, package = work / "root", work / "kernel"
    subprocess.run(
        ["mmdebstrap", "--variant=minbase", f"--include={packages}", "bookworm", str(root)],
        check=True,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    subprocess.run(["dpkg-deb", "-x", str(kernel), str(package)], check=True)
    shutil.copytree(package / "lib" / "modules", root / "lib" / "modules", dirs_exist_ok=True)
    (version,) = (path.name for path in (package / "lib" / "modules").iterdir())
    for wide in ("drivers/gpu", "drivers/net", "drivers/media", "sound", "drivers/infiniband", "net"):
        shutil.rmtree(root / "lib" / "modules" / version / "kernel" / wide, ignore_errors=True)
    subprocess.run(["depmod", "-b", str(root), version], check=True)
    inner = root / "kyklon"
    inner.mkdir()
    shutil.copytree(ROOT / "src", inner / "src", ignore=shutil.ignore_patterns("__pycache__"))
    site = next((ROOT / ".venv" / "lib").glob("python3.*")) / "site-packages"
    heavy = (
        "PyQt6*",
        "scipy*",
        "mypy*",
        "ruff*",
        "pygame*",
        "__pycache__",
        "hypothesis*",
        "numpy.libs.bak",
        "pandas*",
        "torch*",
        "sklearn*",
        "statsmodels*",
        "networkx*",
        "pgmpy*",
        "nvidia*",
        "triton*",
        "sympy*",
        "pyro*",
        "lightning*",
        "babel*",
        "pint*",
        "grimp*",
        "xgboost*",
        "opt_einsum*",
        "matplotlib*",
        "PIL*",
    )
    shutil.copytree(site, inner / "site", ignore=shutil.ignore_patterns(*heavy))
    _make_image(inner / "a.img")
    (inner / "guest.py").write_text(guest, encoding="utf-8")
    init = root / "init"
    init.unlink(missing_ok=True)
    init.write_text(INIT.replace("MODULES", " ".join(modules)).replace("PULLS", argument), encoding="utf-8")
    init.chmod(0o755)
    archive = work / "root.cpio"
    with archive.open("wb") as out:
        names = subprocess.run(["find", ".", "-xdev", "-print0"], cwd=root, capture_output=True, check=True).stdout
        subprocess.run(["cpio", "--null", "-o", "-H", "newc", "--quiet"], cwd=root, input=names, stdout=out, check=True)
    return next((package / "boot").glob("vmlinuz-*")), archive


def _make_image(path: Path) -> None:
    """The demo's image, unpacked."""
    import lzma

    from kyklon.demo.card_image import make_image

    packed = path.with_suffix(".img.xz")
    make_image(packed)
    path.write_bytes(lzma.decompress(packed.read_bytes()))
    packed.unlink()


class Machine:
    """A running qemu with its monitor (QMP) and its serial line."""

    def __init__(self, kernel: Path, archive: Path, work: Path) -> None:
        stick = work / "stick.img"
        with stick.open("wb") as file:
            file.truncate(STICK)
        monitor = work / "qmp"
        self.process = subprocess.Popen(
            [
                "qemu-system-x86_64",
                "-cpu",
                "max",
                "-m",
                "2600",
                "-smp",
                "2",
                "-nographic",
                "-no-reboot",
                "-nodefaults",
                "-serial",
                "stdio",
                "-kernel",
                str(kernel),
                "-initrd",
                str(archive),
                "-append",
                "console=ttyS0 quiet panic=5 rdinit=/init",
                "-device",
                "qemu-xhci,id=usb",
                "-qmp",
                f"unix:{monitor},server=on,wait=off",
                "-blockdev",
                f"driver=file,node-name=file,filename={stick}",
                "-blockdev",
                "driver=raw,node-name=stick,file=file",
                "-device",
                "usb-storage,id=stick0,drive=stick,bus=usb.0,removable=on",
            ],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            errors="replace",
        )
        for _ in range(100):
            if monitor.exists():
                break
            time.sleep(0.1)
        self._line = socket.socket(socket.AF_UNIX)
        self._line.connect(str(monitor))
        self._told = self._line.makefile("rw")
        self._told.readline()
        self.ask("qmp_capabilities")

    def ask(self, command: str, **arguments: Any) -> None:
        """A command to qemu; it must be taken."""
        self._told.write(json.dumps({"execute": command, "arguments": arguments}) + "\n")
        self._told.flush()
        while True:
            answer = json.loads(self._told.readline())
            if "error" in answer:
                raise SystemExit(f"{command}: {answer['error']}")
            if "return" in answer:
                return

    def words(self) -> Any:
        """What the guest says, a document at a time."""
        assert self.process.stdout is not None
        for line in self.process.stdout:
            if "@@" in line:
                yield json.loads(line[line.index("@@") + 2 :])
            elif "anic" in line or "Traceback" in line or "Error" in line:
                print(f"   guest: {line.rstrip()}")


def main() -> None:
    kernel, pulls = Path(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 12
    begun = time.monotonic()
    outcomes: dict[str, int] = {}
    with tempfile.TemporaryDirectory(prefix="sticks-") as held:
        work = Path(held)
        machine = Machine(*make_root(kernel, work, str(pulls)), work)
        count = 0
        try:
            for told in machine.words():
                word = told.pop("word")
                print(f"{time.monotonic() - begun:6.0f} s  {word} {json.dumps(told)[:1200]}", flush=True)
                if word == "go":
                    time.sleep(4.5 + 0.4 * told["number"])  # its start takes about five
                    machine.ask("device_del", id=f"stick{count}")
                elif word == "pulled":
                    key = "written after all" if told["code"] == 0 else str(told["told"].get("error"))[:60]
                    outcomes[key] = outcomes.get(key, 0) + 1
                elif word == "back":
                    count += 1
                    time.sleep(1.0)
                    machine.ask(
                        "device_add",
                        driver="usb-storage",
                        id=f"stick{count}",
                        drive="stick",
                        bus="usb.0",
                        removable=True,
                    )
                elif word in ("end", "failed"):
                    break
                if time.monotonic() - begun > MOST_S:
                    print("out of time")
                    break
        finally:
            machine.process.terminate()
            machine.process.wait()
    for key, number in sorted(outcomes.items()):
        print(f"{number:3} {key}")


if __name__ == "__main__":
    main()
