"""Kyklon: the bench book for building a retro games machine, from plan to power-on."""

import os

__version__ = "0.1.0"
RELEASE_DAY = "2026-12-01"  # of this version; tools/release.py sets both

# pydantic otherwise reads the metadata of every installed package at each start, in search of plug-ins; we have none
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
