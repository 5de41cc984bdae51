"""The open build and the work that goes on for it."""
