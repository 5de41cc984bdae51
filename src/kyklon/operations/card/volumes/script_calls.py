"""What a script calls: programs of a shell script, modules and programs of a Python one, as far as its text tells.

Sources: POSIX.1-2017, XCU 2.9 and 2.14 (commands, special built-ins); bash(1) for its own; the Python language
reference, 7.11. Shell scripts are read by tree-sitter's grammar of bash.
"""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from tree_sitter import Node, Parser

SHELLS = ("sh", "bash", "dash", "ash", "ksh", "mksh")
# XCU 2.14 and the utilities that XCU 1.6 lets a shell have inside; bash(1), SHELL BUILTIN COMMANDS
_SPECIAL = ": . break continue eval exec exit export readonly return set shift times trap unset"
_REGULAR = "alias bg cd command false fc fg getopts hash jobs kill newgrp pwd read true type ulimit umask unalias wait"
_USUAL = "[ [[ test echo printf local source"
_OF_BASH = (
    "declare typeset let shopt enable builtin caller compgen complete compopt dirs disown help history logout mapfile "
    "popd pushd readarray suspend bind coproc time"
)
_RESERVED = "! { } case do done elif else esac fi for if in then until while function select"  # XCU 2.4; bash(1)
BUILT_IN = frozenset(" ".join((_SPECIAL, _REGULAR, _USUAL, _OF_BASH, _RESERVED)).split())
_BEFORE = frozenset(("exec", "nohup", "setsid", "command", "builtin", "sudo", "nice", "ionice", "time"))
_ASKED = frozenset(("command", "which", "type", "hash"))
_MOST = 200  # calls of a script
_MOST_BYTES = 32 << 10
# signs of which a script has few, and with thousands of which the parser takes seconds: of each the most
_MOST_SIGNS = (("|", 600), ("<<", 100))


@dataclass(frozen=True)
class Call:
    """A program that is called. hidden: what it says of an error goes to /dev/null. last: the script hands over to it
    and ends there, whatever came before."""

    name: str
    hidden: bool = False
    last: bool = False


@dataclass(frozen=True)
class Calls:
    """programs: without those that the script asks for first. modules: of Python, imported without a way out. sourced:
    files that it reads in; unsure: it reads in one whose name is made up as it runs. path: folders that it searches
    too. defined: its own functions. moves: it sets LD_LIBRARY_PATH or LD_PRELOAD."""

    programs: tuple[Call, ...] = ()
    modules: tuple[str, ...] = ()
    sourced: tuple[str, ...] = ()
    unsure: bool = False
    path: tuple[str, ...] = ()
    defined: frozenset[str] = frozenset()
    moves: bool = False


def calls_of(text: str, interpreter: str) -> Calls:
    """What a script of this interpreter, by its name, calls; nothing for another language or what is no script."""
    if len(text) > _MOST_BYTES:
        return Calls()
    if interpreter in SHELLS:
        return _of_shell(text) if all(text.count(sign) <= most for sign, most in _MOST_SIGNS) else Calls(unsure=True)
    return _of_python(text) if interpreter.startswith("python3") else Calls()


# --- shell -----------------------------------------------------------------------------------------------------------


@cache
def _parser() -> Parser:
    import tree_sitter_bash
    from tree_sitter import Language, Parser

    return Parser(Language(tree_sitter_bash.language()))


def _of_shell(text: str) -> Calls:
    root = _parser().parse(text.encode("utf-8", "surrogateescape")).root_node
    if root.has_error:  # another shell's, or a grammar that gave up: nothing is told rather than something wrong
        return Calls(unsure=True)
    defined, asked, sourced, path = set[str](), set[str](), list[str](), list[str]()
    found: list[Call] = []
    unsure = moves = False
    for node, hidden in _nodes(root):
        if node.type == "function_definition":
            defined.add(_text(node.child_by_field_name("name")))
        elif node.type == "variable_assignment":
            name, value = _text(node.child_by_field_name("name")), _text(node.child_by_field_name("value"))
            if name == "PATH":
                path += [each for each in value.strip("\"'").split(":") if each.startswith("/")]
            moves = moves or name in ("LD_LIBRARY_PATH", "LD_PRELOAD")
        elif node.type == "test_command" or _name(node) in ("[", "test"):
            asked.update(word for word in _text(node).replace("]", " ").split() if word.startswith("/"))
        if node.type != "command" or len(found) >= _MOST:
            continue
        words = _words(node)
        if words[:1] and words[0] in _ASKED and (words[0] != "command" or words[1:2] in (["-v"], ["-V"])):
            asked.update(filter(None, words[1:]))
            continue
        if words[:1] in (["."], ["source"]):
            sourced += filter(None, words[1:2])
            unsure = unsure or not words[1:2] or not words[1]
            continue
        name, handed = _called(words)
        if name and name not in BUILT_IN and not re.search(r"[*?\[{~]", name):
            found.append(Call(name, hidden, handed and _always(node)))
    kept = tuple(each for each in found if each.name not in asked and each.name not in defined)
    return Calls(kept, (), tuple(sourced), unsure, tuple(path), frozenset(defined), moves)


