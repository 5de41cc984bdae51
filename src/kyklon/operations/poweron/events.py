"""What a bring-up says: moments, failures, the screen."""

from __future__ import annotations

from dataclasses import dataclass, field

from kyklon.catalogue.records import Rhythm
from kyklon.model.findings import Remedy

PUT_ON_CARD = Remedy(label="Copy this build's boot files to the card", changes=())


@dataclass(frozen=True)
class Event:
    """at_s: seconds since the switch. lamp: what the board's lamp does meanwhile."""

    at_s: float
    stage: str
    text: str
    lamp: Rhythm


@dataclass(frozen=True)
class Screen:
    """kind: black, out of range, text, crash, front end. lines: what can be read on it."""

    kind: str
    title: str
    lines: tuple[str, ...] = ()


BLACK = Screen("black", "Black screen", ("No signal",))


_OPERATIONS = {
    "plan": 10,
    "card": 20,
    "disk": 20,
    "boot": 30,
    "controls": 40,
    "picture": 50,
    "library": 60,
    "assembly": 80,
    "system": 20,
}


_ADVICE = {
    "controls.proof": "Fix what the wiring test found, and prove it again, in Controls, Live test",
    # code, or its beginning -> what to do where the build need not change
    "card.loader-partition": "Mark the boot partition to start from, or write the image again",
    "card.bundle-space": "Leave a system out, or use a larger card",
    "card.bundle": "Fix the bundle in Card, multi-boot, and copy it again",
    "card.": "Write the image again",
    "system.front-end": "Install or repair the front end on the card, or use another image",
    "system.": "Write the image again, or put that file right on the card",
    "boot.no-driver": "Name the initramfs of this kernel in the boot file (INITRD), or make one on the machine",
    "boot.initramfs-init": "Make the initramfs again on the machine, or write the image again",
    "boot.initramfs-damaged": "Make the initramfs again on the machine, or write the image again",
    "boot.initramfs": "Write the image again, or take INITRD out of the boot file",
    "boot.device-tree": "Write the image again",
    "boot.kernel-damaged": "Write the image again",
    "boot.line-too-long": "Take words out of the kernel command line",
    "boot.rootfstype": "Take rootfstype= out of the kernel command line",
    "boot.rootflags": "Take rootflags= out of the kernel command line",
    "boot.installer-network": "Choose the Wi-Fi country, in Boot",
    "boot.user": "Write the image again, or make the user in it",
    "boot.": "Put it right in Boot",
    "picture.chain": "Choose another socket, cable or adapter, in Plan",
    "picture.": "Choose a mode that the display shows, in Picture",
    "assembly.": "Choose a stronger power supply or a thicker cable, in Assembly",
    "controls.": "Put it right in Controls",
    "library.system-file-damaged": "Copy the firmware file again, from Library",
    "library.": "Put it right in Library",
    "plan.": "Put it right in Plan",
}


@dataclass(frozen=True)
class Failure:
    """code: that of the finding about the same thing. blocks: nothing after it happens."""

    stage: str
    code: str
    cause: str
    remedy: Remedy | None
    screen: Screen
    lamp: Rhythm
    blocks: bool = True

    @property
    def advice(self) -> str:
        """What to do, in words, also where no decision of the build puts it right."""
        if self.remedy is not None:
            return self.remedy.label
        return next(
            (words for word, words in _ADVICE.items() if self.code.startswith(word)), "See the operation it names"
        )

    @property
    def operation(self) -> int:
        """The operation where it is put right, as the code's first word tells; 0 for none."""
        return _OPERATIONS.get(self.code.partition(".")[0], 0)


@dataclass(frozen=True)
class Moment:
    """Something that goes well: what is told, the lamp meanwhile, and the seconds it takes. once: at the first start
    only."""

    text: str
    lamp: Rhythm
    seconds: float
    once: bool = False


@dataclass(frozen=True)
class Step:
    """What a stage comes to. hides_the_rest: what comes after cannot be judged."""

    moments: tuple[Moment, ...] = ()
    failures: tuple[Failure, ...] = ()
    hides_the_rest: bool = False


@dataclass(frozen=True)
class BringUp:
    """reached: the last stage that went well. failures: the first is what would be seen; the others were found
    by assuming that those before them are put right. assumed: what could not be seen, and how it was taken.
    sound: what will be heard, in words. again_s: seconds of every later start; None where none comes to its end."""

    reached: str
    events: tuple[Event, ...]
    failures: tuple[Failure, ...]
    screen: Screen
    games: dict[str, tuple[str, ...]] = field(default_factory=dict)
    assumed: tuple[str, ...] = ()
    sound: str = ""
    again_s: float | None = None

    @property
    def failure(self) -> Failure | None:
        return self.failures[0] if self.failures else None
