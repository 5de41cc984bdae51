"""Operation 60: what of a games folder will play, why the rest will not, and the way onto the machine."""
