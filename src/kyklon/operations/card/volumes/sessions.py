"""What the first screen of a root really starts, followed from file to file: who is logged in on it by themselves, and
what their shell, X session or desktop then runs.

Sources: agetty(8), systemd.unit(5), bash(1) INVOCATION, dash(1), startx(1), xinit(1), the Desktop Entry Specification
1.5 and the Desktop Application Autostart Specification 0.5; the display managers' own words are common practice.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from kyklon.model.card import Session, Unit, User

_TTY = "getty@tty1"
_MANAGER = "display-manager"
_MOST_LINES, _DEEPEST = 400, 6  # of a script that is followed; scripts that start scripts
_START_X = re.compile(r"(?:\S*/)?(startx|xinit|sx)$")
_NOTHING = re.compile(
    r"(?:\S*/)?(?:\[|\[\[|test|echo|printf|export|set|unset|umask|cd|source|\.|alias|trap|read|true|false|:|return|exit|"
    r"if|then|else|elif|fi|for|do|done|while|until|case|esac|local|eval|shopt|PATH|ulimit|stty|tput|clear|sleep|mesg|"
    r"setterm|xset|xrandr|xsetroot|xrdb|xhost|dircolors|lesspipe|mkdir|rm|ln|touch|chmod|cat|id|tty|who|uname|hostname)$"
)  # words of a start-up script that show nothing
_FRONT = re.compile(r"(?:exec\s+|nice\s+(?:-n\s*\S+\s+)?|dbus-run-session\s+(?:--\s+)?|dbus-launch\s+(?:--\S+\s+)*)+")


@dataclass(frozen=True)
class Root:
    """What is looked at. text: of a file, '' for none; names: in a folder; there: whether a path is."""

    text: Callable[[str], str]
    names: Callable[[str], Iterable[str]]
    there: Callable[[str], bool]
    users: tuple[User, ...]


def of_systemd(pulled: dict[str, Unit], root: Root) -> Session | None:
    """Who is logged in by themselves where systemd starts the first console or a display manager, and what that runs;
    None where nobody is."""
    manager = pulled.get(_MANAGER)
    if manager is not None and manager.program is not None:
        return _of_manager(root)
    unit = pulled.get(_TTY)
    if unit is None or unit.program is None:
        return None
    name = _autologin(unit.command)
    return _of_login(name, _TTY, root) if name else None


def of_inittab(root: Root) -> Session | None:
    """The same of a line of /etc/inittab that holds the first console (inittab(5))."""
    for line in root.text("/etc/inittab").split("\n"):
        fields = line.split(":", 3)
        if line.startswith("#") or len(fields) < 4 or not re.search(r"\btty1\b", line):
            continue
        if name := _autologin(fields[3]):
            return _of_login(name, "inittab", root)
    return None


def _autologin(command: str) -> str:
    """The user that getty logs in without asking, '' for none."""
    match = re.search(r"(?:--autologin[= ]+|\s-a\s*)([\w.-]+)", command)
    return match[1] if match and "getty" in command else ""


def _of_login(name: str, unit: str, root: Root) -> Session:
    user = next((each for each in root.users if each.name == name), None)
    if user is None:
        return Session(unit, name, trouble=f"{unit} logs in {name}, a user that does not exist")
    for path in _profiles(user, root):
        found = _followed(path, user, root, 0)
        if found:
            return Session(unit, name, tuple(found))
    return Session(unit, name)


def _profiles(user: User, root: Root) -> list[str]:
    """The files that a login shell reads, in its order."""
    folder = "/etc/profile.d"
    shared = ["/etc/profile", *(f"{folder}/{name}" for name in sorted(root.names(folder)) if name.endswith(".sh"))]
    names = (".bash_profile", ".bash_login", ".profile") if user.shell.path.endswith("bash") else (".profile",)
    own = next((f"{user.home}/{name}" for name in names if root.there(f"{user.home}/{name}")), "")
    more = [f"{user.home}/.zprofile", f"{user.home}/.zlogin"] if user.shell.path.endswith("zsh") else []
    rc = f"{user.home}/.bashrc"
    if own and user.shell.path.endswith("bash") and re.search(r"\.bashrc\b", root.text(own)):
        more.append(rc)
    return [*shared, *([own] if own else []), *more]


def _followed(path: str, user: User, root: Root, depth: int) -> list[str]:
    """The files on the way from a start-up script to the last program that it runs, itself first; [] where it runs
    none."""
    if depth > _DEEPEST:
        return []
    last: list[str] = []
    for line in root.text(path).split("\n")[:_MOST_LINES]:
        program = _program_of(line, user)
        if not program:
            continue
        if _START_X.match(program):
            inner = _of_x(line, user, root, depth + 1)
            last = [path, *inner] if inner else last
        elif program.startswith("/") and root.there(program):
            deeper = _followed(program, user, root, depth + 1) if root.text(program).startswith("#!") else []
            last = [path, *(deeper or [program])]
        elif "/" not in program:
            place = next((f"{each}/{program}" for each in _PATH if root.there(f"{each}/{program}")), "")
            if place:
                last = [path, place]
        elif depth or re.match(r"\s*exec\b", line):  # named, and not there
            last = [path, program]
    return last


_PATH = ("/usr/local/bin", "/usr/bin", "/bin", "/usr/local/games", "/usr/games")  # a user's PATH, CP


def _program_of(line: str, user: User) -> str:
    """The program that a line of a shell script runs, with the user's home spelt out; '' for none."""
    words = line.strip()
    if not words or words.startswith("#"):
        return ""
    pieces = [word.strip() for word in re.split(r"&&|\|\||;|\bthen\b|\belse\b|\bdo\b", words)]
    for piece in reversed(pieces):
        rest = _FRONT.sub("", re.sub(r"^(?:\w+=\S*\s+)+", "", piece))
        first = rest.split(None, 1)[0].strip("\"'") if rest.split() else ""
        first = first.replace("${HOME}", user.home).replace("$HOME", user.home)
        first = f"{user.home}{first[1:]}" if first.startswith("~/") else first
        if first and re.fullmatch(r"[\w./+-]+", first) and not _NOTHING.match(first) and "=" not in first:
            return first
    return ""


