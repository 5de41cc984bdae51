"""Displays that stay dark until they are spoken to over a bus: what is said, when in the start, and in which order the
power goes on.

A chassis that is woken over I2C answers only while it is wired and fed; before that every write ends in an error, which
is expected. i2cset is i2c-tools' (i2cset(8)): -y asks nothing, bus, address, register, value.
"""

from __future__ import annotations

from kyklon.catalogue.records import Display, Waking

COMMAND = "/usr/local/sbin/wake-display"
PROGRAMS = ("/usr/sbin/i2cset", "/usr/bin/i2cset", "/sbin/i2cset", "/bin/i2cset")  # where PATH finds it
EXPECTED = "Error: Write failed"  # what i2cset says while nothing answers at the address


def script(waking: Waking) -> str:
    """The program that wakes the display: tries until it answers, then says the sequence once. It never holds up the
    start for longer than `tries` allow, and ends well in any case."""
    lines = [
        "#!/bin/sh",
        f"# Wakes the display over {waking.bus}; written by Kyklon.",
        "tries=0",
        f"until {_set(waking, *waking.writes[0])}; do",
        "  tries=$((tries + 1))",
        f"  [ $tries -lt {waking.tries} ] || exit 0",
        "  sleep 0.5",
        "done",
    ]
    for register, value in waking.writes[1:]:
        lines += [f"sleep {waking.wait_ms / 1000:g}", _set(waking, register, value)]
    return "\n".join([*lines, "exit 0"]) + "\n"


def _set(waking: Waking, register: int, value: int) -> str:
    return f"i2cset -y {waking.number} {waking.address:#04x} {register:#04x} {value:#04x} 2>/dev/null"


def steps_of(display: Display) -> list[str]:
    """What a builder does in order, for a display that needs waking; nothing for another."""
    waking = display.waking
    if waking is None:
        return []
    wires = " and ".join(waking.wires)
    return [
        f"Wire {wires} between the header and {display.name} with everything off; grounds first.",
        f"Power up {display.name} {'before' if waking.supply_first else 'after'} the board.",
        f"Before it is wired, `i2cset` ends with “{EXPECTED}”: that is expected.",
    ]
