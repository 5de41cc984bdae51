"""Kyklon: the bench book for building a retro games machine, from plan to power-on."""

__version__ = "0.1.0"
