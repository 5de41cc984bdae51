"""The page and the drawings that only it uses."""
