"""The codec of a boot file. A new kind is a module `<kind>_file` beside this one, and its name in
catalogue.text_records."""

from __future__ import annotations

from importlib import import_module

from kyklon.catalogue.text_records import DialectFile
from kyklon.operations.boot.dialects.codec import Codec


def codec_of(file: DialectFile) -> Codec:
    """The codec of a file of a dialect; the loader has let only known kinds through."""
    made: Codec = import_module(f"{__package__}.{file.kind}_file").codec(file)
    return made
