"""Outside judges of the forecast: a real boot loader and a real kernel, started with the card."""