def _of_x(line: str, user: User, root: Root, depth: int) -> list[str]:
    """What startx or xinit runs: the client that it is given, else the user's own list, else the system's."""
    match = re.search(r"(?:startx|xinit|sx)\s+(~/\S+|\$HOME/\S+|/\S+)", line)
    if match:
        client = match[1].replace("$HOME", user.home)
        client = f"{user.home}{client[1:]}" if client.startswith("~/") else client
        deeper = _followed(client, user, root, depth) if root.text(client).startswith("#!") else []
        return deeper or [client]
    for place in (f"{user.home}/.xinitrc", "/etc/X11/xinit/xinitrc", f"{user.home}/.xsession"):
        if root.there(place):
            found = _followed(place, user, root, depth)
            if found:
                return found
    return []


def _of_manager(root: Root) -> Session | None:
    """Whom a display manager logs in, and what starts in their session."""
    name = ""
    for path in _configurations(root):
        match = re.search(r"^\s*(?:autologin-user|AutomaticLogin|User|user)\s*=\s*([\w.-]+)", root.text(path), re.M)
        name = match[1] if match else name
    if not name:
        return None
    user = next((each for each in root.users if each.name == name), None)
    if user is None:
        return Session(_MANAGER, name, trouble=f"the display manager logs in {name}, a user that does not exist")
    for folder in (f"{user.home}/.config/autostart", "/etc/xdg/autostart"):
        for each in sorted(root.names(folder)):
            text = root.text(f"{folder}/{each}") if each.endswith(".desktop") else ""
            match = re.search(r"^Exec=(.+)$", text, re.M)
            if match and not re.search(r"^Hidden=true", text, re.M | re.I):
                program = _program_of(match[1], user)
                if "/" not in program:
                    program = next((f"{at}/{program}" for at in _PATH if root.there(f"{at}/{program}")), program)
                return Session(_MANAGER, name, (f"{folder}/{each}", program))
    return Session(_MANAGER, name)


def _configurations(root: Root) -> list[str]:
    found = ["/etc/lightdm/lightdm.conf", "/etc/gdm3/daemon.conf", "/etc/sddm.conf"]
    for folder in ("/etc/lightdm/lightdm.conf.d", "/usr/share/lightdm/lightdm.conf.d", "/etc/sddm.conf.d"):
        found += [f"{folder}/{name}" for name in sorted(root.names(folder))]
    return found
