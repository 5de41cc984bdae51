"""Operation 20: image sources, what is on a card, the interlock, and the writer that obeys it."""
