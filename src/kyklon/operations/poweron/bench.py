"""All that the machine meets when it is switched on."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Card, Dialect, Display, Encoder, Image
from kyklon.model.build import Build
from kyklon.model.card import CardContents
from kyklon.model.display import Edid
from kyklon.model.kernel_line import word_values, words
from kyklon.model.library import OnMachine, Scan
from kyklon.model.world import World
from kyklon.operations.boot.read import CardSettings, read_settings


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


UNSEEN = World()


def lay_out(build: Build, catalogue: Catalogue, contents: CardContents, world: World = UNSEEN) -> Bench:
    """Everything on the bench. world: the display, the library and the games on the machine are taken from it.

    Raises CatalogueError for a build without a known board, image or dialect.
    """
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
        identification=world.identification,
        scan=world.scan,
        on_machine=world.on_machine,
    )
