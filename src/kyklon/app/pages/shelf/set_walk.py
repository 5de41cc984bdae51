"""Learning a multi-boot chooser from bundles that work with it, and a bare-metal layout from an unpacked set."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QLayout, QWidget

from kyklon.app.pages.shelf.file_walk import ImageWalk
from kyklon.app.widgets.basic import Choice, button, label, row
from kyklon.parts import bare_metal
from kyklon.parts.draft import Draft
from kyklon.record.folder import resolve


class _FolderWalk(ImageWalk):
    """what: as `learning` calls it. asks: the title of the folder's dialog."""

    what = ""
    asks = ""
    findings = "Findings in the folder"

    def of_build(self) -> str:
        """The build's own folder of this kind, '' for none."""
        raise NotImplementedError

    def sources(self) -> tuple[QWidget, ...]:
        """Override."""
        made: list[QWidget] = [button("Choose a folder…", self._ask_folder, "outline")]
        if own := self.of_build():
            folder = resolve(self.session.folder, own)
            made.append(button(f"This build's: {folder.name}", lambda: self.read(folder)))
        return tuple(made)

    def _ask_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(self, self.asks, str(self.session.folder))
        if path:
            self.read(Path(path))

    def read(self, folder: Path) -> None:
        """Learn from a folder."""
        self.learn_from(self.what, folder)

    def show_draft(self, draft: Draft | None) -> None:
        """Override."""
        self.found.show_rows(draft.about if draft else ())


class ChooserWalk(_FolderWalk):
    kind = "choosers"
    title = "Learn a multi-boot chooser"
    what = "chooser"
    asks = "The stick, or the folder of its bundles"
    first = (
        "Choose a stick, or a folder of bundles, that works with the chooser. Its manifests tell their own format: "
        "each key is recognised by its values. Nothing is changed."
    )
    empty = "Its manifests, their keys, and what they come to appear here."

    def of_build(self) -> str:
        """Override."""
        return self.session.build.sets.multi_boot


class SetWalk(_FolderWalk):
    kind = "bare_metal"
    title = "Learn a bare-metal layout"
    what = "bare-metal"
    asks = "The folder of the unpacked set"
    first = (
        "Choose the folder of an unpacked set that works. Kernels are recognised by their bytes; the firmware files of "
        "each machine are kept by name, size and checksum. Learn its image first."
    )
    empty = "Its kernels and machines appear here."

    def hints(self) -> tuple[QLayout, ...]:
        """Override: another place of its machines, where the likeliest is wrong."""
        self._folder: Path | None = None
        self.places = Choice(self.theme, "Machines lie at", self._on_place)
        self.places.set_choices((("", "found by itself"),), "")
        return (row(label("Machines lie at", "small"), self.places, 1, spacing=8),)

    def of_build(self) -> str:
        """Override."""
        return self.session.build.sets.bare_metal

    def read(self, folder: Path) -> None:
        """Override."""
        self._folder = folder
        self._learn_at("")

    def _on_place(self, template: str) -> None:
        if self._folder is not None:
            self._learn_at(template)

    def _learn_at(self, template: str) -> None:
        folder, catalogue = self._folder, self.session.catalogue
        assert folder is not None

        def done(found: tuple[Draft, tuple[str, ...]]) -> None:
            draft, able = found
            at = template or next(iter(able), "")
            self.places.set_choices(tuple((each, each) for each in able) or (("", "nowhere"),), at)
            self.take(draft)

        self.learn(
            f"Learning from {folder.name}",
            lambda _watch: bare_metal.learn_and_places(folder, catalogue, template),
            done,
        )
