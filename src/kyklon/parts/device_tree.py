"""Flattened device trees: checked from end to end with the offset of what is broken, then read by the fdt library.

Source: Devicetree Specification 0.4, chapter 5 (the flattened format), 2.3 (standard properties).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from kyklon.base.errors import FormatError

MAGIC = b"\xd0\x0d\xfe\xed"
LARGEST = 1 << 20  # bytes; CP: trees have tens of kilobytes
_DEEPEST, _MOST_ITEMS = 64, 100_000  # nodes in nodes; nodes and properties
_HEADER = 40  # bytes (5.2)
_BEGIN, _END, _PROP, _NOP, _LAST = 1, 2, 3, 4, 9  # 5.4.1
PAD = "the device tree"


@dataclass(frozen=True)
class Node:
    """props: raw bytes by name. path: from the root, as /cpus/cpu@0."""

    name: str
    path: str
    props: dict[str, bytes] = field(default_factory=dict)
    children: tuple[Node, ...] = ()

    def walk(self) -> Iterator[Node]:
        """This node and all below it."""
        yield self
        for child in self.children:
            yield from child.walk()

    def child(self, name: str) -> Node | None:
        return next((each for each in self.children if each.name.partition("@")[0] == name), None)

    def strings(self, name: str) -> tuple[str, ...]:
        """A property as a list of strings; none where it is not there or no text."""
        raw = self.props.get(name, b"")
        if not raw.endswith(b"\0"):
            return ()
        try:
            return tuple(word for word in raw[:-1].decode("ascii").split("\0"))
        except UnicodeDecodeError:
            return ()

    def text(self, name: str) -> str:
        """The first string of a property, '' for none."""
        return next(iter(self.strings(name)), "")

    def cells(self, name: str) -> tuple[int, ...]:
        """A property as 32-bit numbers."""
        raw = self.props.get(name, b"")
        return struct.unpack(f">{len(raw) // 4}I", raw[: len(raw) // 4 * 4])

    @property
    def compatible(self) -> tuple[str, ...]:
        return self.strings("compatible")

    @property
    def works(self) -> bool:
        """Whether it is not switched off (2.3.4: status)."""
        return self.text("status") in ("", "okay", "ok")


def read(data: bytes) -> Node:
    """The root node. Raises FormatError with the offset of what is broken."""
    _check(data)
    import fdt

    total = struct.unpack_from(">I", data, 4)[0]
    try:
        tree = fdt.parse_dtb(data[:total])
    except Exception as bad:  # whatever a library may raise over bytes from anywhere
        raise FormatError(PAD, 0, expected="a flattened tree", got=str(bad) or type(bad).__name__) from bad
    return _node(tree.root, "")


def _node(node: Any, above: str) -> Node:
    path = f"{above}/{node.name}" if node.name != "/" else ""
    props = {prop.name: _raw(prop) for prop in node.props}
    return Node(node.name, path or "/", props, tuple(_node(each, path) for each in node.nodes))


def _raw(prop: Any) -> bytes:
    """A property's bytes; the library guesses what they mean, which is undone here."""
    values = list(getattr(prop, "data", None) or ())
    kind = type(prop).__name__
    if kind == "PropStrings":
        return b"".join(each.encode("ascii", "replace") + b"\0" for each in values)
    if kind == "PropWords":
        return struct.pack(f">{len(values)}I", *values)
    return bytes(values)


def _check(data: bytes) -> None:
    """Raise FormatError unless every token, name and value lies where it may."""
    if len(data) < _HEADER:
        raise FormatError(PAD, len(data), expected=f"a header of {_HEADER} bytes", got=f"an end after {len(data)}")
    if data[:4] != MAGIC:
        raise FormatError(PAD, 0, expected=MAGIC.hex(" "), got=data[:4].hex(" "), do="Choose a file that ends in .dtb.")
    total, structure, strings, _reserved, version, oldest = struct.unpack_from(">6I", data, 4)
    length_strings = struct.unpack_from(">I", data, 32)[0]
    if total > len(data):
        raise FormatError(
            PAD, 4, expected=f"at most {len(data)} bytes, the file's own size", got=f"{total}: it is cut short"
        )
    if total > LARGEST:
        raise FormatError(PAD, 4, expected=f"at most {LARGEST} bytes", got=str(total))
    if oldest > 17 or version < 16:
        raise FormatError(PAD, 20, expected="version 16 or 17", got=f"{version}, readable as {oldest}")
    if not _HEADER <= structure < total or structure % 4:
        raise FormatError(PAD, 8, expected=f"an offset below {total}", got=str(structure))
    if strings + length_strings > total:
        raise FormatError(PAD, 12, expected=f"names that end by {total}", got=str(strings + length_strings))
    _check_structure(data, structure, strings, length_strings, total)


def _check_structure(data: bytes, at: int, strings: int, length_strings: int, total: int) -> None:
    depth, roots = 0, 0
    for _ in range(_MOST_ITEMS):
        if at + 4 > total:
            raise FormatError(PAD, at, expected="an end token", got="the end of the tree")
        token = struct.unpack_from(">I", data, at)[0]
        start, at = at, at + 4
        if token == _BEGIN:
            end = data.find(b"\0", at, min(total, at + 256))
            if end < 0 or not _is_name(data[at:end]):
                raise FormatError(PAD, at, expected="a node's name", got=data[at : at + 16].hex(" "))
            roots += depth == 0
            depth += 1
            if depth > _DEEPEST or roots > 1:
                raise FormatError(PAD, start, expected=f"one root, and nodes at most {_DEEPEST} deep", got="more")
            at = (end + 4) & ~3
        elif token == _END:
            depth -= 1
            if depth < 0:
                raise FormatError(PAD, start, expected="a node to end", got="none")
        elif token == _PROP:
            if depth == 0 or at + 8 > total:
                raise FormatError(PAD, start, expected="a property within a node", got="one outside")
            length, name = struct.unpack_from(">II", data, at)
            at += 8
            if at + length > total:
                raise FormatError(PAD, at - 8, expected=f"a value that ends by {total}", got=f"{length} bytes")
            end = data.find(b"\0", strings + name, strings + length_strings) if name < length_strings else -1
            if end < 0 or not _is_name(data[strings + name : end]) or end == strings + name:
                raise FormatError(PAD, at - 4, expected="a property's name", got=f"offset {name} of the names")
            at = (at + length + 3) & ~3
        elif token == _LAST:
            if depth or not roots:
                raise FormatError(PAD, start, expected="the end of every node", got=f"{depth} still open")
            return
        elif token != _NOP:
            raise FormatError(PAD, start, expected="a token", got=f"{token:#x}")
    raise FormatError(PAD, at, expected=f"at most {_MOST_ITEMS} nodes and properties", got="more")


def _is_name(raw: bytes) -> bool:
    return all(0x20 < byte < 0x7F for byte in raw)
