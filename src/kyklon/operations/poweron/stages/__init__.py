"""The stages of a power-on. Each looks at the bytes it would meet and says what happens, or what goes wrong."""
