"""Makes cards that nobody here packed: roots, kernels and device trees out of packages, laid out at random.

Usage: tools/real_machine.py root FOLDER [systemd|sysvinit|openrc [arm64|armhf]]   a root, unpacked and not run
       tools/real_machine.py cards ROOT FOLDER [COUNT] [SEED]          cards from it, with what is wrong with each
       tools/real_machine.py judge FOLDER                              the forecast of each beside a real boot loader
       tools/real_machine.py remedies FOLDER                           every remedy offered, as the loader sees it
       tools/real_machine.py trees ROOT                                every device tree learnt as a board
       tools/real_machine.py box ROOT FOLDER [SEED]                    a tree and an image for test_own_machine.py
       tools/real_machine.py starts ROOT FOLDER [COUNT] [SEED]         cards whose kernel needs its initramfs
       tools/real_machine.py kernels FOLDER                            the forecast of each beside the kernel itself

Nothing of it is kept in the project: trees are drawn by number, names and folders by lot.
"""

from __future__ import annotations

import contextlib
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from dataclasses import asdict, dataclass, replace
from pathlib import Path

sys.path[:0] = [str(Path(__file__).parent.parent / "tests"), str(Path(__file__).parent)]

import real_initramfs  # noqa: E402

PACKAGES = (
    "base-files,base-passwd,bash,coreutils,dash,debianutils,findutils,grep,hostname,init-system-helpers,libc-bin,login,"
    "mawk,ncurses-base,ncurses-bin,passwd,perl-base,sed,util-linux,udev,u-boot-menu,busybox-static,"
    "kmod,klibc-utils,initramfs-tools-core,zstd,iproute2,dbus,linux-base,mount,sysvinit-utils"
)
INITS = {"systemd": "systemd-sysv", "sysvinit": "sysvinit-core,initscripts,insserv", "openrc": "openrc,sysvinit-core"}
SUITE = "bookworm"
DAMAGES = (
    "none",
    "none",
    "none",
    "tree gone",
    "another board's tree",
    "kernel cut",
    "kernel gone",
    "boot file void",
    "wrong root",
    "init gone",
    "tree cut",
    "initrd gone",
    "menu waits",
)


ROOT_ID = "4b594b00-0000-4000-8000-00000000beef"
ROOT_WORDS = ("LABEL=rootfs", f"UUID={ROOT_ID}", "/dev/mmcblk0p{n}", "/dev/disk/by-label/rootfs", "LABEL=elsewhere")


@dataclass(frozen=True)
class Card:
    """table: dos or gpt. boot: fat, ext4, or root where the boot files lie in /boot of the root. names: fdt, fdtdir or
    none. folder: of the kernel on the boot partition. login: autologin by a drop-in, by nobody. seed: of its names."""

    table: str
    boot: str
    names: str
    folder: str
    login: bool
    damage: str
    tree: str
    seed: int
    initrd: str = ""  # what is done with an initramfs out of packages, '' for none
    root_word: str = ""


KERNELS = {"arm64": "linux-image-arm64", "armhf": "linux-image-armmp"}


