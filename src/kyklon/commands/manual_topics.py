"""The help in the terminal: the same topics as in the window."""

from __future__ import annotations

import re
import textwrap
from typing import Annotated

from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Json, out
from kyklon.help import topics as topics_

WIDTH = 100  # letters a line


def show(
    topic: Annotated[str, Argument(help="A page, a job, glossary, or a finding's code.", metavar="TOPIC")] = "",
    find: Annotated[str, Option("--find", help="Words to search for in all topics.")] = "",
    window: Annotated[bool, Option("--window", help="Open the help's own window.")] = False,
    as_json: Json = False,
) -> int:
    """Show the help on a topic or on a finding's code, or search in it.

    Without a topic it lists them all. Exit 1 when a search finds nothing.
    """
    if window:
        from kyklon.app.start import run_help

        return run_help(topics_.topic(topic).id if topic else "start")
    if find:
        hits = topics_.find(find)
        data = {"hits": [{"topic": hit.topic.id, "heading": hit.heading, "line": hit.line} for hit in hits]}
        out(data, as_json, lambda: [_hit(hit) for hit in hits] or ["Nothing was found."])
        return OK if hits else STOPS
    if not topic:
        known = topics_.topics()
        out({"topics": {each.id: each.title for each in known.values()}}, as_json, _contents)
        return OK
    found = topics_.topic(topic)
    out({"topic": found.id, "title": found.title, "text": found.text}, as_json, lambda: in_terminal(found.text))
    return OK


def _hit(hit: topics_.Hit) -> str:
    where = f"{hit.topic.id}, {hit.heading}" if hit.heading else hit.topic.id
    return f"{where}: {textwrap.shorten(hit.line, WIDTH, placeholder='…')}"


def _contents() -> list[str]:
    known = topics_.topics()
    lines: list[str] = []
    for heading, ids in topics_.GROUPS:
        lines += ["", heading] if heading and lines else [heading] if heading else []
        lines += [f"  {name:22} {known[name].title}" for name in ids]
    return [*lines, "", "`kyklon help TOPIC` shows one; F1 in the window shows the one of the page."]


def in_terminal(text: str) -> list[str]:
    """Markdown as lines for a terminal."""
    lines: list[str] = []
    block: list[str] = []

    def end() -> None:
        if block:
            first = re.match(r"(\* |\d+\. )?", block[0])
            indent = " " * len(first[0] if first else "")
            joined = " ".join(row.strip() for row in block)
            lines.extend(textwrap.wrap(topics_.without_marks_inside(joined), WIDTH, subsequent_indent=indent))
            block.clear()

    for row in text.splitlines():
        if row.startswith("!["):
            continue
        if row.startswith("#"):
            end()
            title = row.lstrip("# ")
            lines += [title, ("=" if row.startswith("# ") else "-") * len(title)]
        elif row.startswith("|"):
            end()
            if not set(row) <= set("|- "):
                lines.append(topics_.without_marks(row))
        elif not row.strip():
            end()
            if lines and lines[-1]:
                lines.append("")
        else:
            if re.match(r"(\* |\d+\. )", row):
                end()
            block.append(row)
    end()
    return lines
