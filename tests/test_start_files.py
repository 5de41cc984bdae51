"""What a root starts by itself: units, templates and conditions of systemd.unit(5), and logins followed to what they
start (agetty(8), bash(1), startx(1), Desktop Application Autostart Specification)."""

from __future__ import annotations

from collections.abc import Iterable

import pytest

from kyklon.model.card import Program, Session, Unit, User
from kyklon.operations.card.volumes import openrc, sessions
from kyklon.operations.card.volumes.start_order import Systemd, numbered

SYSTEM, OWN = "/lib/systemd/system", "/etc/systemd/system"
GETTY = "[Service]\nExecStart=-/sbin/agetty -o '-p -- \\\\u' --noclear %I $TERM\nType=idle\n"
LOGIN = "[Service]\nExecStart=\nExecStart=-/sbin/agetty --autologin player --noclear %I $TERM\n"
GAME = "/opt/menu/start"


class Tree:
    """A root in memory. files: text by path; links: where a path leads."""

    def __init__(self, files: dict[str, str], links: dict[str, str] | None = None, shell: str = "/bin/bash") -> None:
        self.files, self.links = files, links or {}
        self.users = (User("player", 1000, "/home/player", Program(shell)),)

    def text(self, path: str) -> str:
        path = self.links.get(path, path)
        return self.files.get(path, "")

    def names(self, folder: str) -> Iterable[str]:
        below = f"{folder}/"
        every = (*self.files, *self.links)
        return sorted({path.removeprefix(below).split("/")[0] for path in every if path.startswith(below)})

    def there(self, path: str) -> bool:
        return any(each == path or each.startswith(f"{path}/") for each in (*self.files, *self.links))

    def units(self) -> dict[str, Unit]:
        manager = Systemd(
            self.text, self.names, lambda path: self.links.get(path, ""), lambda path: Program(path), self.there
        )
        return manager.units()

    def session(self) -> Session | None:
        return sessions.of_systemd(self.units(), sessions.Root(self.text, self.names, self.there, self.users))


def with_units(more: dict[str, str], wants: str = "game.service") -> Tree:
    files = {f"{SYSTEM}/default.target": f"[Unit]\nWants={wants}\n", **more}
    return Tree(files)


def test_an_instance_is_made_from_its_template() -> None:
    tree = with_units({f"{SYSTEM}/getty@.service": GETTY}, "getty@tty1.service")
    unit = tree.units()["getty@tty1"]
    assert unit.program == Program("/sbin/agetty")
    assert "--noclear tty1 $TERM" in unit.command
    tree.files[f"{OWN}/getty@tty1.service.d/own.conf"] = LOGIN
    assert "--autologin player" in tree.units()["getty@tty1"].command
    tree.files[f"{OWN}/getty@.service.d/all.conf"] = "[Service]\nUser=%i-%p\n"
    assert tree.units()["getty@tty1"].user == "tty1-getty"
    assert with_units({}, "system.slice").units()["system.slice"].kind == "slice"
    assert with_units({}, "nothing@1.service").units()["nothing@1"].kind == "missing"


@pytest.mark.parametrize(
    ("conditions", "why"),
    [
        ("ConditionPathExists=/there", ""),
        ("ConditionPathExists=!/there", "ConditionPathExists=!/there does not hold"),
        ("ConditionPathExists=/gone", "ConditionPathExists=/gone does not hold"),
        ("ConditionPathExists=|/gone\nConditionPathExists=|/there", ""),  # one of those marked | is enough
        ("ConditionPathExists=|/gone\nConditionPathExists=|!/there", "none of its conditions marked | holds"),
        ("ConditionPathExists=|/there\nConditionPathExists=/gone", "ConditionPathExists=/gone does not hold"),
        ("ConditionPathExists=|/gone\nConditionKernelCommandLine=|quiet", ""),  # only the running system tells
        ("ConditionPathExists=/run/started", ""),
        ("ConditionFileNotEmpty=/lib/modules/%v/list", ""),
        ("ConditionFileNotEmpty=/lib/modules/%v/none", "ConditionFileNotEmpty=/lib/modules/%v/none does not hold"),
        ("ConditionPathExists=/home/%u/x", ""),
    ],
)
def test_conditions_are_read_as_the_manual_has_them(conditions: str, why: str) -> None:
    tree = with_units({f"{OWN}/game.service": f"[Unit]\n{conditions}\n[Service]\nExecStart={GAME}\n", "/there": "x"})
    tree.files["/lib/modules/6.1.0/list"] = "x"
    assert tree.units()["game"].trouble == why


