"""Stand-ins that ship: the demo's drives and encoder. They can fail on purpose."""
