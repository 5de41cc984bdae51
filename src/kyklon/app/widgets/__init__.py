"""Widgets and instruments; each shows plain values and reports what the user did by signals."""
