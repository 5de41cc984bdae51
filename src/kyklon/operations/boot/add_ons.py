"""Add-ons of a build: what they ask of a root, and how they are put onto a machine.

Forms: systemd.service(5), systemd.exec(5), modules-load.d(5), su(1).
"""

from __future__ import annotations

from shlex import quote

from kyklon.catalogue.add_on_records import AddOn
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build

QUESTIONS = {"program": "the program", "module": "the Python module", "library": "the library", "driver": "the driver"}


def of_build(build: Build, catalogue: Catalogue) -> tuple[AddOn, ...]:
    """The build's add-ons that the catalogue knows."""
    found = (catalogue.find(AddOn, each) for each in build.system.add_ons)
    return tuple(each for each in found if each is not None)


def lacking(add_on: AddOn, answers: dict[str, bool]) -> tuple[str, ...]:
    """What a root does not have of what an add-on needs, in words; its own files are none of it."""
    found = []
    for each in add_on.questions:
        kind, _, name = each.partition(":")
        if kind != "file" and answers.get(each) is False:
            found.append(f"{kind} {name}" if kind in ("user", "group") else f"{QUESTIONS[kind]} {name}")
    return tuple(found)


def there(add_on: AddOn, answers: dict[str, bool]) -> bool:
    """Whether all its files lie on the root already."""
    paths = [each for each in add_on.questions if each.startswith("file:")]
    return bool(paths) and all(answers.get(each) for each in paths)


def lines(add_on: AddOn) -> str:
    """What puts an add-on onto a machine, as lines of a shell script that root runs; running it again changes nothing
    more."""
    made = [whole_file(f"/{each.path.strip('/')}", each.text, each.mode) for each in add_on.files]
    if add_on.drivers:
        made.append(
            whole_file(f"/etc/modules-load.d/{add_on.id}.conf", "".join(f"{each}\n" for each in add_on.drivers))
        )
    if add_on.started:
        made.append(_service(add_on))
    return "".join(made)


def unit_name(add_on: AddOn) -> str:
    return f"{add_on.id}.service"


def unit(add_on: AddOn) -> str:
    """Its unit file."""
    rows = [f"[Unit]\nDescription={add_on.name.replace('%', '%%')}"]
    rows += ["Wants=network-online.target\nAfter=network-online.target"] if add_on.network else []
    once = add_on.starts == "once"
    rows += [f"\n[Service]\nType={'oneshot' if once else 'simple'}", f"ExecStart={add_on.started.replace('%', '%%')}"]
    rows += [f"User={add_on.user}"] if add_on.user else []
    rows += [f"SupplementaryGroups={' '.join(add_on.groups)}"] if add_on.groups else []
    rows += ["Restart=always\nRestartSec=5"] if add_on.restarts and not once else []
    return "\n".join([*rows, "\n[Install]\nWantedBy=multi-user.target"]) + "\n"


def _service(add_on: AddOn) -> str:
    """Started by systemd where that runs (sd_booted(3)), else from /etc/rc.local, beside whatever runs."""
    place = f"/etc/systemd/system/{unit_name(add_on)}"
    wanted = f"/etc/systemd/system/multi-user.target.wants/{unit_name(add_on)}"
    line = add_on.started if not add_on.user else f"su -s /bin/sh {add_on.user} -c {quote(add_on.started)}"
    return (
        "if [ -d /run/systemd/system ]; then\n"
        f"{whole_file(place, unit(add_on))}"
        f"mkdir -p {wanted.rpartition('/')[0]}\nln -sf {place} {wanted}\n"
        f"systemctl daemon-reload && systemctl --no-block restart {unit_name(add_on)} || :\n"
        f"else\n{start_line(f'{line} &')}fi\n"
    )


def whole_file(path: str, text: str, mode: str = "0644") -> str:
    """Lines that write a file. The word that ends it is one that no line of it is."""
    end, number = "KYKLON", 1
    while end in text.split("\n"):
        number += 1
        end = f"KYKLON{number}"
    where, folder = quote(path), quote(path.rpartition("/")[0])
    body = text if text.endswith("\n") or not text else f"{text}\n"
    return f"mkdir -p {folder}\ncat > {where} <<'{end}'\n{body}{end}\nchmod {mode.lstrip('0') or '0'} {where}\n"


def start_line(command: str) -> str:
    """A line of /etc/rc.local before its last exit, where nothing behind it is reached."""
    line = quote(command)
    return (
        "[ -f /etc/rc.local ] || printf '#!/bin/sh -e\\nexit 0\\n' > /etc/rc.local\n"
        f"grep -qxF -e {line} /etc/rc.local || {{\n"
        "  last=$(grep -n '^exit' /etc/rc.local | tail -n 1 | cut -d: -f1)\n"
        f"  {{ head -n $((${{last:-1000000}} - 1)) /etc/rc.local; printf '%s\\n' {line}; "
        '[ -z "$last" ] || tail -n +$last /etc/rc.local; } > /etc/rc.local.new\n'
        "  chmod 755 /etc/rc.local.new && mv /etc/rc.local.new /etc/rc.local\n}\n"
    )
