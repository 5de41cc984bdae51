"""Every kind of boot file by its name in the catalogue. A new kind is a module beside this one and a row here."""

from __future__ import annotations

from collections.abc import Callable

from kyklon.catalogue.records import DialectFile
from kyklon.operations.boot.dialects.codec import Codec
from kyklon.operations.boot.dialects.extlinux import Extlinux
from kyklon.operations.boot.dialects.lines_file import LinesFile
from kyklon.operations.boot.dialects.settings_file import SettingsFile
from kyklon.operations.boot.dialects.words_file import WordsFile

CODECS: dict[str, Callable[[DialectFile], Codec]] = {
    "settings": lambda file: SettingsFile(file.grammar),
    "words": lambda _file: WordsFile(),
    "lines": lambda _file: LinesFile(),
    "extlinux": lambda _file: Extlinux(),
}


def codec_of(file: DialectFile) -> Codec:
    """The codec of a file of a dialect."""
    return CODECS[file.kind](file)
