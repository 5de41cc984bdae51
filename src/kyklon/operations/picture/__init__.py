"""Operation 50: timings, identification data, ranges, geometry, and what the display will make of them."""
