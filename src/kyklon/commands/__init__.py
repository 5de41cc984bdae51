"""Every operation without a window: a module a noun."""
