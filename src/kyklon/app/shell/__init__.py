"""The frame of the window: bars, route card, findings, the open session and its jobs."""
