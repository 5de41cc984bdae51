"""The overlays' files on the boot partition."""

from __future__ import annotations

from kyklon.catalogue.text_records import Dialect
from kyklon.model.build import Build


def overlay_files(build: Build, dialect: Dialect) -> tuple[str, ...]:
    """The overlays' files on the boot partition."""
    if not dialect.overlays:
        return ()
    return tuple(f"{dialect.overlays}/{word.partition(':')[0]}.dtbo" for word in build.boot.overlays)
