"""What cannot be written to the root from here: a script on the boot partition, which the image runs once at its first
start, and what it puts where.

Forms: wpa_supplicant.conf(5) with the key of IEEE 802.11i, annex M; systemd.network(5); keyboard(5), vconsole.conf(5);
authorized_keys in sshd(8), sshd_config(5); fstab(5) with mount.cifs(8); sudoers(5); crypt(5) with chpasswd(8);
smb.conf(5).
"""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass
from shlex import quote

from kyklon.catalogue.add_on_records import AddOn
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.records import Display
from kyklon.devices.secure_copy import SFTP_SERVERS
from kyklon.model.build import Build
from kyklon.model.card import (
    SETUP_DROP_IN,
    SETUP_NUMBERED,
    SETUP_RUNS,
    SETUP_SCRIPT,
    SETUP_SERVICE,
    SETUP_UNIT,
    RootFacts,
)
from kyklon.model.system import SystemSetup
from kyklon.operations.boot import add_ons
from kyklon.operations.card.volumes.openrc import RUNLEVELS
from kyklon.operations.picture.waking import COMMAND, script

HEAD = "#!/bin/sh\n# Written by Kyklon for this build; run once, as root, at first boot.\n"
HEAD_ON_ROOT = "#!/bin/sh\n# Written by Kyklon for this build; run once, as root, at the next boot.\n"
_HEAD_BY_HAND = """#!/bin/sh
# Written by Kyklon for this build; run it on the machine: sudo sh setup.sh
[ "$(id -u)" = 0 ] || { echo "Run it as root: sudo sh setup.sh" >&2; exit 1; }
"""


@dataclass(frozen=True)
class Part:
    """Some lines of the script. path: the decision behind them."""

    path: str
    text: str


def parts(
    build: Build, image: Image | None, display: Display | None = None, extra: tuple[AddOn, ...] = ()
) -> tuple[Part, ...]:
    """What the script does, decision by decision; nothing for an image that runs none. display: woken where it needs
    it. extra: add-ons that it installs."""
    return decided(build, image, display, extra) if image is not None and image.first_boot_script else ()


def by_hand(build: Build, image: Image | None, display: Display | None = None, extra: tuple[AddOn, ...] = ()) -> str:
    """The same for an image that runs no script of ours: one to be run on the machine, as root. It fetches the packages
    of add-ons where there is apt. '' where nothing is decided, or for an image that runs one by itself."""
    if image is None or image.first_boot_script or not image.has_system:
        return ""
    rows = decided(build, image, display, extra)
    packages = " ".join(dict.fromkeys(each for add_on in extra for each in add_on.packages))
    fetch = f"\nif command -v apt-get >/dev/null; then apt-get install -y {packages}; fi\n" if packages else ""
    return _HEAD_BY_HAND + fetch + "".join(f"\n{row.text}" for row in rows) if rows else ""


def on_root(
    build: Build,
    image: Image | None,
    root: RootFacts | None,
    display: Display | None = None,
    extra: tuple[AddOn, ...] = (),
) -> tuple[RootFile, ...]:
    """The same as files of the root, which set the machine up at its next start and restart it once: for an image that
    runs no script of the boot partition, and a root that something can be put on and that starts it. Nothing where
    nothing is decided, or was ever put there."""
    if image is None or image.first_boot_script or not image.has_system or root is None:
        return ()
    if not root.can_be_set_up:
        return ()
    rows = decided(build, image, display, extra)
    if not rows and SETUP_SCRIPT not in root.setup:
        return ()
    return (RootFile(SETUP_SCRIPT, _once(rows), 0o700), *starters(root.set_up_by))


def joined(
    build: Build, image: Image | None, manager: str, display: Display | None = None, extra: tuple[AddOn, ...] = ()
) -> tuple[RootFile, ...]:
    """For a machine that runs: what root_files() does not hold, because it is joined with what is there, as a script of
    its next start. Nothing where nothing of it is decided, or nothing would start it."""
    if image is None or not image.has_system or not manager:
        return ()
    # where the card's root has one too, it is the same one: neither way then undoes the other's
    whole = {f"system.{name}" for name in _root_files(build)} if image.first_boot_script else set()
    rows = tuple(row for row in decided(build, image, display, extra) if row.path not in whole)
    return (RootFile(SETUP_SCRIPT, _once(rows), 0o700), *starters(manager)) if rows else ()


