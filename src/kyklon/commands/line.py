"""A command's line, read by what its function's signature says: argparse, without a model of anything.

A parameter without a default is an argument, one with a default an option; Argument and Option say more where needed.
"""

from __future__ import annotations

import inspect
import types
import typing
from argparse import ArgumentParser, ArgumentTypeError, RawDescriptionHelpFormatter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NoReturn

from kyklon.base.errors import WrongUse

Command = Callable[..., int]
_NUMBERS = {int: "a whole number", float: "a number"}


@dataclass(frozen=True)
class Argument:
    """metavar: how the usage calls it; the parameter's own name, in capitals, where it is ''."""

    help: str = ""
    metavar: str = ""


@dataclass(frozen=True)
class Option:
    """name: as typed, with its dashes."""

    name: str
    help: str = ""


class _Parser(ArgumentParser):
    def error(self, message: str) -> NoReturn:
        """Override: said and counted like every other wrong use."""
        raise WrongUse(f"{self.prog}: {message}.", do=f"See `{self.prog} --help`.")


def read(act: Command, prog: str, words: Sequence[str]) -> dict[str, Any]:
    """The parameters that a line gives a command. Raises WrongUse; SystemExit after --help."""
    return vars(parser_of(act, prog).parse_intermixed_args(words))


def parser_of(act: Command, prog: str) -> ArgumentParser:
    """What reads a command's line."""
    parser = _Parser(
        prog=prog, description=inspect.getdoc(act), allow_abbrev=False, formatter_class=RawDescriptionHelpFormatter
    )
    hints = typing.get_type_hints(act, include_extras=True)
    for name, parameter in inspect.signature(act).parameters.items():
        _add(parser, parameter, hints[name])
    return parser


def _add(parser: ArgumentParser, parameter: inspect.Parameter, hint: Any) -> None:
    kind, *marks = typing.get_args(hint) if typing.get_origin(hint) is typing.Annotated else (hint,)
    needed = parameter.default is inspect.Parameter.empty
    mark = marks[0] if marks else None
    kind, many = _plain(kind)
    told: dict[str, Any] = {"help": mark.help if mark else "", "default": None if needed else parameter.default}
    if isinstance(mark, Argument) or (mark is None and needed):
        metavar = (mark.metavar if mark else "") or parameter.name.upper()
        parser.add_argument(parameter.name, type=_reader(kind), metavar=metavar, nargs=None if needed else "?", **told)
        return
    name = mark.name if mark else f"--{parameter.name.replace('_', '-')}"
    if kind is bool:
        parser.add_argument(name, dest=parameter.name, action="store_true", help=told["help"])
        return
    if many:
        told["action"] = "append"
    metavar = parameter.name.upper()
    parser.add_argument(name, dest=parameter.name, type=_reader(kind), required=needed, metavar=metavar, **told)


def _plain(kind: Any) -> tuple[type, bool]:
    """The type of one value, and whether there may be several."""
    if typing.get_origin(kind) in (types.UnionType, typing.Union):
        kind = next(arg for arg in typing.get_args(kind) if arg is not types.NoneType)
    if typing.get_origin(kind) is list:
        return typing.get_args(kind)[0], True
    return kind, False


def _reader(kind: type) -> Callable[[str], Any]:
    def reader(text: str) -> Any:
        try:
            # whole from the door on: no thread, journal or other program reads it from another folder
            return Path(text).expanduser().absolute() if kind is Path else kind(text)
        except ValueError:
            raise ArgumentTypeError(f"{text!r} is not {_NUMBERS.get(kind, 'valid')}") from None

    return reader
