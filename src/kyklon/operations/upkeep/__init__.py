"""The machine after its first game: found, changed while it runs, its saves kept, its stick judged, updated."""
