"""Kinds of boot files: a codec each, that compiles decisions into a file, reads them back, and explains its lines."""
