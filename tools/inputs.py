"""Real input devices, in a virtual machine: the kernel's own uinput makes them, the evdev back end listens.

Two-player nodes, axes of 0 to 255, hats, two devices of a kind, permissions, a flood, and plugs pulled half-way. As
tools/sticks.py: a Debian kernel and a small root with this tree in it under qemu-system-x86_64.

Usage: .venv/bin/python tools/inputs.py KERNEL.deb
"""

from __future__ import annotations

import json
import sys
import tempfile
import time
from pathlib import Path

from sticks import MOST_S, Machine, make_root

PACKAGES = "python3,util-linux,mount,kmod,udev,procps"
MODULES = ("uinput", "evdev", "joydev")

GUEST = r"""
import json, os, sys, time
sys.path.insert(0, "/kyklon/site")
sys.path.insert(0, "/kyklon/src")

def say(word, **told):
    print("@@" + json.dumps({"word": word, **told}), flush=True)

say("up")
from evdev import AbsInfo, UInput, ecodes
from kyklon.catalogue.loader import load
from kyklon.catalogue.records import Encoder
from kyklon.catalogue.system_records import Panel
from kyklon.devices.linux.inputs import LinuxInputs
from kyklon.model.controls import ControlSettings
from kyklon.operations.controls.levers import Axis
from kyklon.operations.controls.mapping import wire_in_order
from kyklon.operations.controls.reports import Listener
from kyklon.operations.controls.rig import Device, Rig, from_panel
from kyklon.operations.controls.sources import PluggedSource

catalogue = load()
wrong = 0

def check(what, seen, wanted):
    global wrong
    wrong += seen != wanted
    say("right" if seen == wanted else "WRONG", what=what, seen=seen, wanted=wanted)

def rig_of(*ids):
    devices, first = [], 1
    for number, name in enumerate(ids, 1):
        encoder = catalogue.get(Encoder, name)
        devices.append(Device("encoder" if number == 1 else f"encoder-{number}", encoder, first))
        first += encoder.players
    layout = from_panel(catalogue.get(Panel, "cocktail-pair"))
    bare = Rig(layout, tuple(devices), ControlSettings(panel="cocktail-pair"))
    return Rig(layout, bare.devices, ControlSettings(panel="cocktail-pair", wires=wire_in_order(bare)))

def node(encoder, player, phys):
    own = [t.event for t in encoder.terminals if t.player == player]
    keys = sorted({ecodes.ecodes[each] for each in own if each[-1] not in "+-"})
    axes = sorted({ecodes.ecodes[each[:-1]] for each in own if each[-1] in "+-"})
    low, high = encoder.axis
    can = {ecodes.EV_KEY: keys}
    if axes:
        ends = {a: (-1, 1) if a >= 0x10 else (low, high) for a in axes}
        can[ecodes.EV_ABS] = [(a, AbsInfo((ends[a][0] + ends[a][1] + 1) // 2, *ends[a], 0, 0, 0)) for a in axes]
    ids = {"vendor": encoder.vendor, "product": encoder.product, "version": encoder.version}
    return UInput(can, name=encoder.device_name, phys=phys, **ids)

def settle():
    time.sleep(0.5)
    os.system("udevadm settle")

def send(ui, kind, code, value):
    ui.write(kind, code, value)
    ui.syn()
    time.sleep(0.03)

def codes(source):
    return [[role, event.player, event.code, event.value, event.raw] for role, event in source.poll().events]

inputs = LinuxInputs()
pair = catalogue.get(Encoder, "tackle-pair")
rig = rig_of("tackle-pair")
one, two = node(pair, 1, "usb-0000:00:04.0-1/input0"), node(pair, 2, "usb-0000:00:04.0-1/input0")
settle()
source = PluggedSource(inputs, rig)
check("two nodes of one socket are two players", source.attach(inputs.list()),
      ("Tackle Pair is plugged in, player 1 of it.", "Tackle Pair is plugged in, player 2 of it."))
send(two, ecodes.EV_KEY, ecodes.BTN_THUMB, 1)
send(two, ecodes.EV_KEY, ecodes.BTN_THUMB, 0)
send(one, ecodes.EV_ABS, ecodes.ABS_Y, -1)
send(one, ecodes.EV_ABS, ecodes.ABS_Y, 0)
check("presses of both players", codes(source),
      [["encoder", 1, "ABS_Y", -1, -1], ["encoder", 1, "ABS_Y", 0, 0],
       ["encoder", 2, "BTN_THUMB", 1, None], ["encoder", 2, "BTN_THUMB", 0, None]])
listener = Listener()
send(one, ecodes.EV_KEY, ecodes.BTN_TRIGGER, 1)
two.close()
time.sleep(0.3)
heard = source.poll()
for role, event in heard.events:
    listener = listener.heard(role, event)
check("a plug pulled while another button is held", [list(heard.said), len(listener.active)],
      [["Tackle Pair went away. Plug it in again; what it told is kept."], 1])
two = node(pair, 2, "usb-0000:00:04.0-1/input0")
settle()
check("plugged in again", source.attach(inputs.list()), ("Tackle Pair is plugged in, player 2 of it.",))
said, counts, start = [], [], time.monotonic()
for turn in range(20000):
    one.write(ecodes.EV_KEY, ecodes.BTN_TRIGGER, turn % 2)
    one.syn()
    if turn % 25 == 0:
        heard = source.poll()
        counts.append((time.monotonic(), len(heard.events)))
        said += heard.said
        if said or time.monotonic() - start > 20:
            break
most = max(sum(n for at, n in counts if 0 <= end - at <= 1.0) for end, _n in counts)
check("a flood is shut out as soon as it is one", bool(said), most > 3900)
say("flood", said=said, heard_in_a_second=most)
source.attach(())
one.close()
one = node(pair, 1, "usb-0000:00:04.0-1/input0")
settle()
source.attach(inputs.list())
source.poll()
for turn in range(3001):  # nobody reads: the kernel drops what its buffer does not hold
    one.write(ecodes.EV_KEY, ecodes.BTN_THUMB, (turn + 1) % 2)
    one.syn()
listener = Listener()
for _turn in range(20):
    for role, event in source.poll().events:
        listener = listener.heard(role, event)
check("after events were dropped what is held is known", [each.event for each in listener.active], ["BTN_THUMB"])
source.close()
one.close(); two.close()

pad = catalogue.get(Encoder, "thole-air")
rig = rig_of("thole-air", "thole-pad")
air, hat = node(pad, 1, "aa:bb"), node(catalogue.get(Encoder, "thole-pad"), 1, "usb-0000:00:04.0-2/input0")
settle()
source = PluggedSource(inputs, rig)
said = source.attach(inputs.list())
check("a pad with axes of 0 to 255 and one with a hat", len(said), 2)
axis = Axis("encoder", "ABS_X")
for value in (0, 128, 255, 128):
    send(air, ecodes.EV_ABS, ecodes.ABS_X, value)
for role, event in source.poll().events:
    axis = axis.heard(event)
limits = axis.limits
check("its axis", [limits.low, limits.rest, limits.high], [0, 128, 255])
send(hat, ecodes.EV_ABS, ecodes.ABS_HAT0X, 1)
send(hat, ecodes.EV_ABS, ecodes.ABS_HAT0X, 0)
check("its hat", codes(source), [["encoder-2", 1, "ABS_HAT0X", 1, 1], ["encoder-2", 1, "ABS_HAT0X", 0, 0]])
source.close()

nodes = [each.identity for each in inputs.list()]
for each in nodes:
    os.chmod(each, 0o600)
child = os.fork()
if child == 0:
    os.setgid(65534); os.setuid(65534)
    barred = LinuxInputs().barred()
    os._exit(0 if set(nodes) <= set(barred) and LinuxInputs().list() == () else 1)
check("nodes that may not be read are named", os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), 0)

air.close(); hat.close()
twelve = catalogue.get(Encoder, "tackle-12")
rig = rig_of("tackle-12", "tackle-12")
late, early = node(twelve, 1, "usb-0000:00:04.0-1.2/input0"), node(twelve, 1, "usb-0000:00:04.0-1.1/input0")
settle()
places = [{"role": "encoder", "x": 0, "y": 0, "port": "pci-0000:00:04.0-usb-0:1.1:1.0"},
          {"role": "encoder-2", "x": 0, "y": 0, "port": "pci-0000:00:04.0-usb-0:1.2:1.0"}]
settings = ControlSettings.model_validate(rig.settings.model_dump() | {"places": places})
source = PluggedSource(inputs, Rig(rig.layout, rig.devices, settings))
source.attach(inputs.list())
button = next(each.event for each in twelve.terminals if each.event.startswith("BTN_"))
send(late, ecodes.EV_KEY, ecodes.ecodes[button], 1)
check("two of a kind go by the socket, not by the order", [each[0] for each in codes(source)], ["encoder-2"])
say("end", wrong=wrong)
os.sync()
"""


def main() -> None:
    kernel = Path(sys.argv[1])
    begun = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="inputs-") as held:
        work = Path(held)
        machine = Machine(*make_root(kernel, work, "0", GUEST, MODULES, PACKAGES), work)
        try:
            for told in machine.words():
                word = told.pop("word")
                print(f"{time.monotonic() - begun:6.0f} s  {word} {json.dumps(told)[:400]}", flush=True)
                if word in ("end", "failed") or time.monotonic() - begun > MOST_S:
                    break
        finally:
            machine.process.terminate()
            machine.process.wait()


if __name__ == "__main__":
    main()
