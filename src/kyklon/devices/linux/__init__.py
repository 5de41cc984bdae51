"""The real thing on Linux: block devices as util-linux tells them, input devices through evdev."""
