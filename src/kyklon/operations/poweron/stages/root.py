"""The kernel line, the root partition, and how it grows.

Sources: the kernel's admin-guide/kernel-parameters; init/do_mounts.c (6.1).
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from pathlib import PurePosixPath

from kyklon.base.quantities import show_bytes
from kyklon.model.build import change_of
from kyklon.model.card import RootFacts
from kyklon.model.findings import Remedy
from kyklon.model.kernel_line import given as words_given
from kyklon.model.kernel_line import last
from kyklon.model.root_device import RootDevice, root_device
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import PUT_ON_CARD, Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.fail import fail, panic
from kyklon.operations.poweron.stages.initramfs import initramfs_fails, initramfs_runs, no_root_found

KERNEL_S = 1.8  # seconds from the kernel's first line to the root partition, CP
LEAST_FREE = 16_000_000  # bytes of the root for logs, scores and saved games, CP
EXPANSION_B_S = 2e9  # bytes of card a first boot enlarges the root by per second, CP
# names that ext4 takes in rootflags= (admin-guide/ext4.rst; fs/fs_context.c); another one makes the mount fail: noatime
# and its like, which mount(8) sets by other means, too
_FLAGS = frozenset(
    (
        "ro",
        "rw",
        "lazytime",
        "sync",
        "async",
        "dirsync",
        "data",
        "errors",
        "commit",
        "barrier",
        "nobarrier",
        "discard",
        "nodiscard",
        "acl",
        "noacl",
        "user_xattr",
        "nouser_xattr",
        "delalloc",
        "nodelalloc",
        "journal_checksum",
        "noload",
        "norecovery",
        "journal_async_commit",
        "stripe",
        "inode_readahead_blks",
        "auto_da_alloc",
        "noauto_da_alloc",
        "init_itable",
        "noinit_itable",
        "max_batch_time",
        "min_batch_time",
        "journal_ioprio",
        "debug",
        "minixdf",
        "bsddf",
        "grpid",
        "nogrpid",
        "bsdgroups",
        "sysvgroups",
        "resgid",
        "resuid",
        "sb",
        "oldalloc",
        "orlov",
        "nouid32",
        "i_version",
        "dioread_lock",
        "dioread_nolock",
        "block_validity",
        "noblock_validity",
        "usrquota",
        "grpquota",
        "prjquota",
        "quota",
        "noquota",
        "jqfmt",
        "usrjquota",
        "grpjquota",
    )
)


def meant_root(bench: Bench) -> RootDevice | None:
    table, size = bench.contents.table, bench.contents.size
    if table is None:
        return None
    there = tuple(part for part in table.partitions if not size or part.start < size)  # the kernel drops the others
    if bench.initramfs_init and (found := _by_volume(bench)):
        return found
    return root_device(bench.kernel_line_words, replace(table, partitions=there), disk=bench.build.medium == "disk")


_BY_PATH = {"/dev/disk/by-uuid/": "UUID", "/dev/disk/by-label/": "LABEL"}  # links that udev makes in an initramfs


def _by_volume(bench: Bench) -> RootDevice | None:
    """An initramfs finds a root by the volume's own id or name, too."""
    value = last(bench.kernel_line_words, "root") or ""
    kind, _, wanted = value.partition("=")
    for folder, meant in _BY_PATH.items():
        if value.startswith(folder):
            kind, wanted = meant, value.removeprefix(folder)
    if kind not in ("UUID", "LABEL") or bench.contents.table is None:
        return None
    ways = bench.ramdisk.cannot_find if bench.ramdisk is not None else {}
    if why := ways.get("/dev/disk" if value.startswith("/dev/disk/") else kind, ""):
        return RootDevice(value, None, f"The initramfs cannot look for it: {why}.")
    for part in bench.contents.table.partitions:
        root = bench.contents.roots.get(part.number)
        if root is not None and wanted in ((root.uuid,) if kind == "UUID" else (root.label,)):
            return RootDevice(value, part)
    return RootDevice(value, None, f"No volume has that {kind}.")


def root_of(bench: Bench) -> RootFacts | None:
    """The root that the kernel would mount; None without one."""
    meant = meant_root(bench)
    root = bench.contents.roots.get(meant.partition.number) if meant and meant.partition else None
    return root.unreplayed if root and root.unreplayed and _leaves_journal(bench) else root


def _leaves_journal(bench: Bench) -> bool:
    """Whether the kernel line keeps the kernel from replaying the root's journal (ext4(5), noload)."""
    flags = (last(bench.kernel_line_words, "rootflags") or "").split(",")
    return bool({"noload", "norecovery"} & set(flags))


def _cut_before_root(bench: Bench) -> int:
    """Characters that are read of a kernel line whose root= comes only after them; 0 for another line."""
    file = bench.dialect.file("words")
    if file is None:
        return 0
    whole = bench.contents.texts.get(file.path.lower(), "").split("\n")[0]
    return bench.dialect.longest_of(file) if last(words_given(whole), "root") is not None else 0


