"""Templates of the catalogue, which anybody may have written: Jinja2 in a sandbox, small, quick, and without a way out.

What a template may do: print, choose, loop twice deep, look into records and maps, and use the filters of FILTERS.
"""

from __future__ import annotations

import functools
import json
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextvars import ContextVar
from functools import cache
from typing import TYPE_CHECKING, Any

from kyklon.base.errors import CatalogueError
from kyklon.model.record import Record

if TYPE_CHECKING:
    from jinja2 import Template

FILTERS = (
    "abs",
    "capitalize",
    "default",
    "first",
    "int",
    "float",
    "join",
    "last",
    "length",
    "lower",
    "round",
    "sort",
    "string",
    "title",
    "trim",
    "upper",
)
TESTS = (
    "boolean",
    "defined",
    "divisibleby",
    "even",
    "in",
    "none",
    "number",
    "odd",
    "string",
    "undefined",
    "true",
    "false",
    "eq",
    "ne",
    "lt",
    "gt",
    "ge",
    "le",
    "==",
    "!=",
    "<",
    ">",
    ">=",
    "<=",
)
LONGEST = 16_384  # characters of a template
LARGEST = 1 << 20  # characters that one may make
_DEEPEST = 2  # loops in loops: with maps of some hundred entries a template stays quick
_BARRED = (
    "Macro",
    "CallBlock",
    "Import",
    "FromImport",
    "Include",
    "Extends",
    "Block",
    "Pow",
    "Mul",
    "Mod",
    "Slice",
    "FilterBlock",
    "AssignBlock",
)
MOST_STEPS = 2_000_000  # turns of loops, and characters that joining and filters handle; honest ones take thousands


class _Budget:
    """What one rendering may still do: one that doubles a text or sorts in loops ends here, and not in the memory."""

    def __init__(self) -> None:
        self.left = MOST_STEPS

    def spend(self, amount: int) -> None:
        self.left -= amount
        if self.left < 0:
            raise OverflowError("the template takes more steps than any honest one")


_budget: ContextVar[_Budget] = ContextVar("_budget")


def _spend(amount: int) -> None:
    budget = _budget.get(None)
    if budget is not None:
        budget.spend(amount)


def _weight(value: object) -> int:
    """How much there is of a value: letters of a text, entries of a collection, digits of a number."""
    if isinstance(value, int):
        return value.bit_length() // 3 + 1
    return len(value) + 1 if isinstance(value, (str, list, tuple, dict)) else 1


def _joined(parts: Iterable[object]) -> str:
    """What `~` makes, weighed before it is made."""
    texts = [str(part) for part in parts]
    _spend(sum(map(len, texts)) + len(texts))
    return "".join(texts)


def _each(values: Iterable[Any]) -> Iterator[Any]:
    """What a loop goes through, turn by turn."""
    for value in values:
        _spend(1)
        yield value


def _weighed(name: str, act: Callable[..., Any]) -> Callable[..., Any]:
    """A filter whose input and output are paid for."""

    @functools.wraps(act)
    def weighed(*given: Any, **named: Any) -> Any:
        for each in given:
            _spend(_weight(each))
            if name == "join" and isinstance(each, (list, tuple)):
                _spend(sum(_weight(one) for one in each))
        made = act(*given, **named)
        _spend(_weight(made))
        return made

    return weighed


def _xml(value: object) -> str:
    """For text and attributes of XML: the five that mean something there as entities, what it cannot hold left out."""
    return "".join(_ENTITIES.get(each, each) for each in str(value) if _NO_XML.match(each) is None)


_NO_XML = re.compile("[^\\t\\n\\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")  # XML 1.0, 2.2
_ENTITIES = {"&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;", "'": "&apos;"}  # XML 1.0, 4.6


def _json(value: object) -> str:
    """A text as a string of JSON, with its quotes."""
    return json.dumps(str(value))


@cache
def _environment() -> Any:
    from jinja2 import StrictUndefined
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    class Sandbox(ImmutableSandboxedEnvironment):
        def is_safe_attribute(self, obj: Any, attr: str, value: Any) -> bool:
            """Override: fields of records, and a map's own listings."""
            if isinstance(obj, Record):
                return attr in type(obj).model_fields
            return isinstance(obj, dict) and attr in ("items", "keys", "values", "get")

        def is_safe_callable(self, obj: Any) -> bool:
            """Override."""
            return isinstance(getattr(obj, "__self__", None), dict)

        intercepted_binops = frozenset(("+",))

        def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
            """Override: what grows is paid for before it is made."""
            _spend(_weight(left) + _weight(right))
            return super().call_binop(context, operator, left, right)

    made = Sandbox(undefined=StrictUndefined, autoescape=False, keep_trailing_newline=True, optimized=False)
    made.globals.clear()
    own = {name: made.filters[name] for name in FILTERS} | {"xml": _xml, "json": _json}
    made.filters = {name: _weighed(name, act) for name, act in own.items()}
    made.filters |= {"kyklon_joined": _joined, "kyklon_each": _each}
    made.tests = {name: made.tests[name] for name in TESTS}
    return made


