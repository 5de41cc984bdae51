"""Operation 90: the first power-on, told from the bytes on the card."""
