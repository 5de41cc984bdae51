"""Drives: the interlock, and all that goes through it: writing, proving, preparing, boot files; and backing up."""
