"""The errors that Kyklon expects; everything else is a fault of the program.

KyklonError                says what happened, to what, and what to do
├── WrongUse               the caller asked for something that cannot be meant
├── FormatError            bytes or text that are not what they should be (offset, expected, got)
├── BuildFolderError       a build folder that cannot be read or saved
│   └── NewerBuild         written by a later version; left untouched
├── CatalogueError         a catalogue file with an unknown key, a doubled id or a dangling reference
├── ToolError              a system program that is missing, failed or took too long
├── Refused                the interlock's no, with its reasons
├── TargetError            a drive that could not be written or read as it should
│   ├── TargetLost         it went away in the middle
│   ├── TargetFull         it ended before the data did
│   ├── TargetAsleep       no answer in time: a hub or reader that went to sleep
│   ├── TargetLocked       it became read-only in the middle
│   ├── BadBlock           a place that cannot be written or read even when tried again
│   └── VerifyError        what was read back is not what was written
├── SourceError            an image that is truncated, corrupt or mislabelled
└── Cancelled              somebody pressed Cancel
"""

from __future__ import annotations


class KyklonError(Exception):
    """An expected error.

    what: one sentence on what happened and to what. do: what the user can do about it.
    """

    def __init__(self, what: str, *, do: str = "") -> None:
        self.what = what
        self.do = do
        super().__init__(f"{what} {do}".strip())


class WrongUse(KyklonError):
    """The request itself is wrong."""


class FormatError(KyklonError):
    """Data that does not follow its format."""

    def __init__(self, name: str, offset: int, *, expected: str, got: str, do: str = "") -> None:
        self.name, self.offset, self.expected, self.got = name, offset, expected, got
        super().__init__(f"{name}: at byte {offset} expected {expected}, got {got}.", do=do)


class BuildFolderError(KyklonError):
    """A build folder that cannot be read or saved."""


class NewerBuild(BuildFolderError):
    """A build saved by a later version of Kyklon."""


class CatalogueError(KyklonError):
    """A catalogue file that breaks the catalogue's rules."""


class ToolError(KyklonError):
    """A system program is missing, failed or took too long."""


class Refused(KyklonError):
    """The interlock does not allow this."""

    def __init__(self, reasons: tuple[str, ...], *, do: str = "") -> None:
        self.reasons = reasons
        super().__init__(" ".join(reasons), do=do)


class TargetError(KyklonError):
    """A drive did not do what it was asked."""


class TargetLost(TargetError):
    """The drive went away."""


class TargetFull(TargetError):
    """The drive ended before the data did."""


class TargetAsleep(TargetError):
    """The drive gives no answer but is still listed."""


class TargetLocked(TargetError):
    """The drive refuses writes."""


class BadBlock(TargetError):
    """One place of the drive fails. offset in bytes."""

    def __init__(self, what: str, offset: int, *, do: str = "") -> None:
        self.offset = offset
        super().__init__(what, do=do)


class VerifyError(TargetError):
    """Read-back differs from what was written. offset: where it first may differ, in bytes."""

    def __init__(self, what: str, offset: int = 0, *, do: str = "") -> None:
        self.offset = offset
        super().__init__(what, do=do)


class SourceError(KyklonError):
    """An image file is not usable."""


class Cancelled(KyklonError):
    """The user cancelled."""

    def __init__(self, what: str = "Cancelled.") -> None:
        super().__init__(what)
