"""The window. Qt lives here and nowhere below; nothing is computed here that a command would need."""
