"""The build folder, the logbook and undo."""
