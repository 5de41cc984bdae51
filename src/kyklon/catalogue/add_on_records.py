"""Add-ons: small programs beside the games, such as a fan's, a wake-up tool or a shutdown watcher."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from kyklon.catalogue.records import CataloguePart, Inside
from kyklon.model.record import Record

# of a program, a module, a library, a kernel module, a package, a user or a group: what none of them has is left out
Word = Annotated[str, Field(pattern=r"^[A-Za-z0-9_][A-Za-z0-9_.+-]{0,63}$")]
Command = Annotated[str, Field(pattern=r"^(/[^\x00-\x1f\x7f\"'`$\\]{1,198})?$")]
MOST_TEXT = 32 << 10  # characters of a file


class AddOnFile(Record):
    """path: from the root. text: all of it. mode: as chmod(1) has it."""

    path: Inside
    text: str = Field(default="", max_length=MOST_TEXT)
    mode: str = Field(default="0644", pattern=r"^0?[0-7]{3}$")


class AddOn(CataloguePart):
    """files: that it brings. programs, modules (of Python), libraries (by soname), drivers (kernel modules): what it
    needs and does not bring; packages: what brings them on a system with apt. command: what is started, with its
    arguments; '' for its first file. starts: as a service at every start, once, or by hand. user: '' for root; groups:
    further ones of that user. network: it waits for one. restarts: it is started again when it ends. minutes: of
    installing it, least and most. origin: where it comes from."""

    files: tuple[AddOnFile, ...] = Field(default=(), max_length=20)
    programs: tuple[Word, ...] = ()
    modules: tuple[Word, ...] = ()
    libraries: tuple[Word, ...] = ()
    drivers: tuple[Word, ...] = ()
    packages: tuple[Word, ...] = ()
    command: Command = ""
    starts: Literal["service", "once", "by hand"] = "service"
    user: Word | Literal[""] = ""
    groups: tuple[Word, ...] = ()
    network: bool = False
    restarts: bool = False
    minutes: tuple[float, float] = (1.0, 5.0)
    origin: str = Field(default="", max_length=300)

    @property
    def started(self) -> str:
        """The command line that starts it, '' for what is started by nothing."""
        first = next((f"/{each.path.lstrip('/')}" for each in self.files if int(each.mode, 8) & 0o100), "")
        return "" if self.starts == "by hand" else self.command or first

    @property
    def questions(self) -> tuple[str, ...]:
        """What to ask a root for it, each as kind:name (card.volumes.root_answers)."""
        rows = (
            *(("program", each) for each in self.programs),
            *(("module", each) for each in self.modules),
            *(("library", each) for each in self.libraries),
            *(("driver", each) for each in self.drivers),
            *(("group", each) for each in self.groups),
            *((("user", self.user),) if self.user else ()),
            *(("file", f"/{each.path.strip('/')}") for each in self.files),
        )
        return tuple(f"{kind}:{name}" for kind, name in rows)

    @model_validator(mode="after")
    def _lies_well(self) -> AddOn:
        for each in self.files:
            if not each.path.strip("/").startswith(("usr/", "etc/", "opt/", "home/", "var/", "srv/")):
                raise ValueError(f"{each.path}: an add-on's files lie below usr, etc, opt, home, var or srv")
        if len({each.path.strip("/") for each in self.files}) < len(self.files):
            raise ValueError("two of its files have the same path")
        return self