def check(text: str, names: frozenset[str], where: str) -> None:
    """Raise CatalogueError for a template that is none, names what there is not, or does what none may do."""
    if len(text) > LONGEST:
        raise CatalogueError(f"{where}: the template has {len(text)} characters; at most {LONGEST} are read.")
    if "{" not in text:
        return
    from jinja2 import TemplateError, meta, nodes

    try:
        parsed = _environment().parse(text)
    except TemplateError as bad:
        line = getattr(bad, "lineno", 1)
        raise CatalogueError(f"{where}: line {line} is not a valid template: {bad.message}.") from bad
    except (RecursionError, ValueError, MemoryError) as bad:
        raise CatalogueError(f"{where}: it is not a valid template: {bad}.") from bad
    for kind in _BARRED:  # before anything is worked out: Jinja2 computes constants while it compiles
        for node in parsed.find_all(getattr(nodes, kind)):
            raise CatalogueError(f"{where}: line {node.lineno}: a template may not use {kind.lower()} here.")
    for node in parsed.find_all(nodes.Name):
        if node.name in ("self", "super", "caller", "varargs", "kwargs"):
            raise CatalogueError(f"{where}: line {node.lineno}: a template may not use {node.name} here.")
    _not_deeper(parsed, 0, where)
    try:
        unknown = meta.find_undeclared_variables(parsed) - names
        compiled(text)
    except (TemplateError, SyntaxError, RecursionError, ValueError) as bad:  # an unknown filter, a number too long
        raise CatalogueError(f"{where}: it is not a valid template: {bad}.") from bad
    if unknown:
        raise CatalogueError(
            f"{where}: the template names {sorted(unknown)[0]!r}, which does not exist.",
            do=f"It may use: {', '.join(sorted(names))}.",
        )


def _not_deeper(node: Any, depth: int, where: str) -> None:
    from jinja2 import nodes

    for child in node.iter_child_nodes():
        inner = depth + isinstance(child, nodes.For)
        if inner > _DEEPEST:
            raise CatalogueError(f"{where}: line {child.lineno}: loops are at most {_DEEPEST} deep here.")
        _not_deeper(child, inner, where)


@cache
def compiled(text: str) -> Template:
    """A template whose loops and joined texts are counted."""
    from jinja2 import Template, nodes
    from jinja2.visitor import NodeTransformer

    class Counted(NodeTransformer):
        def visit_Concat(self, node: nodes.Concat) -> nodes.Node:
            self.generic_visit(node)
            held = nodes.List(node.nodes, lineno=node.lineno)
            return nodes.Filter(held, "kyklon_joined", [], [], None, None, lineno=node.lineno)

        def visit_For(self, node: nodes.For) -> nodes.Node:
            self.generic_visit(node)
            node.iter = nodes.Filter(node.iter, "kyklon_each", [], [], None, None, lineno=node.lineno)
            return node

    environment = _environment()
    tree = Counted().visit(environment.parse(text))
    tree.set_environment(environment)
    code = environment.compile(tree, filename="<template>")
    return Template.from_code(environment, code, environment.make_globals(None))


def render(text: str, variables: Mapping[str, object], where: str, largest: int = LARGEST) -> str:
    """What a template makes, of at most `largest` characters. Raises CatalogueError with the line when it cannot."""
    parts: list[str] = []
    made = 0
    held = _budget.set(_Budget())
    try:
        for piece in compiled(text).generate(variables):
            parts.append(piece)
            made += len(piece)
            if made > largest:
                raise CatalogueError(f"{where}: the template makes more than {largest} characters.")
    except CatalogueError:
        raise
    except Exception as bad:  # whatever an expression may do with the values it is given
        raise CatalogueError(f"{where}: line {_line_of(bad)}: {bad}.", do="Put the template right.") from bad
    finally:
        _budget.reset(held)
    return "".join(parts)


def _line_of(bad: BaseException) -> int:
    """The template's line that an error comes from."""
    line, trace = 1, bad.__traceback__
    while trace is not None:
        if trace.tb_frame.f_code.co_filename == "<template>":
            line = trace.tb_lineno
        trace = trace.tb_next
    return line
