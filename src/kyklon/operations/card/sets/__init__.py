"""File sets: bare metal and multi-boot, checked before they go on a card or a stick."""
