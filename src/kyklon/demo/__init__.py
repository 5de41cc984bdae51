"""Makes the demo builds: everything in them is invented, and the same every time."""
