"""Operation 30: canonical boot settings compiled to a board's dialect, merged into what is on the card."""