def starters(manager: str) -> tuple[RootFile, ...]:
    """What starts the script on a root, by its manager of services: as RootFacts.set_up_by."""
    if manager == "systemd":
        return (
            RootFile(
                SETUP_UNIT,
                f"{_OURS}[Unit]\nDescription=Set up this build\n\n[Service]\nType=oneshot\nExecStart={SETUP_SCRIPT}\n",
            ),
            RootFile(SETUP_DROP_IN, f"{_OURS}[Unit]\nWants={SETUP_UNIT.rpartition('/')[2]}\n"),
        )
    if manager.startswith(RUNLEVELS):
        text = f"#!/sbin/openrc-run\n{_OURS}depend() {{\n\tafter *\n}}\n\nstart() {{\n\t{SETUP_SCRIPT}\n}}\n"
        entry = f"{manager}/{SETUP_SERVICE.rpartition('/')[2]}"
        return (RootFile(SETUP_SERVICE, text, 0o755), RootFile(entry, _OURS))
    if manager:
        text = f'#!/bin/sh\n{_OURS}[ "$1" = stop ] || exec {SETUP_SCRIPT}\n'
        return (RootFile(f"{manager}/{SETUP_NUMBERED}", text, 0o755),)
    return ()


def is_started(root: RootFacts) -> bool:
    """Whether the script on a root is started by what lies there."""
    found = starters(root.set_up_by)
    return bool(found) and all(root.setup.get(file.path) == file.text for file in found)


def was_run(root: RootFacts, text: str) -> bool:
    """Whether a script of this text has done its work on a root."""
    mark = _MARK.search(text)
    return mark is not None and mark[1] in root.setup_runs


def mode_of(path: str) -> int | None:
    """The rights of a file that on_root() gives; None for any other."""
    if path.endswith(f"/{SETUP_NUMBERED}"):
        return 0o755
    if path.startswith(RUNLEVELS) and path.endswith(SETUP_SERVICE.rpartition("/")[2]):
        return 0o644
    return {SETUP_SCRIPT: 0o700, SETUP_SERVICE: 0o755, SETUP_UNIT: 0o644, SETUP_DROP_IN: 0o644}.get(path)


_OURS = "# Written by Kyklon for this build.\n"
_MARK = re.compile(rf"{SETUP_RUNS}/([0-9a-f]{{16}})\b")


def _once(rows: tuple[Part, ...]) -> str:
    """A script that does its work once, whatever starts it how often, and restarts the machine then."""
    if not rows:
        return HEAD_ON_ROOT
    body = "".join(f"\n{row.text}" for row in rows)
    mark = f"{SETUP_RUNS}/{hashlib.sha256(body.encode()).hexdigest()[:16]}"
    # a root that keeps no mark must not restart for ever
    return (
        f"{HEAD_ON_ROOT}[ -e {mark} ] && exit 0\n{body}\n"
        f"mkdir -p {SETUP_RUNS} && : > {mark} && sync && {{ systemctl --no-block reboot || reboot; }} 2>/dev/null\n"
    )


def decided(build: Build, image: Image, display: Display | None, extra: tuple[AddOn, ...]) -> tuple[Part, ...]:
    """What a script of the machine does, decision by decision, whoever runs it."""
    setup, user = build.system, build.boot.user
    rows = (
        ("time_zone", _time_zone(setup.time_zone)),
        *((name, "".join(map(_file, files))) for name, files in _root_files(build).items()),
        ("remote_key", _remote(setup.remote_key, user)),
        ("password_hash", f"printf '%s\\n' {quote(f'{user}:{setup.password_hash}')} | chpasswd -e\n"),
        ("own_share", _own_share(image, user)),
        ("shares", "".join(map(_share, setup.shares))),
        ("add_ons", "".join(map(add_ons.lines, extra))),
        ("start_command", add_ons.start_line(setup.start_command)),
        ("library_links", "".join(map(_link, setup.library_links))),
    )
    found = tuple(Part(f"system.{name}", text) for name, text in rows if getattr(setup, name) and text)
    return (*found, *wake_parts(display))


@dataclass(frozen=True)
class RootFile:
    """A whole file of the machine's root. path: absolute."""

    path: str
    text: str
    mode: int = 0o644


def root_files(build: Build) -> tuple[RootFile, ...]:
    """The whole files that a build's settings become on the machine; not those that are joined with what is there."""
    found = _root_files(build)
    return tuple(file for name, files in found.items() if getattr(build.system, name) for file in files)


def _root_files(build: Build) -> dict[str, tuple[RootFile, ...]]:
    """By the decision behind them, whether it is made or not."""
    setup, user = build.system, build.boot.user
    layout = setup.keyboard
    network = wireless(setup, build.boot.country) if setup.wireless_name else ""
    return {
        "keyboard": (
            RootFile("/etc/default/keyboard", f'XKBLAYOUT="{layout}"\n'),
            RootFile("/etc/vconsole.conf", f"KEYMAP={layout}\n"),
        ),
        "wireless_name": (RootFile("/etc/wpa_supplicant/wpa_supplicant.conf", network, 0o600),),
        "wired": (RootFile("/etc/systemd/network/10-wired.network", wired(setup.wired)),),
        "remote_boot": (RootFile("/etc/sudoers.d/boot-files", boot_sudoers(user), 0o440),),
        "may_shut_down": (RootFile("/etc/sudoers.d/games", sudoers(user), 0o440),),
    }


def wake_parts(display: Display | None) -> tuple[Part, ...]:
    """What wakes a display at every start; nothing for one that is awake."""
    if display is None or display.waking is None:
        return ()
    return (Part("parts", _file(RootFile(COMMAND, script(display.waking), 0o755)) + add_ons.start_line(COMMAND)),)