def kernel_line(bench: Bench) -> Step:
    given, lamps = bench.kernel_line_words, bench.board.lamps
    if last(given, "root") is None and (most := _cut_before_root(bench)):
        cause = f"{most} characters of the kernel command line are read; root= comes after them."
        return fail(panic("kernel line", "boot.line-too-long", cause, lamps.stuck), hides=True)
    if last(given, "root") is None:
        cause = "The kernel command line names no root partition (root=)."
        if bench.settings and bench.settings.line_breaks:
            cause += " Only its first line is read."
        return fail(panic("kernel line", "boot.no-root", cause, lamps.stuck, root_remedy(bench)), hides=True)
    if tiny := _tiny_memory(bench):
        return fail(panic("kernel line", "boot.memory", tiny, lamps.stuck), hides=True)
    if failure := initramfs_fails(bench):  # before it looks for a root
        return fail(failure, hides=True)
    meant = meant_root(bench)
    waits = "rootwait" in given
    if meant is not None and meant.partition is None:
        cause = f"root={meant.word}: {meant.why}"
        if bench.initramfs_init:
            failure = no_root_found(bench, "kernel line", "boot.root-nowhere", cause, root_remedy(bench))
        elif waits and not meant.number:
            screen = Screen("text", "Waiting for ever", (f"Waiting for root device {meant.word}...",))
            failure = Failure("kernel line", "boot.root-nowhere", cause, root_remedy(bench), screen, lamps.stuck)
        else:
            failure = panic("kernel line", "boot.root-nowhere", cause, lamps.stuck, root_remedy(bench))
        return fail(failure, hides=True)
    if bench.contents.table and bench.contents.table.second and "gpt" not in given:
        cause = "The primary GPT is damaged; the kernel uses the backup only with the parameter gpt."
        return fail(panic("kernel line", "card.second-table", cause, lamps.stuck))
    moments = [Moment(f"{len(given)} words.", lamps.reading, KERNEL_S)]
    # an initramfs waits by itself
    if not waits and not bench.initramfs_init and not any(word.startswith("rootdelay=") for word in given):
        what = "A disk on USB" if bench.build.medium == "disk" else "The card"
        text = f"{what} may not be ready yet: the kernel command line has no rootwait."
        if bench.build.medium == "disk":
            return fail(panic("kernel line", "boot.no-rootwait", text, lamps.stuck, _word_remedy(bench, "rootwait")))
        moments.append(Moment(text, lamps.reading, 0.0))
    if bench.settings and bench.settings.line_breaks:
        moments.append(
            Moment("The kernel command line is split in two: only its first line is read.", lamps.reading, 0.0)
        )
    return Step(tuple(moments))


LEAST_MEMORY = 32 << 20  # bytes below which a kernel of some megabytes does not come to its init, CP


def _tiny_memory(bench: Bench) -> str:
    """What is wrong with mem=, '' for nothing (kernel-parameters; lib/cmdline.c: memparse)."""
    value = last(bench.kernel_line_words, "mem") or ""
    found = re.match(r"(0[xX][0-9a-fA-F]{1,16}|[0-9]{1,20})([kKmMgGtT]?)", value)
    if not found:
        return ""
    size = int(found[1], 16 if found[1][:2].lower() == "0x" else 10) << 10 * " kmgt".index(found[2].lower() or " ")
    return f"mem={value} leaves the kernel {show_bytes(size)} of memory" if 0 < size < LEAST_MEMORY else ""


def root_partition(bench: Bench) -> Step:
    lamps, meant = bench.board.lamps, meant_root(bench)
    if meant is None or meant.partition is None:
        return Step(hides_the_rest=True)
    number = meant.partition.number
    root = bench.contents.roots.get(number)
    if root is None:
        cause = bench.contents.root_errors.get(number) or f"Partition {number} cannot be read."
        code = "card.no-root-partition"
        if bench.contents.root_number not in (0, number):
            code = "boot.root-elsewhere"
            cause = f"root={meant.word} is partition {number}; the system is on {bench.contents.root_number}. {cause}"
        return fail(panic("root partition", code, cause, lamps.stuck, root_remedy(bench)), hides=True)
    if root.journal_error and not _leaves_journal(bench):
        cause = f"Partition {number} has no file system that can be the root: {root.journal_error}"
        return fail(panic("root partition", "card.no-root-partition", cause, lamps.stuck), hides=True)
    if bad := _mount_words(bench, root):
        return bad
    if root.unreplayed and _leaves_journal(bench):
        root = root.unreplayed
    if lacking := _without_drivers(bench, root):
        if bench.initramfs_init:
            return fail(no_root_found(bench, "root partition", "boot.no-driver", lacking, None))
        return fail(panic("root partition", "boot.no-driver", lacking, lamps.stuck))
    moments = [*initramfs_runs(bench), Moment(f"{root.release or 'Linux'}.", lamps.reading, 0.5)]
    if root.recovers and _leaves_journal(bench):
        moments.append(Moment("noload: the root's journal is not replayed.", lamps.reading, 0.0))
    told = root.cautions or (bench.contents.fsck if number == bench.contents.root_number else ())
    moments += [Moment(f"The root: {words}.", lamps.reading, 0.0) for words in told[:4]]
    if root.no_write:
        text = f"The root is read-only, so nothing can be saved: {root.no_write}."
        moments.append(Moment(text, lamps.reading, 0.0))
    return Step(tuple(moments))


