"""Operation 70: emulator settings in layers, and the latency they add up to."""
