"""Operation 10: parts, connections, capacity, and whether they fit together."""