EXT4_NEEDS = ("ext4", "jbd2", "mbcache", "crc16", "crc32c_generic")  # fs/ext4/Kconfig (6.1): what it selects


def _without_drivers(bench: Bench, root: RootFacts) -> str:
    """Why the kernel cannot reach or read its root, '' where it can: its drivers are modules on that root, and no
    initramfs loads them."""
    name, ramdisk = PurePosixPath(bench.kernel_name).name, bench.ramdisk
    release = next((release for release in root.modular if release and name.endswith(release)), "")
    another = not release and bool(re.search(r"\d\.\d", name))  # a version that the root has no modules of
    sure = bool(release) or (len(root.modular) == 1 and not another)
    release = release or next(iter(root.modular), "")
    lacking = root.modular.get(release, ()) if sure else ()
    device = "usb-storage" if bench.build.medium == "disk" else "mmc_block"
    reads = EXT4_NEEDS if "ext4" in root.kinds else ()
    needed = [driver for driver in lacking if driver in (device, *reads)]
    takes_over = bench.initramfs_init
    if takes_over and (ramdisk is None or not ramdisk.whole):
        return ""  # what it loads was not seen
    own = ramdisk.modules.get(release, frozenset()) if takes_over and ramdisk is not None else frozenset()
    needed = [driver for driver in needed if driver.replace("-", "_") not in own]
    if any(name.startswith("crc32c") for name in own):  # a processor's own way to compute it does as well
        needed = [driver for driver in needed if driver != "crc32c_generic"]
    if not needed:
        return ""
    plural = "modules" if len(needed) > 1 else "a module"
    has = f"{name} has {' and '.join(needed)} as {plural} on the root that it cannot mount without "
    has += "them" if len(needed) > 1 else "it"
    if not takes_over or ramdisk is None:
        named = bench.settings.initramfs if bench.settings else ""
        why = f"{named} has no /init" if named else "the boot file names none"
        return f"{has}: it needs an initramfs, and {why}."
    others = sorted(set(ramdisk.modules) - {release})
    what = f"those of {' and '.join(others)}" if others and release not in ramdisk.modules else "others"
    return f"{has}. {ramdisk.name} brings {what if ramdisk.modules else 'no modules'}; it is not for kernel {release}."


def _mount_words(bench: Bench, root: RootFacts) -> Step | None:
    """Words of the kernel line under which the mount fails."""
    given, lamps = bench.kernel_line_words, bench.board.lamps
    kind = last(given, "rootfstype")
    if kind is not None and not set(kind.split(",")) & set(root.kinds):
        cause = f"rootfstype={kind}: the root is {root.kinds[0]}."
        return fail(panic("root partition", "boot.rootfstype", cause, lamps.stuck))
    if root.not_for_writing and [word for word in given if word in ("ro", "rw")][-1:] == ["rw"]:
        cause = f"rw: the kernel cannot mount it for writing: {root.not_for_writing}."
        return fail(panic("root partition", "card.root-damaged", cause, lamps.stuck))
    flags = last(given, "rootflags") or ""
    wrong = next((why for each in flags.split(",") if each and (why := wrong_flag(each))), "")
    if wrong := wrong or _wrong_quotas(flags.split(","), root.features):
        cause = f"rootflags={flags}: {wrong}."
        return fail(panic("root partition", "boot.rootflags", cause, lamps.stuck))
    return None


# values that ext4's options take (fs/ext4/super.c: ext4_param_specs, 6.1); those in none of these tables take none
_CHOICES = {
    "data": ("journal", "ordered", "writeback"),
    "errors": ("continue", "panic", "remount-ro"),
    "jqfmt": ("vfsold", "vfsv0", "vfsv1"),
}
_NUMBERS = frozenset(
    (
        "resgid",
        "resuid",
        "sb",
        "commit",
        "max_batch_time",
        "min_batch_time",
        "stripe",
        "journal_ioprio",
        "inode_readahead_blks",
    )
)
_MAY_HAVE_NUMBER = frozenset(("barrier", "auto_da_alloc", "init_itable"))
_TEXTS = frozenset(("usrjquota", "grpjquota"))
_PLAIN_QUOTAS = {"usrquota": "usrjquota", "grpquota": "grpjquota", "quota": "usrjquota", "prjquota": ""}


