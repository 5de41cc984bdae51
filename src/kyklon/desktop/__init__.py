"""Kyklon on a desktop: what this computer has for it, how it is found there, what it installs and takes away again."""