def text_of(rows: tuple[Part, ...]) -> str:
    """The whole script."""
    return HEAD + "".join(f"\n{row.text}" for row in rows)


def is_ours(text: str) -> bool:
    """Whether a script was issued by this program."""
    return text.startswith(HEAD)


def _file(file: RootFile) -> str:
    return add_ons.whole_file(file.path, file.text, f"{file.mode:o}")


def _time_zone(zone: str) -> str:
    file = quote(f"/usr/share/zoneinfo/{zone}")
    return f"[ -f {file} ] && ln -sf {file} /etc/localtime\nprintf '%s\\n' {quote(zone)} > /etc/timezone\n"


def wireless(setup: SystemSetup, country: str) -> str:
    """A wpa_supplicant.conf. The name in hexadecimal, as every name may be written; the key as 64 digits."""
    key = f"\tpsk={setup.wireless_key}\n" if setup.wireless_key else "\tkey_mgmt=NONE\n"
    head = f"country={country}\n" if country else ""
    return (
        f"{head}ctrl_interface=/run/wpa_supplicant\nnetwork={{\n\tssid={setup.wireless_name.encode().hex()}\n{key}}}\n"
    )


def wired(words: str) -> str:
    """A systemd.network file of an address with its prefix and, perhaps, a gateway that answers names too."""
    address, _, gateway = words.partition(" ")
    further = f"Gateway={gateway}\nDNS={gateway}\n" if gateway else ""
    return f"[Match]\nName=en* eth*\n\n[Network]\nAddress={address}\n{further}"


def _remote(key: str, user: str) -> str:
    """By key only, and never as root."""
    home = f"$(awk -F: -v u={quote(user)} '$1 == u {{ print $6 }}' /etc/passwd)"
    rules = "PermitRootLogin no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n"
    return (
        f'home={home}\nif [ -d "$home" ]; then\n  mkdir -p "$home/.ssh"\n'
        f'  grep -qxF {quote(key)} "$home/.ssh/authorized_keys" 2>/dev/null ||'
        f" printf '%s\\n' {quote(key)} >> \"$home/.ssh/authorized_keys\"\n"
        f'  chmod 700 "$home/.ssh"\n  chmod 600 "$home/.ssh/authorized_keys"\n'
        f'  chown -R {quote(user)} "$home/.ssh"\nfi\n' + _file(RootFile("/etc/ssh/sshd_config.d/10-kyklon.conf", rules))
    )


def sudoers(user: str) -> str:
    """What lets the front end's menu shut the machine down."""
    return f"{user} ALL=(root) NOPASSWD: /sbin/poweroff, /sbin/reboot\n"


def boot_sudoers(user: str) -> str:
    """What lets a login reach the boot files: OpenSSH's transfer program as root, which is the whole machine."""
    return f"{user} ALL=(root) NOPASSWD: {', '.join(SFTP_SERVERS)}\n"


SHARE_HEAD = "[games]"


def share_section(image: Image, user: str) -> str:
    """The machine's own share of its games (smb.conf(5))."""
    top = "/" + image.games_path.partition("{folder}")[0].strip("/")
    rows = (f"path = {top}", "read only = no", "guest ok = no", f"valid users = {user}", f"force user = {user}")
    return "\n".join((SHARE_HEAD, *(f"   {row}" for row in rows))) + "\n"


def _own_share(image: Image, user: str) -> str:
    """Once, and only where Samba is there; its password is the user's own, which smbpasswd(8) asks for."""
    section = share_section(image, user)
    return (
        "if [ -f /etc/samba/smb.conf ] && ! grep -qxF '[games]' /etc/samba/smb.conf; then\n"
        f"  printf '\\n%s' {quote(section)} >> /etc/samba/smb.conf\n"
        "  systemctl enable smbd >/dev/null 2>&1 || update-rc.d smbd enable >/dev/null 2>&1 || :\nfi\n"
    )


def _share(words: str) -> str:
    """A share of the network under /games, mounted when it is there and never waited for."""
    source, _, place = words.partition("=")
    where = f"/games/{place or source.rsplit('/', 1)[-1]}"
    line = f"{source} {where} cifs guest,ro,nofail,_netdev 0 0"
    there = f"grep -q {quote('^' + re.escape(source) + ' ')} /etc/fstab 2>/dev/null"
    return f"mkdir -p {quote(where)}\n{there} || printf '%s\\n' {quote(line)} >> /etc/fstab\n"


def _link(words: str) -> str:
    """A library under the name that a program asks for, where only a later version is there."""
    name, _, there = words.partition("=")
    return (
        "for folder in /lib /usr/lib /lib/*-linux-* /usr/lib/*-linux-*; do\n"
        f'  [ -e "$folder/{there}" ] && [ ! -e "$folder/{name}" ] && ln -s {quote(there)} "$folder/{name}"\ndone\n'
    )