HOME = "/home/player"


@pytest.mark.parametrize(
    ("files", "way"),
    [
        ({f"{HOME}/.profile": f"exec {GAME}\n"}, (f"{HOME}/.profile", GAME)),
        (
            {f"{HOME}/.bash_profile": f"exec {GAME}\n", f"{HOME}/.profile": "exec /bin/other\n"},
            (f"{HOME}/.bash_profile", GAME),
        ),
        ({f"{HOME}/.profile": f'if [ "$(tty)" = /dev/tty1 ]; then exec {GAME}; fi\n'}, (f"{HOME}/.profile", GAME)),
        (
            {f"{HOME}/.profile": f'[ -z "$DISPLAY" ] && [ "$XDG_VTNR" = 1 ] && exec {GAME}\n'},
            (f"{HOME}/.profile", GAME),
        ),
        ({f"{HOME}/.profile": f"# exec /bin/x\nexport A=b\ncd /\n{GAME} >/tmp/log 2>&1\n"}, (f"{HOME}/.profile", GAME)),
        ({f"{HOME}/.profile": ". ~/.bashrc\n", f"{HOME}/.bashrc": f"LANG=C {GAME}\n"}, (f"{HOME}/.bashrc", GAME)),
        ({"/etc/profile.d/10-game.sh": f"exec {GAME}\n"}, ("/etc/profile.d/10-game.sh", GAME)),
        (
            {f"{HOME}/.profile": "exec startx -- -nocursor\n", f"{HOME}/.xinitrc": f"xset -dpms\nexec {GAME}\n"},
            (f"{HOME}/.profile", f"{HOME}/.xinitrc", GAME),
        ),
        (
            {
                f"{HOME}/.profile": f"startx {HOME}/run.sh\n",
                f"{HOME}/run.sh": "#!/bin/sh\n$HOME/go\n",
                f"{HOME}/go": "\x7fELF",
            },
            (f"{HOME}/.profile", f"{HOME}/run.sh", f"{HOME}/go"),
        ),
        ({f"{HOME}/.profile": "exec menu\n", "/usr/bin/menu": "\x7fELF"}, (f"{HOME}/.profile", "/usr/bin/menu")),
        ({f"{HOME}/.profile": "exec /opt/gone\n"}, (f"{HOME}/.profile", "/opt/gone")),
        ({f"{HOME}/.profile": "export PATH=/opt:$PATH\n"}, ()),
        ({}, ()),
    ],
)
def test_a_login_is_followed_to_what_it_starts(files: dict[str, str], way: tuple[str, ...]) -> None:
    units = {f"{SYSTEM}/getty@.service": GETTY, f"{OWN}/getty@tty1.service.d/a.conf": LOGIN, GAME: "\x7fELF"}
    tree = with_units({**units, **files}, "getty@tty1.service")
    found = tree.session()
    assert found == Session("getty@tty1", "player", way)
    assert found.program == (way[-1] if way else "")


def test_a_login_by_nobody_and_one_of_somebody_unknown() -> None:
    tree = with_units({f"{SYSTEM}/getty@.service": GETTY}, "getty@tty1.service")
    assert tree.session() is None
    tree.files[f"{OWN}/getty@tty1.service.d/a.conf"] = LOGIN.replace("player", "nobody-here")
    found = tree.session()
    assert found is not None
    assert "does not exist" in found.trouble


def test_a_script_that_starts_itself_ends() -> None:
    units = {f"{SYSTEM}/getty@.service": GETTY, f"{OWN}/getty@tty1.service.d/a.conf": LOGIN}
    loop = {f"{HOME}/.profile": f"{HOME}/again\n", f"{HOME}/again": f"#!/bin/sh\n{HOME}/again\n"}
    found = with_units({**units, **loop}, "getty@tty1.service").session()
    assert found is not None
    assert found.program == f"{HOME}/again"


def test_a_display_manager_and_an_inittab() -> None:
    files = {
        f"{SYSTEM}/display-manager.service": "[Service]\nExecStart=/usr/sbin/dm\n",
        "/etc/lightdm/lightdm.conf": "[Seat:*]\nautologin-user=player\n",
        f"{HOME}/.config/autostart/game.desktop": f"[Desktop Entry]\nExec={GAME} --full\n",
        GAME: "\x7fELF",
    }
    found = with_units(files, "display-manager.service").session()
    assert found == Session("display-manager", "player", (f"{HOME}/.config/autostart/game.desktop", GAME))
    tree = Tree(
        {
            "/etc/inittab": "1:2345:respawn:/sbin/agetty -a player 38400 tty1\n",
            f"{HOME}/.profile": f"exec {GAME}\n",
            GAME: "\x7fELF",
        }
    )
    root = sessions.Root(tree.text, tree.names, tree.there, tree.users)
    assert sessions.of_inittab(root) == Session("inittab", "player", (f"{HOME}/.profile", GAME))


