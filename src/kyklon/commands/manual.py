"""Manual pages (man(7)) and shell completion, made from the same texts as --help."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Iterator
from dataclasses import dataclass
from importlib import import_module

from kyklon import RELEASE_DAY, __version__
from kyklon.base.errors import WrongUse
from kyklon.base.quantities import counted
from kyklon.commands.line import parser_of
from kyklon.commands.listing import COMMANDS, Command
from kyklon.desktop.files import SUMMARY

SHELLS = ("bash", "zsh", "fish")
EXIT_CODES = (
    ("0", "OK"),
    ("1", "Stops were found, or what was asked for is not so."),
    ("2", "Wrong usage."),
    ("3", "It failed; standard error says why and what to do."),
    ("130", "Ended by Ctrl+C."),
)


@dataclass(frozen=True)
class Line:
    """One argument or option. names: as typed; one in capitals is an argument. value: what it takes, '' for none."""

    names: tuple[str, ...]
    value: str
    help: str
    needed: bool

    @property
    def is_option(self) -> bool:
        return self.names[0].startswith("-")


@dataclass(frozen=True)
class Described:
    """A command as its --help describes it. usage: without the word 'usage:'. told: paragraphs below its first line."""

    command: Command
    usage: str
    told: str
    lines: tuple[Line, ...]


def described(command: Command) -> Described:
    """Reads it from the command's own parser, and imports its module for that."""
    module, name = command.place
    parser = parser_of(getattr(import_module(f"kyklon.commands.{module}"), name), f"kyklon {command.name}")
    rows = []
    for action in parser._actions:  # argparse tells them nowhere else
        if isinstance(action, argparse._HelpAction):
            continue
        taken = "" if action.nargs == 0 else str(action.metavar or action.dest.upper())
        names = tuple(action.option_strings) or (taken,)
        needed = action.required and action.nargs != "?"
        rows.append(Line(names, taken if action.option_strings else "", str(action.help or ""), needed))
    usage = " ".join(parser.format_usage().removeprefix("usage: ").split())
    told = (parser.description or "").partition("\n")[2].strip()
    return Described(command, usage, told, tuple(rows))


# --- man pages ---------------------------------------------------------------------------------------------------


def manual_pages() -> dict[str, str]:
    """By file name: kyklon.1 and one page a command."""
    pages = {"kyklon.1": _first_page()}
    for command in COMMANDS:
        pages[f"{page_name(command)}.1"] = _page(described(command))
    return pages


def page_name(command: Command) -> str:
    return f"kyklon-{command.name.replace(' ', '-')}"


def _roff(text: str) -> str:
    """Plain text as troff takes it: no character starts a request or an escape."""
    out = (
        text.replace("\\", "\\e").replace("-", "\\-").replace("'", "\\(aq").replace("`", "\\(ga").replace("~", "\\(ti")
    )
    out = out.replace("^", "\\(ha")
    return "\n".join(f"\\&{line}" if line.startswith((".", "\\(aq")) else line for line in out.split("\n"))


def _head(name: str) -> str:
    return f'.TH {name.upper()} 1 {RELEASE_DAY} "Kyklon {__version__}" "Kyklon"\n.nh\n.ad l'


def _exit_codes() -> Iterator[str]:
    yield ".SH EXIT STATUS"
    for code, words in EXIT_CODES:
        yield from (".TP", f".B {code}", _roff(words))


def _page(row: Described) -> str:
    name = page_name(row.command)
    lines = [_head(name), ".SH NAME", f"{_roff(name)} \\- {_roff(_lower(row.command.what))}"]
    lines += [".SH SYNOPSIS", f".B {_roff(row.usage)}", ".SH DESCRIPTION", _roff(row.command.what)]
    for paragraph in row.told.split("\n\n") if row.told else ():
        lines += [".PP", _roff(" ".join(paragraph.split()))]
    for title, options in (("ARGUMENTS", False), ("OPTIONS", True)):
        rows = [line for line in row.lines if line.is_option is options]
        if rows or options:
            lines.append(f".SH {title}")
        for line in rows:
            taken = f" \\fI{_roff(line.value)}\\fR" if line.value else ""
            heads = ", ".join(f"\\fB{_roff(name)}\\fR{taken}" for name in line.names)
            said = line.help or ("Needed." if line.needed else "")
            lines += [".TP", heads, _roff(said) if said else "\\&"]
        if options:
            lines += [".TP", "\\fB\\-h\\fR, \\fB\\-\\-help\\fR", "Show this help and exit."]
    lines += _exit_codes()
    lines += [".SH SEE ALSO", ".BR kyklon (1)"]
    return "\n".join(lines) + "\n"


