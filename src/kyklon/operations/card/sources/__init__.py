"""Image files: what they are, how large once unpacked, their bytes and checksums."""
