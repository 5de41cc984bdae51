"""Partition tables and file systems on a card or in an image, read without changing them."""