def _lower(text: str) -> str:
    """The first line of a help as man(7) wants a name's description: no full stop, no capital."""
    plain = text.rstrip(".")
    return plain[:1].lower() + plain[1:] if plain[1:2].islower() else plain


def _first_page() -> str:
    lines = [_head("kyklon"), ".SH NAME", f"kyklon \\- {_roff(_lower(SUMMARY))}", ".SH SYNOPSIS"]
    lines += [".B kyklon", "\\fICOMMAND\\fR [\\fIOPTIONS\\fR] ...", ".SH DESCRIPTION"]
    lines += [
        "Everything that the window of Kyklon does can be done by a command.",
        _roff("`kyklon start` opens the window on its first page, `kyklon open FOLDER` on a build."),
        "With \\fB\\-\\-json\\fR a command prints one JSON document and nothing else.",
        ".SH COMMANDS",
    ]
    for command in COMMANDS:
        lines += [".TP", f"\\fB{_roff(command.name)}\\fR", _roff(command.what)]
    lines += _exit_codes()
    lines += [".SH ENVIRONMENT"]
    for name, words in (
        ("XDG_DATA_HOME", "Where builds of the demo and the shelf of images are kept."),
        ("XDG_CONFIG_HOME", "Where your own parts are kept."),
        ("XDG_CACHE_HOME", "Where is kept what can be made again."),
        ("QT_QPA_PLATFORM", "The back end of the window: wayland, xcb, offscreen."),
    ):
        lines += [".TP", f".B {name}", _roff(words)]
    return "\n".join(lines) + "\n"


# --- completion --------------------------------------------------------------------------------------------------


def completion(shell: str) -> str:
    """A completion script. shell: one of SHELLS. Raises WrongUse for another."""
    if shell not in SHELLS:
        raise WrongUse(f"There is no completion for {shell!r}.", do=f"There is one for {', '.join(SHELLS)}.")
    return {"bash": _bash, "zsh": _zsh, "fish": _fish}[shell]([described(command) for command in COMMANDS])


def _nouns() -> dict[str, list[Command]]:
    """First words, with the commands of each."""
    found: dict[str, list[Command]] = {}
    for command in COMMANDS:
        found.setdefault(command.name.split()[0], []).append(command)
    return found


def _options(row: Described) -> list[str]:
    return [name for line in row.lines if line.is_option for name in line.names] + ["--help"]


def _bash(rows: list[Described]) -> str:
    nouns = _nouns()
    seconds = [
        f"    {noun}) words='{' '.join(c.name.split()[1] for c in below if ' ' in c.name)}' ;;"
        for noun, below in nouns.items()
        if any(" " in command.name for command in below)
    ]
    options = [f"    '{row.command.name}') words='{' '.join(_options(row))}' ;;" for row in rows]
    return "\n".join(
        [
            "# bash completion for kyklon, made by `kyklon completion bash`",
            "_kyklon() {",
            '  local current="${COMP_WORDS[COMP_CWORD]}" words= name="${COMP_WORDS[1]}"',
            "  COMPREPLY=()",
            '  if [ "$COMP_CWORD" = 1 ]; then',
            f"    COMPREPLY=($(compgen -W '{' '.join(nouns)} --help' -- \"$current\"))",
            "    return",
            "  fi",
            '  if [ "$COMP_CWORD" = 2 ]; then',
            '    case "$name" in',
            *(f"  {line}" for line in seconds),
            "    esac",
            '    COMPREPLY=($(compgen -W "$words" -- "$current"))',
            '    [ -z "$words" ] || [ "${current#-}" != "$current" ] || return',
            "  fi",
            "  words=",
            '  case "$name ${COMP_WORDS[2]}" in',
            f"    {'|'.join(f'{chr(39)}{c.name}{chr(39)}' for c in COMMANDS if ' ' in c.name)})",
            '      name="$name ${COMP_WORDS[2]}" ;;',
            "  esac",
            '  case "$name" in',
            *options,
            "  esac",
            '  if [ "${current#-}" != "$current" ]; then',
            '    COMPREPLY=($(compgen -W "$words" -- "$current"))',
            "  else",
            "    compopt -o filenames 2>/dev/null",
            "    local IFS=$'\\n'",
            '    COMPREPLY=($(compgen -f -- "$current"))',
            "  fi",
            "}",
            "complete -F _kyklon kyklon",
            "",
        ]
    )