def _nodes(root: Node) -> Iterator[tuple[Node, bool]]:
    """Every node from the top, and whether its errors go to /dev/null."""
    waiting = [(root, False)]
    while waiting:
        node, hidden = waiting.pop()
        yield node, hidden
        if node.type == "redirected_statement":
            aims = [_text(each).replace(" ", "") for each in node.children if each.type == "file_redirect"]
            hidden = hidden or any(
                each in ("2>/dev/null", "2>>/dev/null", "&>/dev/null", ">&/dev/null") for each in aims
            )
            hidden = hidden or ("2>&1" in aims and any(each.endswith(">/dev/null") for each in aims))
        waiting += [(child, hidden) for child in reversed(node.children)]


def _text(node: Node | None) -> str:
    return (node.text or b"").decode("utf-8", "surrogateescape") if node is not None else ""


def _words(node: Node) -> list[str]:
    """A command's words; '' for one that is made up as the script runs."""
    found = []
    for child in node.children:
        if child.type in ("file_redirect", "variable_assignment", "herestring_redirect", "heredoc_redirect"):
            continue
        inner = child.children[0] if child.type == "command_name" and child.children else child
        plain = inner.type in ("word", "number") or (inner.type in ("raw_string", "string") and "$" not in _text(inner))
        found.append(_text(inner).strip("\"'") if plain and "`" not in _text(inner) else "")
    return found


def _name(node: Node) -> str:
    return next(iter(_words(node)), "") if node.type == "command" else ""


def _called(words: list[str]) -> tuple[str, bool]:
    """The program behind exec, nohup and the like, '' where that is not told; and whether it was exec."""
    handed = words[:1] == ["exec"]
    at = 0
    while at < len(words) and words[at] in _BEFORE:
        if words[at] in ("sudo", "nice", "ionice") and words[at + 1 : at + 2] and words[at + 1].startswith("-"):
            return words[at], False  # its options may have values
        at += 1
    name = words[at] if at < len(words) else ""
    return ("", False) if name.startswith("-") else (name, handed)


def _always(node: Node) -> bool:
    """Whether a command stands by itself: under no condition, in no loop, function or pipe."""
    above = node.parent
    if above is not None and above.type == "redirected_statement":
        above = above.parent
    return above is not None and above.type == "program"


# --- Python ----------------------------------------------------------------------------------------------------------

_STARTS = frozenset(("run", "call", "check_call", "check_output", "Popen"))  # of subprocess


def _of_python(text: str) -> Calls:
    try:
        tree = ast.parse(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return Calls()
    modules, programs = dict[str, None](), dict[str, None]()
    for node in tree.body:  # those in a function or a try have a way out
        if isinstance(node, ast.Import):
            modules.update(dict.fromkeys(each.name.partition(".")[0] for each in node.names))
        elif isinstance(node, ast.ImportFrom) and not node.level and node.module:
            modules[node.module.partition(".")[0]] = None
    for inner in ast.walk(tree):
        if isinstance(inner, ast.Call) and isinstance(inner.func, ast.Attribute) and inner.func.attr in _STARTS:
            first = inner.args[0] if inner.args else None
            if isinstance(first, ast.List) and first.elts:
                first = first.elts[0]
                if isinstance(first, ast.Constant) and isinstance(first.value, str) and len(programs) < _MOST:
                    programs[first.value] = None
    if "sys.path" in text:  # it looks elsewhere too
        modules = {}
    inside = {*sys.builtin_module_names, "__future__", "__main__"}
    return Calls(tuple(map(Call, programs)), tuple(each for each in modules if each not in inside))
