"""What was read from a card or an image: its table, its volumes, its boot files, what matters of its root."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from kyklon.base.quantities import show_bytes

LINUX = 0x83  # type byte of a Linux partition


@dataclass(frozen=True)
class Volume:
    """number 0: the whole drive without a table. kind: FAT32, FAT16, FAT12, ext4, … or '' for nothing known.

    uuid: as blkid(8) writes it. free and used in bytes, None where
    nobody tells. newest: date of the newest file or last write, ISO 8601.
    """

    number: int
    start: int
    size: int
    kind: str
    label: str = ""
    free: int | None = None
    newest: str = ""
    files: int | None = None
    uuid: str = ""

    @property
    def used(self) -> int | None:
        return None if self.free is None else self.size - self.free

    @property
    def words(self) -> str:
        """In one line for the screen."""
        name = f"“{self.label}” " if self.label else ""
        used = f", {show_bytes(self.used)} used" if self.used is not None else ""
        files = f", {self.files} files" if self.files else ""
        return f"{name}{self.kind or 'not recognised'}, {show_bytes(self.size)}{used}{files}"


@dataclass(frozen=True)
class KernelFile:
    """instruction_set: ARMv6, ARMv7, ARMv8; 'ARM 32-bit' when the set cannot be told; '' when it is no kernel.
    trouble: why it cannot be whole, '' when nothing speaks against it."""

    name: str
    size: int
    instruction_set: str
    trouble: str = ""


@dataclass(frozen=True)
class DeviceTree:
    """compatible: what the tree says that it is for, the closest first. trouble: why no kernel can use it."""

    name: str
    size: int
    compatible: tuple[str, ...] = ()
    trouble: str = ""


@dataclass(frozen=True)
class Program:
    """A file that is to be started. why: why a kernel cannot start it, '' when it can. machine: what its code is for:
    'ARM 32-bit', 'ARM 64-bit', 'x86-64', '' when that cannot be told. there: whether a file of that name exists.
    inodes: of the files that are run for it, itself and what runs it; rights: their paths, modes, owners and groups;
    folders: the same of the folders on the way to them.
    """

    path: str
    machine: str = ""
    why: str = ""
    there: bool = True
    inodes: tuple[int, ...] = ()
    rights: tuple[tuple[str, int, int, int], ...] = ()
    lacks: str = ""  # the library that its loader does not find, in words
    misses: tuple[str, ...] = ()  # what a script calls that is not there, in words
    endless: bool = False  # a script that loops for ever, as far as its text tells
    folders: tuple[tuple[str, int, int, int], ...] = ()

    @property
    def trouble(self) -> str:
        """Why it does not run on a machine of its kind, '' when it does."""
        return self.why or (f"{self.path} needs {self.lacks}" if self.lacks else "")

    def barred(self, user: int, group: int) -> str:
        """The file that this user may not run or, of a script, read, or the folder that he may not go through; '' when
        all is allowed (credentials(7), path_resolution(7))."""
        for path, mode, uid, gid in self.folders:
            if user and not mode >> (6 if uid == user else 3 if gid == group else 0) & 1:
                return path
        for index, (path, mode, uid, gid) in enumerate(self.rights):
            shift = 6 if uid == user else 3 if gid == group else 0
            wanted = 1 if index == len(self.rights) - 1 else 5
            if user and mode >> shift & wanted != wanted:
                return path
        return ""


@dataclass(frozen=True)
class User:
    """A line of /etc/passwd, with the number of its group. shell: as a program. home_why: why it is no home for this
    user, '' when it is one."""

    name: str
    number: int
    home: str
    shell: Program
    home_why: str = ""
    group: int = 0


@dataclass(frozen=True)
class Unit:
    """A service as its unit file describes it. program: None when it names none. foreground: what starts it waits for
    its end. requires, after, wants, before: names of others, without the ending .service. kind: its Type=, or target,
    masked, missing. default: it has the dependencies that every unit has. trouble: why it does not start whatever its
    program. user: that it runs as, '' for root. needs: paths that must be there. conditions: with their words.
    command: its ExecStart= as it stands."""

    name: str
    program: Program | None
    foreground: bool = False
    requires: tuple[str, ...] = ()
    after: tuple[str, ...] = ()
    wants: tuple[str, ...] = ()
    before: tuple[str, ...] = ()
    kind: str = "simple"
    default: bool = True
    trouble: str = ""
    user: str = ""
    needs: tuple[str, ...] = ()
    conditions: tuple[str, ...] = ()
    command: str = ""


@dataclass(frozen=True)
class Session:
    """Who is logged in without being asked, and what that starts. unit: what logs them in. user: by name. way: the
    files on the way, the program last; () where a prompt is all. trouble: why nobody is logged in after all."""

    unit: str
    user: str
    way: tuple[str, ...] = ()
    trouble: str = ""

    @property
    def program(self) -> str:
        """The path of what is started in the end, '' for none."""
        return self.way[-1] if self.way else ""


@dataclass(frozen=True)
class Mount:
    """A line of the table of file systems. checked: whether a start is to check it."""

    source: str
    where: str
    kind: str
    options: tuple[str, ...] = ()
    checked: bool = False


@dataclass(frozen=True)
class RootFacts:
    """What the bring-up needs to know of the root partition.

    cautions: what a kernel lets pass with a word in its log. no_write: why it can only be read, '' when it can be
    written; not_for_writing: why a kernel told to mount it for writing does not mount it at all.
    programs: by path, those that a start may meet. missing: folders a start needs that are not there. free in bytes.
    size: of its file system in bytes. features: those of "quota" and "project" that it has. recovers: whether a kernel
    replays its journal; it is read as it is afterwards. mounts: of its fstab; mounts_all: whether its init is a script
    that mounts them. journal_error: why no kernel mounts it unless it leaves the journal alone; unreplayed: as it is
    then. own_boot: texts in its own /boot, which a boot partition that is mounted there covers, by name in small
    letters. damaged: files whose bytes are not those that the image states. kinds: what a kernel mounts it as.
    """

    users: tuple[User, ...] = ()
    services: tuple[Unit, ...] = ()
    programs: Mapping[str, Program] = field(default_factory=dict)
    answers: Mapping[str, bool] = field(default_factory=dict)  # to what was asked of it, as kind:name
    release: str = ""
    expanded: bool = False
    first_started: bool = False  # the script of the first start was run
    pulled: Mapping[str, Unit] = field(default_factory=dict)  # all that systemd's default target pulls in, by name
    files: Mapping[str, int] = field(default_factory=dict)  # sizes below the folders that were asked for, from the root
    file_sums: Mapping[str, str] = field(default_factory=dict)  # SHA-256 of the small ones
    playlists: Mapping[str, str] = field(default_factory=dict)  # texts of those that end in .m3u
    sheets: Mapping[str, str] = field(default_factory=dict)  # texts of other small ones that name tracks
    ends: Mapping[str, tuple[bytes, bytes]] = field(default_factory=dict)  # first and last bytes of archives
    more_files: bool = False  # there are more than were looked at
    more_programs: bool = False  # the same of programs' libraries, and of scripts
    modular: Mapping[str, tuple[str, ...]] = field(default_factory=dict)  # drivers that a kernel release has as modules
    session: Session | None = None  # who is logged in without being asked, and what that starts
    numbered: tuple[str, ...] = ()  # services that scripts start, by number or by OpenRC, in order
    numbered_in: str = ""  # the folder of the last number, or of OpenRC's last runlevel
    setup: Mapping[str, str] = field(default_factory=dict)  # what Kyklon put there to set the machine up, by path
    setup_runs: tuple[str, ...] = ()  # marks of what it has done already
    cautions: tuple[str, ...] = ()
    no_write: str = ""
    not_for_writing: str = ""
    features: frozenset[str] = frozenset()
    recovers: bool = False
    mounts: tuple[Mount, ...] = ()
    mounts_all: bool = False
    journal_error: str = ""
    unreplayed: RootFacts | None = None
    own_boot: Mapping[str, str] = field(default_factory=dict)
    missing: tuple[str, ...] = ()
    free: int = 0
    size: int = 0
    damaged: tuple[str, ...] = ()
    kinds: tuple[str, ...] = ("ext4",)
    damaged_inodes: frozenset[int] = frozenset()
    uuid: str = ""
    label: str = ""
    stated: bool = False

    @property
    def can_be_set_up(self) -> bool:
        """Whether files can be put on it from here, and something there starts a script."""
        return bool(self.set_up_by) and not self.no_write

    @property
    def set_up_by(self) -> str:
        """What starts a script on it: "systemd", the folder of numbered scripts or of a runlevel; '' for nothing."""
        return "systemd" if "multi-user.target" in self.pulled else self.numbered_in

    def user(self, name: str) -> User | None:
        return next((user for user in self.users if user.name == name), None)

    def unit(self, name: str) -> Unit | None:
        return next((unit for unit in self.services if unit.name == name), None)


# on a root, what sets the machine up at its next start, for images that run no script of the boot partition
SETUP_SCRIPT = "/usr/local/sbin/kyklon-setup"
SETUP_UNIT = "/etc/systemd/system/kyklon-setup.service"
SETUP_DROP_IN = "/etc/systemd/system/multi-user.target.d/kyklon-setup.conf"
SETUP_NUMBERED = "S99kyklon-setup"  # in the folder of numbered scripts
SETUP_SERVICE = "/etc/init.d/kyklon-setup"  # of OpenRC; a file of its name in the runlevel has it started
SETUP_RUNS = "/var/lib/kyklon-setup"

UNFINISHED = ".new"  # ending of a boot file while it takes the place of the old one


@dataclass(frozen=True)
class Ramdisk:
    """An initramfs. whole: it was read to its end; only then has_init False says that there is none. firmware: files
    below /lib/firmware. trouble: why the kernel stops unpacking it, '' when it does not. init: what the kernel starts
    in it; others: what it tries after that. modules: the names of its modules by kernel release, with underscores.
    maker: the program that made it, '' for another. unpacked: its size in memory, in bytes. cannot_find: ways to name
    the root that its scripts cannot follow, each with why: LABEL, UUID, /dev/disk."""

    name: str
    size: int
    whole: bool = False
    has_init: bool = False
    firmware: Mapping[str, bytes] = field(default_factory=dict)
    trouble: str = ""
    init: Program | None = None
    others: tuple[Program, ...] = ()
    modules: Mapping[str, frozenset[str]] = field(default_factory=dict)
    maker: str = ""
    unpacked: int = 0
    cannot_find: Mapping[str, str] = field(default_factory=dict)

    @property
    def goes_on_to_root(self) -> bool:
        """Whether the kernel mounts root= by itself after it, as without one."""
        return bool(self.trouble or self.whole) and not self.has_init


@dataclass(frozen=True)
class CardContents:
    """Everything the firmware, the kernel and the services would meet, in that order.

    Each *_error is '' or says why that part could not be read. texts: boot files by lower-case path, bytes that are no
    UTF-8 as surrogates (PEP 383); names: the same paths as they are spelt. broken: files that could not be followed.
    trees: device trees. damaged: files whose bytes are not those that the card's own list of checksums states.
    digests: SHA-256 of small files, by lower-case path. boot_cautions: what fsck.fat would complain of. loader_error:
    why U-Boot would not read the boot partition. size: of the card in bytes. roots, root_errors: every partition as a
    kernel would take it for its root, by number; root: that of partition root_number, the first for Linux. not_read:
    why nothing was looked at, though nothing is known to be wrong. exact_names: the boot files are on ext4, which tells
    small letters from capitals.
    """

    table: PartitionTable | None = None
    table_error: str = ""
    volumes: tuple[Volume, ...] = ()
    sizes: Mapping[str, int] = field(default_factory=dict)
    texts: Mapping[str, str] = field(default_factory=dict)
    names: Mapping[str, str] = field(default_factory=dict)
    broken: tuple[str, ...] = ()
    not_read: str = ""

    @property
    def half_done(self) -> tuple[str, ...]:
        """Files whose exchange was cut short: gone, while their new contents lie beside, under UNFINISHED."""
        lower = {name.lower() for name in self.sizes}
        return tuple(
            name.removesuffix(UNFINISHED)
            for name in self.sizes
            if name.endswith(UNFINISHED)
            and name.removesuffix(UNFINISHED).lower() not in lower
            and not set("[]*?") & set(name)  # mtools would take these for patterns
        )

    @property
    def texts_meant(self) -> Mapping[str, str]:
        """The texts, with those of half-done exchanges under their own names."""
        meant = {
            name.lower(): self.texts[(name + UNFINISHED).lower()]
            for name in self.half_done
            if (name + UNFINISHED).lower() in self.texts
        }
        return {**self.texts, **meant}

    exact_names: bool = False
    kernels: tuple[KernelFile, ...] = ()
    programs: tuple[KernelFile, ...] = ()  # without a kernel's head: only loaders for bare metal start them
    trees: tuple[DeviceTree, ...] = ()
    ramdisks: tuple[Ramdisk, ...] = ()
    damaged: tuple[str, ...] = ()
    boot_cautions: tuple[str, ...] = ()
    digests: Mapping[str, str] = field(default_factory=dict)
    heads: Mapping[str, bytes] = field(default_factory=dict)
    loader_error: str = ""
    loader_broken: frozenset[str] = frozenset()
    size: int = 0
    roots: Mapping[int, RootFacts] = field(default_factory=dict)
    root_errors: Mapping[int, str] = field(default_factory=dict)
    boot_free: int = 0
    boot_error: str = ""
    boot_number: int = 0
    root: RootFacts | None = None
    root_error: str = ""
    root_number: int = 0
    fsck: tuple[str, ...] = ()  # what e2fsck would complain of on that root

    def kernel(self, name: str) -> KernelFile | None:
        return next((kernel for kernel in self.kernels if self.same(kernel.name, name)), None)

    def tree(self, name: str) -> DeviceTree | None:
        return next((tree for tree in self.trees if self.same(tree.name, name)), None)

    def ramdisk(self, name: str) -> Ramdisk | None:
        return next((each for each in self.ramdisks if self.same(each.name, name)), None)

    def has(self, name: str) -> bool:
        """Whether a file of that path is on the boot partition, on FAT in whatever case."""
        return name in self.sizes if self.exact_names else name.lower() in {size.lower() for size in self.sizes}

    def same(self, one: str, other: str) -> bool:
        """Whether two names are one there."""
        return one == other if self.exact_names else one.lower() == other.lower()


SECTOR = 512  # bytes; cards and sticks say so, whatever their flash does inside


FAT_TYPES = {0x0B, 0x0C, 0x0E, 0x06, 0x01, 0x04}


TYPE_WORDS = {
    0x0C: "FAT32",
    0x0B: "FAT32",
    0x0E: "FAT16",
    0x06: "FAT16",
    0x04: "FAT16",
    0x01: "FAT12",
    0x83: "Linux",
    0x82: "Linux swap",
    0x07: "exFAT or NTFS",
    0xEE: "GPT, protective",
    0x0F: "extended",
    0x05: "extended",
    0xEF: "EFI system",
}


GUID_WORDS = {  # UEFI 2.10, table 5.7; the others from sfdisk -T (util-linux)
    "c12a7328-f81f-11d2-ba4b-00a0c93ec93b": ("EFI system", 0x0C),
    "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7": ("basic data", 0x0C),
    "0fc63daf-8483-4772-8e79-3d69d8477de4": ("Linux", LINUX),
    "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f": ("Linux swap", 0x82),
    "21686148-6449-6e6f-744e-656564454649": ("BIOS boot", 0),
}


@dataclass(frozen=True)
class Partition:
    """number as Linux counts; start and size in bytes; kind: the type byte, for GPT that of the same use.

    guid, label and uuid (the partition's own): of GPT, '' else."""

    number: int
    kind: int
    start: int
    size: int
    active: bool
    guid: str = ""
    label: str = ""
    uuid: str = ""

    @property
    def word(self) -> str:
        if self.guid:
            return GUID_WORDS.get(self.guid, (f"type {self.guid[:8]}…", 0))[0]
        return TYPE_WORDS.get(self.kind, f"type {self.kind:02X}h")

    @property
    def end(self) -> int:
        return self.start + self.size

    @property
    def is_fat(self) -> bool:
        return self.kind in FAT_TYPES


EFI_SYSTEM = "c12a7328-f81f-11d2-ba4b-00a0c93ec93b"  # UEFI 2.10, 5.3.3


@dataclass(frozen=True)
class PartitionTable:
    """scheme: MBR, GPT or hybrid GPT. note: what is odd about it, '' when nothing is. second: read from the disk's
    end. reach: bytes that the disk of a GPT has at least."""

    disk_id: int
    partitions: tuple[Partition, ...]
    scheme: str = "MBR"
    note: str = ""
    second: bool = False
    reach: int = 0

    def looked_on(self) -> tuple[int, ...]:
        """The partitions on which a loader by labels looks, in its order: those marked to start from, else the first
        (U-Boot: distro boot, part_dos.c and part_efi.c, is_bootable)."""
        marked = tuple(
            part.number
            for part in self.partitions
            if (part.kind and part.active) or part.guid == EFI_SYSTEM or (not part.guid and part.kind == 0xEF)
        )
        return marked or (1,)

    def boot(self) -> Partition | None:
        """The first FAT partition, from which a board's own firmware starts."""
        return next((part for part in self.partitions if part.is_fat), None)

    def root(self) -> Partition | None:
        """The first Linux partition."""
        return next((part for part in self.partitions if part.kind == LINUX), None)

    @property
    def end(self) -> int:
        """The byte behind the last partition."""
        return max((part.end for part in self.partitions), default=SECTOR)
