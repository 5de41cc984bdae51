"""Operation 40: from a switch on the panel to an input of a game."""