def _zsh_word(text: str) -> str:
    """Inside the single quotes of an _arguments or _describe row."""
    return text.replace("\\", "\\\\").replace(":", "\\:").replace("[", "\\[").replace("]", "\\]").replace("'", "'\\''")


_ZSH_REST = "'--help' '*:file:_files'"


def _zsh(rows: list[Described]) -> str:
    lines = ["#compdef kyklon", "# made by `kyklon completion zsh`", "_kyklon() {", "  local -a firsts seconds"]
    lines += ["  if (( CURRENT == 2 )); then", "    firsts=("]
    for noun, below in _nouns().items():
        what = below[0].what if len(below) == 1 else counted(len(below), "command")
        lines.append(f"      '{noun}:{_zsh_word(what)}'")
    lines += ["    )", "    _describe command firsts", "    return", "  fi"]
    lines += ["  if (( CURRENT == 3 )); then", "    case $words[2] in"]
    for noun, below in _nouns().items():
        inner = [command for command in below if " " in command.name]
        if inner:
            told = " ".join(f"'{command.name.split()[1]}:{_zsh_word(command.what)}'" for command in inner)
            alone = any(command.name == noun for command in below)  # a command itself too: its own words follow
            end = "" if alone else "return"
            lines.append(f"      {noun}) seconds=({told}); _describe command seconds; {end} ;;".replace("; ;;", " ;;"))
    lines += ["    esac", "  fi", '  case "$words[2] $words[3]" in']
    for row in sorted(rows, key=lambda row: -row.command.name.count(" ")):
        pattern = f"'{row.command.name}'" if " " in row.command.name else f"'{row.command.name} '*"
        offered = [
            f"'{name}[{_zsh_word(line.help)}]{':value:_files' if line.value else ''}'"
            for line in row.lines
            if line.is_option
            for name in line.names
        ]
        lines.append(f"    {pattern}) _arguments {' '.join([*offered, _ZSH_REST])} ;;")
    lines += ["  esac", "}", '_kyklon "$@"', ""]
    return "\n".join(lines)


def _fish(rows: list[Described]) -> str:
    lines = ["# fish completion for kyklon, made by `kyklon completion fish`"]
    for noun, below in _nouns().items():
        what = below[0].what if len(below) == 1 else counted(len(below), "command")
        lines.append(f"complete -c kyklon -f -n __fish_use_subcommand -a {noun} -d {shlex.quote(what)}")
        inner = [command for command in below if " " in command.name]
        words = " ".join(command.name.split()[1] for command in inner)
        for command in inner:
            second = command.name.split()[1]
            seen = f"__fish_seen_subcommand_from {noun}; and not __fish_seen_subcommand_from {words}"
            lines.append(f"complete -c kyklon -f -n '{seen}' -a {second} -d {shlex.quote(command.what)}")
    for row in rows:
        seen = "; and ".join(f"__fish_seen_subcommand_from {word}" for word in row.command.name.split())
        for line in row.lines:
            if line.is_option:
                for name in line.names:
                    dash = f"-l {name[2:]}" if name.startswith("--") else f"-s {name[1:]}"
                    takes = " -r" if line.value else ""
                    lines.append(f"complete -c kyklon -n '{seen}' {dash}{takes} -d {shlex.quote(line.help)}")
    return "\n".join([*lines, ""])
