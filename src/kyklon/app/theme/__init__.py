"""Colours, type, the style sheet, lamps and icons, all from one token table."""