def make_root(folder: Path, init: str, machine: str = "arm64") -> None:
    """Unpack a root. Needs mmdebstrap and the packages' registry."""
    command = ["mmdebstrap", "--variant=extract", f"--architectures={machine}"]
    command += [f"--include={PACKAGES},{KERNELS[machine]},{INITS[init]}"]
    folder.parent.mkdir(parents=True, exist_ok=True)
    subprocess.run([*command, SUITE, str(folder)], check=True)
    etc = folder / "etc"
    (etc / "passwd").write_text("root:x:0:0:root:/root:/bin/bash\nplayer:x:1000:1000::/home/player:/bin/bash\n")
    (etc / "group").write_text("root:x:0:\ntty:x:5:\nplayer:x:1000:\n")
    for name in ("proc", "sys", "dev", "tmp", "run", "root", "home/player"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    with contextlib.suppress(PermissionError):
        os.chown(folder / "home/player", 1000, 1000)
    if init == "systemd":
        wants = etc / "systemd/system/getty.target.wants"
        wants.mkdir(parents=True, exist_ok=True)
        (wants / "getty@tty1.service").unlink(missing_ok=True)
        (wants / "getty@tty1.service").symlink_to("/lib/systemd/system/getty@.service")


def release_of(root: Path) -> str:
    return next((root / "boot").glob("vmlinuz-*")).name.removeprefix("vmlinuz-")


def trees_of(root: Path) -> list[Path]:
    return sorted((root / "usr/lib" / f"linux-image-{release_of(root)}").rglob("*.dtb"))


def drawn(root: Path, chance: random.Random) -> Card:
    tree = chance.choice(trees_of(root))
    return Card(
        chance.choice(("dos", "gpt")),
        chance.choice(("fat", "fat", "fat", "ext4", "root")),
        chance.choice(("fdt", "fdtdir", "none")),
        chance.choice(("", "boot", "kernels/arm")),
        chance.random() < 0.5,
        chance.choice(DAMAGES),
        str(tree.relative_to(root)),
        chance.randrange(1 << 30),
    )


def _boot_files(root: Path, card: Card, to: Path, top: str) -> None:
    """Kernel, trees and boot file below `to`; top: where that is for the loader."""
    chance = random.Random(card.seed)
    version = release_of(root)
    source = root / card.tree
    folder = f"{card.folder}/" if card.folder else ""
    trees = chance.choice(("dtb", "dtbs/current", "usr/trees"))
    kernel = chance.choice((f"vmlinuz-{version}", "Image", "linux"))
    place = to / card.folder if card.folder else to
    place.mkdir(parents=True, exist_ok=True)
    (to / trees).mkdir(parents=True, exist_ok=True)
    shutil.copy(root / "boot" / f"vmlinuz-{version}", place / kernel)
    shutil.copy(source, to / trees / source.name)
    others = [each for each in trees_of(root) if each.parent == source.parent and each != source]
    for other in chance.sample(others, min(3, len(others))):
        shutil.copy(other, to / trees / other.name)
    initrd = chance.random() < 0.4 or bool(card.initrd)
    if card.initrd:
        (place / "initrd.img").write_bytes(real_initramfs.made(root, version, card.initrd, chance))
    elif initrd:
        (place / "initrd.img").write_bytes(b"\x1f\x8b" + bytes(range(64)))
    lines = ["## made by a generator", "default l0", "menu title Boot menu", "prompt 0"]
    lines += [] if card.damage == "menu waits" else ["timeout 50"]
    tree = {"fdt": f"\tfdt {top}/{trees}/{source.name}", "fdtdir": f"\tfdtdir {top}/{trees}/", "none": ""}[card.names]
    rootfs = (
        "root=/dev/mmcblk0p7" if card.damage == "wrong root" else f"root=/dev/mmcblk0p{1 if card.boot == 'root' else 2}"
    )
    rootfs = f"root={card.root_word}" if card.root_word else rootfs
    for label, words in (("l0", "rw rootwait quiet"), ("l0r", "rw rootwait single")):
        lines += ["", f"label {label}", f"\tmenu label Linux {version}", f"\tlinux {top}/{folder}{kernel}"]
        lines += [f"\tinitrd {top}/{folder}initrd.img"] if initrd else []
        lines += [tree] if tree else []
        lines += [f"\tappend {rootfs} {words}"]
        if chance.random() < 0.5:
            break
    conf = to / "extlinux" / "extlinux.conf"
    conf.parent.mkdir(parents=True, exist_ok=True)
    text = "\n".join(lines) + "\n"
    conf.write_text(text.replace("default l0\n", "default l0\ndefault\n") if card.damage == "boot file void" else text)
    own = to / trees / source.name
    if card.damage == "tree gone":
        own.unlink()
    elif card.damage == "another board's tree" and others:
        shutil.copy(chance.choice(others), own)
    elif card.damage == "tree cut":
        own.write_bytes(own.read_bytes()[:200])
    elif card.damage == "kernel gone":
        (place / kernel).unlink()
    elif card.damage == "kernel cut":
        (place / kernel).write_bytes((place / kernel).read_bytes()[:40])
    elif card.damage == "initrd gone" and initrd:
        (place / "initrd.img").unlink()


def make_card(root: Path, card: Card, to: Path) -> None:
    """Write a card as a sparse file; needs sfdisk, mkfs.vfat, mkfs.ext4, mtools."""
    to.unlink(missing_ok=True)
    with tempfile.TemporaryDirectory(prefix="real-card-", dir=to.parent) as held:
        work = Path(held)
        system = work / "root"
        subprocess.run(["cp", "-al", str(root), str(system)], check=True)
        if card.login:
            drop = system / "etc/systemd/system/getty@tty1.service.d"
            drop.mkdir(parents=True)
            (drop / "autologin.conf").write_text(
                "[Service]\nExecStart=\nExecStart=-/sbin/agetty --autologin player --noclear %I $TERM\n"
            )
            (system / "home/player/.profile").write_text('[ "$(tty)" = /dev/tty1 ] && exec /usr/bin/watch\n')
            shutil.copy(system / "bin/sleep", system / "usr/bin/watch")
        (system / "etc/fstab").unlink(missing_ok=True)
        number = 1 if card.boot == "root" else 2
        (system / "etc/fstab").write_text(f"/dev/mmcblk0p{number} / ext4 defaults 0 1\n")
        if card.damage == "init gone":
            (system / "sbin/init").unlink(missing_ok=True)
        elif card.damage in ("library gone", "library cut"):
            _hurt_library(system, cut=card.damage == "library cut", number=len(card.tree))
        boot_mib = 0 if card.boot == "root" else 192
        if card.boot == "root":
            shutil.rmtree(system / "boot")
            _boot_files(root, card, system / "boot", "/boot")
        used = int(
            subprocess.run(["du", "-sm", str(system)], capture_output=True, text=True, check=True).stdout.split()[0]
        )
        root_mib = used + used // 4 + 64
        _write(to, card, boot_mib, root_mib)
        if boot_mib:
            files = work / "boot"
            _boot_files(root, card, files, "")
            volume = work / "boot.img"
            _blank(volume, boot_mib)
            if card.boot == "fat":
                subprocess.run(
                    ["mkfs.vfat", "-F", "32", "-n", "BOOT", str(volume)], check=True, stdout=subprocess.DEVNULL
                )
                subprocess.run(["mcopy", "-s", "-i", str(volume), *map(str, files.iterdir()), "::"], check=True)
            else:
                subprocess.run(["mkfs.ext4", "-q", "-F", "-d", str(files), str(volume)], check=True)
            _put(volume, to, 1)
        volume = work / "root.img"
        _blank(volume, root_mib - 1)
        subprocess.run(
            ["mkfs.ext4", "-q", "-F", "-L", "rootfs", "-U", ROOT_ID, "-d", str(system), str(volume)], check=True
        )
        _put(volume, to, 1 + boot_mib)


def _hurt_library(system: Path, *, cut: bool, number: int) -> None:
    """One that is somewhere below the folder of libraries and that systemd, or what it needs, is linked with."""
    names = ("libc.so.6", "libcap.so.2", "libselinux.so.1", "libpcre2-8.so.0", "libsystemd-shared-252.so", "libm.so.6")
    name = names[number % len(names)]
    for place in system.rglob(name):
        real = place.resolve() if place.is_symlink() else place
        data = real.read_bytes() if real.is_file() else b""
        place.unlink()  # the root's files are linked, not copied: this one is written anew
        if cut:
            place.write_bytes(data[: len(data) // 2])


def _blank(path: Path, mib: int) -> None:
    with path.open("wb") as file:
        file.truncate(mib << 20)


def _put(volume: Path, to: Path, at_mib: int) -> None:
    subprocess.run(
        ["dd", f"if={volume}", f"of={to}", "bs=1M", f"seek={at_mib}", "conv=notrunc,sparse", "status=none"], check=True
    )


def _write(to: Path, card: Card, boot_mib: int, root_mib: int) -> None:
    _blank(to, 2 + boot_mib + root_mib)
    bootable = ", bootable" if card.table == "dos" else ', attrs="LegacyBIOSBootable"'
    kinds = {
        "dos": ("c", "83"),
        "gpt": ("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", "0FC63DAF-8483-4772-8E79-3D69D8477DE4"),
    }
    fat, linux = kinds[card.table]
    rows = []
    if boot_mib:
        kind = fat if card.boot == "fat" else linux
        rows.append(f"start=2048, size={boot_mib * 2048}, type={kind}{bootable}")
        rows.append(f"start={(1 + boot_mib) * 2048}, size={root_mib * 2048 - 2048}, type={linux}")
    else:
        rows.append(f"start=2048, size={root_mib * 2048 - 2048}, type={linux}{bootable}")
    text = f"label: {card.table}\n" + "\n".join(rows) + "\n"
    subprocess.run(["sfdisk", "-q", str(to)], input=text, text=True, check=True, stdout=subprocess.DEVNULL)


def cards(root: Path, folder: Path, count: int, seed: int) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    chance = random.Random(seed)
    for number in range(count):
        card = drawn(root, chance)
        make_card(root, card, folder / f"{number:02d}.img")
        shutil.copy(root / card.tree, folder / f"{number:02d}.dtb")
        (folder / f"{number:02d}.json").write_text(json.dumps(asdict(card)))
        print(number, card.table, card.boot, card.names, card.folder or "/", card.damage, flush=True)


def starts(root: Path, folder: Path, count: int, seed: int) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    chance = random.Random(seed)
    for number in range(count):
        card = replace(
            drawn(root, chance),
            table="dos",
            damage=chance.choice(("none", "none", "init gone", "library gone", "library cut")),
            login=False,
        )
        word = chance.choice(ROOT_WORDS if chance.random() < 0.5 else ROOT_WORDS[:3])
        word = word.format(n=1 if card.boot == "root" else 2)
        card = replace(card, initrd=chance.choice(real_initramfs.WAYS), root_word=word)
        path = folder / f"{number:02d}.img"
        make_card(root, card, path)
        os.truncate(path, 1 << (path.stat().st_size - 1).bit_length())  # the virtual slot takes powers of two
        shutil.copy(root / card.tree, folder / f"{number:02d}.dtb")
        (folder / f"{number:02d}.json").write_text(json.dumps(asdict(card)))
        print(number, card.table, card.boot, card.initrd, card.root_word, card.damage, flush=True)


def box(root: Path, folder: Path, seed: int) -> None:
    """A card that logs somebody in and starts a program, as an image, and its board's tree."""
    folder.mkdir(parents=True, exist_ok=True)
    card = replace(drawn(root, random.Random(seed)), boot="fat", table="dos", names="fdt", damage="none", login=True)
    card = replace(card, initrd="good", root_word=ROOT_WORDS[0])
    make_card(root, card, folder / "image.img")
    shutil.copy(root / card.tree, folder / Path(card.tree).name)
    (folder / "card.json").write_text(json.dumps(asdict(card)))


def kernels(folder: Path) -> None:
    """The forecast beside what the card's own kernel and initramfs do on the virtual board."""
    from kyklon.catalogue.loader import load
    from kyklon.operations.card.volumes import contents
    from kyklon.operations.poweron.bench import lay_out
    from kyklon.operations.poweron.bringup import bring_up
    from kyklon.operations.poweron.sequence import STAGES

    names = [stage.name for stage in STAGES]
    agree = wrong = false = total = 0
    for path in sorted(folder.glob("*.img")):
        card = Card(**json.loads(path.with_suffix(".json").read_text()))
        build, catalogue = learnt(path, path.with_suffix(".dtb"), Path(card.tree).name, load())
        bench = lay_out(build, catalogue, contents.observe(path), plugged_in())
        result = bring_up(bench)
        stop = next((failure for failure in result.failures if failure.blocks), None)
        if stop is not None and names.index(stop.stage) <= names.index("kernel"):
            print(f"- {path.name}: {stop.cause}")
            continue
        mine = "init" if stop is None or names.index(stop.stage) > names.index("init") else stop.stage
        mine = "panic" if stop is not None and stop.code.endswith("-dies") else mine
        theirs, said = real_initramfs.started(bench, path)
        same = mine == theirs or (mine in ("kernel line", "root partition") and theirs == "no root")
        total, agree = total + 1, agree + same
        wrong += mine == "init" != theirs
        false += theirs == "init" != mine
        print(
            f"{' ' if same else 'X'} {path.name} {card.initrd} {card.root_word} {card.damage}: {mine} / {theirs}",
            end="; ",
        )
        print(stop.cause if stop else "to the front end", flush=True)
        path.with_suffix(".said").write_text(said)
    print(f"{agree} of {total} agree, {wrong} fine and wrong, {false} failed and fine")


def judge(folder: Path) -> None:
    """Board, image and display learnt from each card and its tree; the forecast up to the kernel beside U-Boot's."""
    from judges import loader
    from judges.compare import with_loader_stage
    from kyklon.catalogue.loader import load
    from kyklon.operations.card.volumes import contents
    from kyklon.operations.poweron.bench import lay_out
    from kyklon.operations.poweron.bringup import bring_up
    from kyklon.operations.poweron.sequence import STAGES

    names = [stage.name for stage in STAGES]
    agree = wrong = total = 0
    for path in sorted(folder.glob("*.img")):
        card = Card(**json.loads(path.with_suffix(".json").read_text()))
        build, catalogue = learnt(path, path.with_suffix(".dtb"), Path(card.tree).name, load())
        bench = lay_out(build, catalogue, contents.observe(path), plugged_in())
        result = bring_up(bench)
        stop = next((failure for failure in result.failures if failure.blocks), None)
        mine = "started" if stop is None or names.index(stop.stage) > names.index("kernel") else stop.stage
        narrow = any(kernel.instruction_set in ("ARMv6", "ARMv7") for kernel in bench.contents.kernels)
        real = loader.load(path, patient=True, narrow=narrow)
        theirs = with_loader_stage(real)
        same = mine == theirs or (theirs == "nothing found" and mine in ("boot partition", "boot file"))
        # the virtual board takes its own tree and does not run the kernel: what only they show is not its to judge
        beyond = stop is not None and stop.code.startswith(("boot.device-tree", "boot.kernel-damaged"))
        total, agree = total + 1, agree + (same or (beyond and theirs == "started"))
        wrong += mine == "started" and theirs != "started"
        remedy = f" [{stop.remedy.label}]" if stop and stop.remedy else ""
        mark = " " if same else "~" if beyond else "X"
        print(f"{mark} {path.name} {card.boot} {card.names} {card.damage}: {mine} / {theirs}", end="; ")
        print(f"{stop.stage}: {stop.cause}{remedy}" if stop else "to the front end", flush=True)
    print(f"{agree} of {total} agree, {wrong} fine and wrong")


def remedies(folder: Path) -> None:
    """Each remedy done on a copy of its card, and the copy switched on: none may start less than before."""
    from judges import loader
    from kyklon.catalogue.loader import load
    from kyklon.model.build import remedied
    from kyklon.operations import inspection
    from kyklon.operations.boot.acts import plan_boot_files
    from kyklon.operations.card.volumes import contents
    from kyklon.operations.poweron.bench import lay_out
    from kyklon.operations.poweron.bringup import bring_up

    tried = worse = 0
    for path in sorted(folder.glob("*.img")):
        card = Card(**json.loads(path.with_suffix(".json").read_text()))
        if card.boot != "fat":
            continue
        build, catalogue = learnt(path, path.with_suffix(".dtb"), Path(card.tree).name, load())
        seen = contents.observe(path)
        world = replace(plugged_in(), card=seen)
        offered = [each.remedy for each in inspection.inspect(build, catalogue, world)]
        offered += [failure.remedy for failure in bring_up(lay_out(build, catalogue, seen, world)).failures]
        builds = {repr(made): made for each in offered if each for made in (remedied(build, each),)}
        builds.setdefault(repr(build), build)
        before = loader.load(path, patient=True)
        done = set()
        for made in builds.values():
            files = plan_boot_files(made, catalogue, seen).files
            key = repr(sorted(files.items()))
            if key in done:
                continue
            done.add(key)
            copy = path.with_name("copy.raw")
            subprocess.run(["cp", "--sparse=always", str(path), str(copy)], check=True)
            for name, data in files.items():
                source = path.with_name("copy.part")
                source.write_bytes(data)
                place = ["-i", f"{copy}@@{1 << 20}"]
                for index in range(1, len(Path(name).parts)):
                    made_folder = "::/" + "/".join(Path(name).parts[:index])
                    subprocess.run(["mmd", "-D", "s", *place, made_folder], capture_output=True, check=False)
                subprocess.run(["mcopy", "-o", *place, str(source), f"::/{name}"], check=True)
            after = loader.load(copy, patient=True)
            foretold = bring_up(lay_out(made, catalogue, contents.observe(copy), world))
            stop = next((failure for failure in foretold.failures if failure.blocks), None)
            tried += 1
            bad = before.started and not after.started
            worse += bad
            print(f"{'X' if bad else ' '} {path.name} {card.damage}: {', '.join(files) or 'nothing'}: ", end="")
            print(
                f"{before.started} -> {after.started}; foretold {stop.cause if stop else 'to the front end'}",
                flush=True,
            )
            copy.unlink()
    print(f"{tried} tried, {worse} worse")


def plugged_in():  # type: ignore[no-untyped-def]
    """A plain display that names its modes."""
    from kyklon.catalogue.loader import standard_timings
    from kyklon.model.display import Edid, Extension
    from kyklon.model.world import World

    timing = standard_timings("cta")[16].timing
    return World(identification=Edid("KYK", 1, 1, 2026, "Plain", (timing,), (530, 300), extension=Extension(hdmi=True)))


def learnt(card: Path, tree: Path, name: str, catalogue):  # type: ignore[no-untyped-def]
    """A build of a board learnt from a tree and an image learnt from a card, by the ways of the shelf."""
    from kyklon.operations.plan.acts import fresh_build, with_part_used
    from kyklon.parts.learning import learn

    renamed = tree.with_name(name)
    if renamed != tree:
        shutil.copy(tree, renamed)
    board = learn("board", renamed, catalogue).agreed().part("Board of the tree")
    renamed.unlink(missing_ok=True) if renamed != tree else None
    parts = {**catalogue.parts, "boards": {**catalogue.parts["boards"], board.id: board}}
    catalogue = replace(catalogue, parts=parts)
    draft = learn("image", card, catalogue).with_value("boards", (board.id,)).agreed()
    for field, value in (("games_path", "home/player/games/{folder}"), ("system_files_path", "home/player/firmware")):
        draft = draft if field in draft.row else draft.with_value(field, value)
    draft = draft if "default_user" in draft.row else draft.with_value("default_user", "player")
    image = draft.part("Image of the card")
    catalogue = replace(catalogue, parts={**parts, "images": {**parts["images"], image.id: image}})
    build = with_part_used(fresh_build("Drawn", catalogue), "boards", board.id, catalogue)
    return with_part_used(build, "images", image.id, catalogue), catalogue


def trees(root: Path) -> None:
    """Every device tree of a kernel as a board: errors, and processors that are not known."""
    from kyklon.catalogue.loader import load
    from kyklon.parts.learning import learn

    catalogue, told = load(), Counter[str]()
    for path in trees_of(root):
        try:
            draft = learn("board", path, catalogue)
            draft.agreed().part()
            told["known" if draft.row.get("native_set") else "not known"] += 1
        except Exception as bad:
            told[f"{type(bad).__name__}"] += 1
            print(f"number {trees_of(root).index(path)}: {bad}")
    print(dict(told))


if __name__ == "__main__":
    what, *rest = sys.argv[1:] or [""]
    if what == "root":
        make_root(Path(rest[0]), rest[1] if len(rest) > 1 else "systemd", rest[2] if len(rest) > 2 else "arm64")
    elif what == "cards":
        cards(Path(rest[0]), Path(rest[1]), int(rest[2]) if len(rest) > 2 else 30, int(rest[3]) if len(rest) > 3 else 1)
    elif what == "box":
        box(Path(rest[0]), Path(rest[1]), int(rest[2]) if len(rest) > 2 else 1)
    elif what == "starts":
        starts(
            Path(rest[0]), Path(rest[1]), int(rest[2]) if len(rest) > 2 else 12, int(rest[3]) if len(rest) > 3 else 1
        )
    elif what == "kernels":
        kernels(Path(rest[0]))
    elif what == "judge":
        judge(Path(rest[0]))
    elif what == "remedies":
        remedies(Path(rest[0]))
    elif what == "trees":
        trees(Path(rest[0]))
    else:
        print(__doc__)