def _number(text: str) -> int | None:
    """kstrtouint() with base 0: 0x begins one of base 16, 0 one of base 8; None for none."""
    for form, base in ((r"0[xX][0-9a-fA-F]+", 16), (r"0[0-7]*", 8), (r"[1-9][0-9]{,20}", 10)):
        if re.fullmatch(form, text):
            return number if (number := int(text, base)) < 1 << 32 else None
    return None


def wrong_flag(option: str) -> str:
    """Why ext4 does not mount with an option, '' when it does."""
    name, equals, value = option.partition("=")
    if name not in _FLAGS:
        return f"ext4 knows no option {name}"
    if name in _CHOICES:
        return "" if value in _CHOICES[name] else f"{name} is one of {', '.join(_CHOICES[name])}"
    if name in _NUMBERS or (name in _MAY_HAVE_NUMBER and equals):
        number = _number(value)
        if number is None:
            return f"{name} takes a number"
        if name == "journal_ioprio" and number > 7:
            return "journal_ioprio is 0 to 7"
        if name == "inode_readahead_blks" and number & (number - 1):
            return "inode_readahead_blks is a power of two"
        return ""
    if name in _TEXTS and not equals:
        return f"{name} names a file"
    if name in _TEXTS and "/" in value:
        return f"the file of {name} is not at the top of the root"
    return f"{name} takes no value" if equals and name not in _TEXTS else ""


def _wrong_quotas(options: Sequence[str], features: frozenset[str]) -> str:
    """Why ext4 does not mount with these together, '' when it does (fs/ext4/super.c: ext4_check_quota_consistency)."""
    given: dict[str, str] = {}
    for option in options:
        name, _, value = option.partition("=")
        given[name] = value
        if name == "noquota":  # it takes back what came before it
            given = {kept: value for kept, value in given.items() if kept not in _PLAIN_QUOTAS}
    if "prjquota" in given and "project" not in features:
        return "prjquota needs a file system made for project quotas"
    if "quota" in features:
        return ""  # it keeps them itself, and leaves these out
    named = [name for name in ("usrjquota", "grpjquota") if given.get(name)]
    plain = [name for name, other in _PLAIN_QUOTAS.items() if name in given and other not in named]
    if named and plain:
        return f"{named[0]} and {plain[0]} cannot be combined"
    return f"{named[0]} needs jqfmt" if named and "jqfmt" not in given else ""


def root_remedy(bench: Bench) -> Remedy | None:
    """Name the partition that holds the system."""
    number = bench.contents.root_number
    if not number:
        return None
    device = f"/dev/sda{number}" if bench.build.medium == "disk" else f"/dev/mmcblk0p{number}"
    words = bench.build.boot.kernel_words
    after = [*(word for word in words if not word.startswith("root=")), f"root={device}"]
    if list(words) == after:
        return PUT_ON_CARD
    change = change_of("boot.kernel_words", after, " ".join(words) or "none", " ".join(after))
    return Remedy(label=f"Name {device}", changes=(change,))


def _word_remedy(bench: Bench, word: str) -> Remedy:
    words = bench.build.boot.kernel_words
    if word in words:
        return PUT_ON_CARD
    change = change_of("boot.kernel_words", [*words, word], " ".join(words) or "none", " ".join((*words, word)))
    return Remedy(label=f"Add {word}", changes=(change,))


def root_expansion(bench: Bench) -> Step:
    root, meant = root_of(bench), meant_root(bench)
    part = meant.partition if meant else None
    if root is None or part is None:
        return Step()
    if root.expanded or not bench.image.grows:
        if root.free >= LEAST_FREE:
            return Step()
        text = f"Only {show_bytes(root.free)} are free on the root: saves may be lost."
        return Step((Moment(text, bench.board.lamps.reading, 0.0),))
    if root.no_write:
        return Step((Moment("The root cannot grow: it is read-only.", bench.board.lamps.reading, 0.0),))
    room = bench.card_bytes - part.start
    if room <= part.size:
        return Step()
    text = f"Grows from {show_bytes(part.size)} to {show_bytes(room)}, then restarts."
    free, wanted = root.free + room - part.size, sum(game.size for game in bench.scan.ready) if bench.scan else 0
    moments = [Moment(text, bench.board.lamps.reading, room / EXPANSION_B_S, once=True)]
    if wanted > free:
        text = f"The games that are ready need {show_bytes(wanted)}; {show_bytes(free)} will be free."
        moments.append(Moment(text, bench.board.lamps.reading, 0.0))
    return Step(tuple(moments))
