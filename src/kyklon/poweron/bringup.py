"""Simulates the first power-on stage by stage, from the bytes on the card, the build and what is plugged in."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from kyklon.assembly.findings import findings as electrical_findings
from kyklon.assembly.power import budget
from kyklon.boot.issue import CardSettings, read_settings
from kyklon.boot.text import word_values, words
from kyklon.card.contents import CardContents
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Card, Dialect, Display, Encoder, Image
from kyklon.library.scan import Scan
from kyklon.library.transfer import OnMachine
from kyklon.model.build import Build
from kyklon.picture.edid import Edid
from kyklon.poweron import stages
from kyklon.poweron.events import BringUp, Event, Failure, Screen

BLACK = Screen("black", "Black screen", ("No signal",))


@dataclass(frozen=True)
class Bench:
    """All that the machine meets. settings: what its boot files say, None without a boot file."""

    build: Build
    catalogue: Catalogue
    board: Board
    image: Image
    display: Display | None
    encoder: Encoder | None
    card: Card | None
    contents: CardContents
    settings: CardSettings | None
    dialect: Dialect
    identification: Edid | None
    scan: Scan | None
    on_machine: OnMachine | None

    @property
    def read_bytes_s(self) -> float:
        """How fast the card is read, bytes per second."""
        return (self.card.read_mb_s if self.card else 20.0) * 1e6

    @property
    def kernel_name(self) -> str:
        """The kernel the boot file names, or the one the firmware looks for by itself."""
        if self.settings and self.settings.kernel_file:
            return self.settings.kernel_file
        native = [k.file for k in self.image.kernels if k.instruction_set == self.board.native_set]
        return native[0] if native else ""

    @property
    def kernel_line_words(self) -> tuple[str, ...]:
        """The firmware reads the first line only."""
        line = self.settings.kernel_line if self.settings else ""
        return words(line.split("\n")[0])

    def word_values(self, name: str) -> tuple[str, ...]:
        return word_values(" ".join(self.kernel_line_words), name)


def lay_out(
    build: Build,
    catalogue: Catalogue,
    contents: CardContents,
    *,
    identification: Edid | None = None,
    scan: Scan | None = None,
    on_machine: OnMachine | None = None,
) -> Bench:
    """Everything on the bench. Raises CatalogueError for a build without a known board, image or dialect."""
    board = catalogue.get(Board, build.part("board"))
    dialect = catalogue.get(Dialect, build.boot.dialect)
    return Bench(
        build=build,
        catalogue=catalogue,
        board=board,
        image=catalogue.get(Image, build.part("image")),
        display=catalogue.find(Display, build.part("display")),
        encoder=catalogue.find(Encoder, build.part("encoder")),
        card=catalogue.find(Card, build.part("card")),
        contents=contents,
        settings=read_settings(dialect, board, contents.texts),
        dialect=dialect,
        identification=identification,
        scan=scan,
        on_machine=on_machine,
    )


class _Run:
    """Collects events until the first failure that blocks, and failures to the end."""

    def __init__(self) -> None:
        self.at = 0.0
        self.events: list[Event] = []
        self.failures: list[Failure] = []
        self.reached = ""
        self.blocked = False

    def take(self, stage: str, step: stages.Step) -> None:
        if not self.blocked:
            for text, lamp, seconds in step.events:
                self.events.append(Event(round(self.at, 1), stage, text, lamp))
                self.at += seconds
        for failure in step.failures:
            if failure.blocks and not self.blocked:
                self.events.append(Event(round(self.at, 1), stage, failure.cause, failure.lamp))
                self.blocked = True
            self.failures.append(failure)
        if not self.blocked and (stage != "games" or not self.failures):
            self.reached = stage


def bring_up(bench: Bench) -> BringUp:
    """The whole power-on. Later failures are found by assuming that the earlier ones are put right; a stage that
    cannot be judged because an earlier one hides it is passed over."""
    run = _Run()
    for stage, step in _STEPS:
        outcome = step(bench)
        run.take(stage, outcome)
        if outcome.hides_the_rest:
            break
    games = stages.visible_games(bench)
    if run.blocked:
        screen = next(failure.screen for failure in run.failures if failure.blocks)
    else:
        screen = stages.front_end_screen(bench, games)
    reached = "front end" if run.reached == "games" else run.reached or "nothing"
    return BringUp(reached, tuple(run.events), tuple(run.failures), screen, games)


def _supply(bench: Bench) -> stages.Step:
    power = budget(bench.build, bench.catalogue)
    if power is None:
        return stages.Step(events=(("Switched on; the supply is not planned.", "on", 0.1),))
    weak = [found for found in electrical_findings(bench.build, bench.catalogue) if found.severity == "stop"]
    volts = power.board_v if power.board_v is not None else power.supply.volts
    if weak:
        cause = f"{volts:.2f} V at the board: it restarts as soon as it works hard."
        failure = Failure("supply", weak[0].code, cause, weak[0].remedy, BLACK, "blinks in pairs, restarts")
        return stages.Step(failures=(failure,))
    return stages.Step(events=((f"{volts:.2f} V at the board at {power.peak_a:.2f} A.", "power on, steady", 0.3),))


_STEPS: tuple[tuple[str, Callable[[Bench], stages.Step]], ...] = (
    ("supply", _supply),
    ("card", stages.card),
    ("partition table", stages.partition_table),
    ("boot partition", stages.boot_partition),
    ("boot file", stages.boot_file),
    ("kernel", stages.kernel),
    ("display", stages.display),
    ("kernel line", stages.kernel_line),
    ("root partition", stages.root_partition),
    ("root expansion", stages.root_expansion),
    ("services", stages.services),
    ("login", stages.login),
    ("controllers", stages.controllers),
    ("library", stages.library),
    ("front end", stages.front_end),
    ("games", stages.games),
)