def test_the_run_level_of_the_inittab_counts() -> None:
    folders = {"/etc/rcS.d": ["S01mount"], "/etc/rc2.d": ["S02two", "K01old"], "/etc/rc5.d": ["S03five"]}

    def names(folder: str) -> list[str]:
        return folders.get(folder, [])

    assert [name for name, _path in numbered(names)] == ["mount", "two"]
    table = "# remark\nid:5:initdefault:\nsi::sysinit:/etc/init.d/rcS\n"
    assert [name for name, _path in numbered(names, lambda path: table if path == "/etc/inittab" else "")] == [
        "mount",
        "five",
    ]


def test_what_openrc_starts_and_in_which_order() -> None:
    """The words of depend() as openrc-run(8) has them; 98 worlds drawn at random and started by OpenRC 0.45 itself had
    the same services."""
    script = "#!/sbin/openrc-run\ncommand=/usr/bin/x\n\ndepend() {\n%s\n}\n"
    header = "#!/bin/sh\n### BEGIN INIT INFO\n# Provides: late\n# Required-Start: $all net\n### END INIT INFO\n"
    files = {
        "/etc/init.d/game": script % "\tneed net\n\tafter sound # need nothing\n\tuse gone",
        "/etc/init.d/wifi": script % "\tprovide net\n\twant dbus",
        "/etc/init.d/dbus": script % "\tbefore wifi; after *bad$",
        "/etc/init.d/sound": script % "\tafter dbus",
        "/etc/init.d/aaa": script % "\tafter *",
        "/etc/init.d/late": header,
        "/etc/init.d/idle": script % "",
        "/etc/init.d/one": script % "\tneed two",
        "/etc/init.d/two": script % "\tneed one",
    }
    levels = {"sysinit": ["two"], "default": ["aaa", "game", "late", "sound", "gone"]}

    def names(folder: str) -> list[str]:
        if folder == openrc.SCRIPTS:
            return [path.rpartition("/")[2] for path in files]
        return levels.get(folder.rpartition("/")[2], [])

    order = [name for name, _path in openrc.services("default", names, lambda path: files.get(path, ""))]
    assert sorted(order[:2]) == ["one", "two"]  # a ring is cut, and both are started
    assert order.index("dbus") < order.index("wifi") < order.index("game") < order.index("aaa")
    assert order.index("sound") < order.index("game")
    assert order.index("wifi") < order.index("late")
    assert set(order) == {"one", "two", "dbus", "wifi", "sound", "game", "aaa", "late"}
    brace = {"/etc/init.d/game": "depend()\n{\n\tneed wifi\n}\nneed dbus\n"}  # on a line of its own; outside is no word
    order = [name for name, _path in openrc.services("default", names, lambda path: (files | brace).get(path, ""))]
    assert order.index("wifi") < order.index("game")
    for word in ("depend() {\n", "depend()\n", openrc._HEADER):  # nothing is gone through again and again
        openrc._depend(word * 200_000)


@pytest.mark.parametrize(
    ("table", "wrapper", "init", "level"),
    [
        ("::sysinit:/sbin/openrc boot\n::wait:/sbin/openrc -q arcade\n", "", "", "arcade"),
        ("# ::wait:/sbin/openrc default\nl2:2:wait:/etc/init.d/rc 2\n", "exec /sbin/openrc default", "", "default"),
        ("l2:2:wait:/etc/init.d/rc 2\n", "# exec /sbin/openrc default", "", ""),
        ("", "", "/sbin/openrc-init", "default"),
        ("", "", "/bin/busybox", ""),
    ],
)
def test_the_runlevel_is_what_init_asks_openrc_for(table: str, wrapper: str, init: str, level: str) -> None:
    files = {"/etc/inittab": table, "/etc/init.d/rc": wrapper}
    assert openrc.level_of(lambda path: files.get(path, ""), lambda path: path == "/sbin/openrc", init) == level
    assert openrc.level_of(lambda path: files.get(path, ""), lambda _path: False, init) == ""
