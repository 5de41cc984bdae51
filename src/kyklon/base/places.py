"""Where a user's things live."""

from __future__ import annotations

from pathlib import Path

import platformdirs


def data_folder() -> Path:
    return platformdirs.user_data_path("kyklon")


def demo_folder(name: str) -> Path:
    return data_folder() / "demo" / name


def catalogue_folder() -> Path:
    """The user's own parts, layered over the shipped ones."""
    return platformdirs.user_config_path("kyklon") / "catalogue"


def cache_folder() -> Path:
    """What can be made again at any time."""
    return platformdirs.user_cache_path("kyklon")


def shelf_file() -> Path:
    """The shelf of images, shared by all builds; a demo brings its own."""
    return data_folder() / "shelf.json"
