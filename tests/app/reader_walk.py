"""Goes through Kyklon by AT-SPI alone, as a screen reader would: run by the system's Python with pyatspi.

Prints what it did; ends with 1 and a sentence when something cannot be found. Only names, roles and actions are used.
"""

import sys
import time

import pyatspi

SECONDS = 240


def tree(top):
    waiting = [top]
    while waiting:
        node = waiting.pop(0)
        if node is None:
            continue
        yield node
        try:
            if node.getRoleName() in ("table", "tree", "combo box", "menu") or not is_shown(node):
                continue
            waiting[:0] = [node.getChildAtIndex(number) for number in range(node.childCount)]
        except Exception:  # it went away while it was looked at
            continue


def is_shown(node):
    return node.getRole() == pyatspi.ROLE_APPLICATION or node.getState().contains(pyatspi.STATE_SHOWING)


def of_kyklon():
    desktop = pyatspi.Registry.getDesktop(0)
    for application in [desktop.getChildAtIndex(number) for number in range(desktop.childCount)]:
        if application is not None and application.name == "Kyklon":
            yield from tree(application)


def shown(node):
    states = node.getState()
    return states.contains(pyatspi.STATE_SHOWING) and states.contains(pyatspi.STATE_ENABLED)


def find(role, words, seconds=SECONDS, exact=False):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        for node in of_kyklon():
            try:
                same = node.name == words or (not exact and node.name.startswith(words))
                if node.getRoleName() == role and same and shown(node):
                    return node
            except Exception:
                continue
        time.sleep(0.3)
    there = sorted({f"{node.getRoleName()}: {node.name}" for node in of_kyklon() if node.name and shown(node)})
    raise SystemExit(f"No {role} {words!r}. There are: {there}")


def press(words, role="push button", exact=False):
    node = find(role, words, exact=exact)
    actions = node.queryAction()
    names = [actions.getName(number) for number in range(actions.nActions)]
    actions.doAction(names.index("Press"))
    print(f"pressed {node.name}", flush=True)


def says(words, seconds=SECONDS):
    """Wait until something on the screen says so."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        for node in of_kyklon():
            try:
                if words in node.name and node.getState().contains(pyatspi.STATE_SHOWING):
                    print(f"heard {node.name[:100]}", flush=True)
                    return True
            except Exception:
                continue
        time.sleep(0.3)
    return False


def main():
    press("20 Card")
    press("blank-card")
    press("Write to blank-card…")
    find("dialog", "")
    press("Write to blank-card", exact=True)
    if not says("Card written and proven"):
        raise SystemExit("The card was not written.")
    press("Run bring-up")
    for _ in range(8):
        press("90 Power-on")
        if not says("Preview:", 8):
            break
        press("Preview:")
        dialog = find("dialog", "What this changes")
        names = [node.name for node in tree(dialog) if node.getRoleName() == "push button"]
        whole = "Change the build and the card"
        press(whole if whole in names else "Change the build", exact=True)
        time.sleep(1)
        press("Run bring-up")
    press("60 Library")
    press("Transfer", "page tab")
    press("Copy 2")
    if not says("games copied"):
        raise SystemExit("The games were not copied.")
    press("Run bring-up")
    if not says("Switch on"):
        raise SystemExit("The forecast does not pass.")
    nameless = [
        node.getRoleName()
        for node in of_kyklon()
        if node.getRoleName() in ("push button", "check box", "combo box", "text", "spin button", "page tab")
        and not node.name
        and shown(node)
    ]
    if nameless:
        raise SystemExit(f"Without a name: {nameless}")
    print("The forecast passes.")


if __name__ == "__main__":
    try:
        main()
    finally:
        sys.stdout.flush()
