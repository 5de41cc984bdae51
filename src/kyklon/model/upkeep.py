"""A machine after its first game: where its files lie, and what was done to it."""

from __future__ import annotations

from typing import Literal

from kyklon.model.described import described
from kyklon.model.record import Record

HAPPENED = ("waited_for", "saves_at", "looked_at")  # fields that nobody decides: undo leaves them, the later counts


ExchangeWay = Literal["copy", "fresh", "disk"]


class UpkeepSettings(Record):
    """restart: the command that restarts it. waited_for: files whose change it has not come back from, '' paths
    apart. saves_at, looked_at: ISO 8601; when its saves were kept, and when it was looked at, '' for never.
    exchange_since: ISO 8601, '' where the card is not being exchanged; exchange_from: the old one's identity;
    exchange_ticks: what is ticked by hand of it."""

    boot_folder: str = described("Boot folder on the machine", "/boot", pattern=r"^(/[^\x00]{0,200})?$", hint="/boot")
    as_root: bool = described("Boot files through sudo", False)
    saves_folder: str = described(
        "Folder of saves on the machine", "", pattern=r"^(/[^\x00]{0,200})?$", hint="as the games"
    )
    restart: str = described(
        "Restart command", "sudo -n /sbin/reboot", pattern=r"^[^\x00\n]{0,200}$", hint="sudo -n /sbin/reboot"
    )
    comes_back_s: int = described("Waits for its return", 180, unit="s", ge=5, le=3600)
    waited_for: tuple[str, ...] = described("Changed before it stayed away", (), max_length=200)
    saves_at: str = described("Saves kept", "")
    looked_at: str = described("Looked at", "")
    exchange_by: ExchangeWay = described(
        "Card exchanged for",
        "copy",
        choices=(
            ("copy", "another card, as a copy"),
            ("fresh", "another card, written anew"),
            ("disk", "a disk on USB"),
        ),
    )
    exchange_since: str = described("Exchange begun", "")
    exchange_from: str = described("Card that is exchanged", "")
    exchange_ticks: tuple[str, ...] = described("Done by hand", (), max_length=20)

    def with_what_happened(self, present: UpkeepSettings) -> UpkeepSettings:
        """What was decided here, with what happened there."""
        return self.model_copy(update={name: getattr(present, name) for name in HAPPENED})
