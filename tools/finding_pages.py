"""Writes src/kyklon/help/data/findings.md: every code a finding can have, with its title, reason, source and remedies.

Usage: .venv/bin/python tools/finding_pages.py [--check]   --check: exit 1 when the file is not as it would be written
Read from the syntax of the places that make findings, so that the page and the program cannot differ. What a sentence
takes from the build is shown as …
"""

from __future__ import annotations

import ast
import re
import sys
from dataclasses import dataclass, field
from pathlib import Path

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "kyklon"
PAGE = SOURCE / "help" / "data" / "findings.md"
_WORDS = {"stop": "Stop", "caution": "Caution", "note": "Note"}


@dataclass
class Page:
    """One code: its texts as they may be said, the first of each kind first."""

    code: str
    titles: list[str] = field(default_factory=list)
    whys: list[str] = field(default_factory=list)
    remedies: list[str] = field(default_factory=list)
    sources: list[str] = field(default_factory=list)
    severities: list[str] = field(default_factory=list)
    causes: list[str] = field(default_factory=list)
    goes_on: bool = False  # a failure that lets the start go on
    fails: bool = False  # the forecast of the first power-on can end with it


class Module:
    """A module's constants and functions, and what its expressions say."""

    def __init__(self, path: Path) -> None:
        self.tree = ast.parse(path.read_text(encoding="utf-8"))
        self.constants: dict[str, ast.expr] = {}
        self.functions: dict[str, ast.FunctionDef] = {}
        for node in ast.walk(self.tree):
            if isinstance(node, ast.Assign) and len(node.targets) == 1 and isinstance(node.targets[0], ast.Name):
                self.constants.setdefault(node.targets[0].id, node.value)
            if isinstance(node, ast.FunctionDef):
                self.functions.setdefault(node.name, node)

    def said(self, node: ast.expr | None, given: dict[str, ast.expr], depth: int = 0) -> list[str]:
        """The texts an expression may be; what is not known is …"""
        if node is None or depth > 6:
            return []
        match node:
            case ast.Constant(value=str() as text):
                return [text]
            case ast.JoinedStr(values=values):
                rows = [""]
                for part in values:
                    more = [part.value] if isinstance(part, ast.Constant) else ["…"]
                    if isinstance(part, ast.FormattedValue) and isinstance(part.value, ast.IfExp | ast.Name):
                        known = self.said(part.value, given, depth + 1)
                        more = known if known and "…" not in known and len(known) <= 2 else ["…"]
                    rows = [row + str(text) for row in rows for text in more][:4]
                return rows
            case ast.Subscript(value=inner) | ast.Call(func=ast.Attribute(attr="replace", value=inner)):
                return self.said(inner, given, depth + 1)
            case ast.IfExp(body=body, orelse=other):
                return [*self.said(body, given, depth + 1), *self.said(other, given, depth + 1)]
            case ast.BinOp(left=left, op=ast.Add(), right=right):
                firsts, seconds = (
                    self.said(left, given, depth + 1) or ["…"],
                    self.said(right, given, depth + 1) or ["…"],
                )
                return [a + b for a in firsts[:2] for b in seconds[:2]]
            case ast.Name(id=name) if name in given:
                return self.said(given[name], {}, depth + 1)
            case ast.Name(id=name) if name in self.constants:
                return self.said(self.constants[name], given, depth + 1)
            case ast.Attribute(attr=attr, value=ast.Name(id="Severity")):
                return [attr.lower()]
        return ["…"]


def pages() -> dict[str, Page]:
    """By code, up to its first colon."""
    found: dict[str, Page] = {}
    for path in sorted(SOURCE.rglob("*.py")):
        text = path.read_text(encoding="utf-8")
        if "Finding(" not in text and "finding(" not in text:
            continue
        module = Module(path)
        makers = {}
        for name, function in module.functions.items():
            parameters = {argument.arg for argument in [*function.args.args, *function.args.kwonlyargs]}
            for call in calls(function, "Finding"):
                code = keyword(call, "code")
                used = {node.id for node in ast.walk(code) if isinstance(node, ast.Name)} if code is not None else set()
                if used & parameters and not isinstance(call.func, ast.Attribute):
                    makers[name] = call
                else:
                    take(found, module, call, {})
        for name, call in makers.items():
            names = [argument.arg for argument in module.functions[name].args.args]
            for outer in calls(module.tree, name):
                given = dict(zip(names, outer.args, strict=False)) | {
                    row.arg: row.value for row in outer.keywords if row.arg
                }
                take(found, module, call, given)
    sys.path.insert(0, str(ROOT / "src"))
    from kyklon.model.build import Build
    from kyklon.model.fields import described_fields

    fields = {row.path for row in described_fields(Build)}
    for path in sorted((SOURCE / "operations" / "poweron").rglob("*.py")):
        take_failures(found, Module(path))
        name_others(found, Module(path), fields)
    from kyklon.model.library import REASONS
    from kyklon.operations.library.findings import _WHY

    for code, title in REASONS.items():
        why = _WHY.get(code, "The front end will not show it.")
        found[f"library.{code}"] = Page(f"library.{code}", [title], [why], severities=["caution"])
    return dict(sorted(found.items()))


_CODE = re.compile(r"(card|boot|system|picture|controls|library|assembly|plan|disk)\.[a-z][a-z-]+")


def take_failures(found: dict[str, Page], module: Module) -> None:
    """Codes that the forecast of the first power-on ends with: an argument, and the cause behind it."""
    for function in module.functions.values():
        for call in (node for node in ast.walk(function) if isinstance(node, ast.Call)):
            for number, argument in enumerate(call.args[:-1]):
                for told in module.said(argument, {}):
                    code = re.split(r"[:…]", told)[0].rstrip("-.")
                    if not _CODE.fullmatch(code) or not isinstance(argument, ast.Constant | ast.JoinedStr | ast.IfExp):
                        continue
                    page = found.setdefault(code, Page(code))
                    page.fails = True
                    page.goes_on = goes_on(call) or (
                        bool(own := calls(module.tree, "Failure")) and all(map(goes_on, own))
                    )
                    cause = call.args[number + 1]
                    if isinstance(cause, ast.Name):
                        cause = last_value(function, cause.id, call.lineno) or cause
                    page.causes += [
                        text for text in module.said(cause, {}) if text not in page.causes and text.strip("… .")
                    ]


_ENDS = "Stop.* The first power-on ends here."
_GOES_ON = "Stop.* The machine starts, but this part of it does not work."


def goes_on(call: ast.Call) -> bool:
    """Whether a failure lets the start go on."""
    told = keyword(call, "blocks")
    return isinstance(told, ast.Constant) and told.value is False


def name_others(found: dict[str, Page], module: Module, fields: set[str]) -> None:
    """Codes that are chosen elsewhere than at the call: every text that is one, and no field of a build."""
    for node in ast.walk(module.tree):
        texts = module.said(node, {}) if isinstance(node, ast.Constant | ast.JoinedStr) else []
        for told in texts:
            code = re.split(r"[:…]", told)[0]
            if _CODE.fullmatch(code) and code not in fields and not code.endswith("-"):
                found.setdefault(code, Page(code)).fails = True


def last_value(function: ast.FunctionDef, name: str, line: int) -> ast.expr | None:
    """What a name was last set to above a line."""
    rows = [
        node
        for node in ast.walk(function)
        if isinstance(node, ast.Assign) and node.lineno <= line and isinstance(node.targets[0], ast.Name)
    ]
    rows.sort(key=lambda node: node.lineno)
    return next((node.value for node in reversed(rows) if node.targets[0].id == name), None)  # type: ignore[attr-defined]


def calls(tree: ast.AST, name: str) -> list[ast.Call]:
    return [
        node
        for node in ast.walk(tree)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == name
    ]


def keyword(call: ast.Call, name: str) -> ast.expr | None:
    return next((row.value for row in call.keywords if row.arg == name), None)


def take(found: dict[str, Page], module: Module, call: ast.Call, given: dict[str, ast.expr]) -> None:
    for told in module.said(keyword(call, "code"), given):
        code = re.split(r"[:…]", told)[0].rstrip("-.")
        if "." not in code:
            continue
        page = found.setdefault(code, Page(code))
        for rows, name in (
            (page.titles, "title"),
            (page.whys, "why"),
            (page.sources, "source"),
            (page.severities, "severity"),
        ):
            rows += [text for text in module.said(keyword(call, name), given) if text not in rows and text.strip("… .")]
        remedy = keyword(call, "remedy")
        for node in ast.walk(remedy) if remedy is not None else ():
            label = keyword(node, "label") if isinstance(node, ast.Call) else None
            page.remedies += [
                text for text in module.said(label, given) if text not in page.remedies and text.strip("…")
            ]


def text_of(found: dict[str, Page]) -> str:
    lines = [
        "# Findings",
        "",
        "Every finding has a code. A **stop** means that it will not work, or can hurt or lose something; a",
        "**caution** that it may; a **note** is worth knowing. Where this page shows …, the finding itself names the",
        "thing or the number. A remedy shows what it changes before it changes it, and one step of undo takes it back.",
    ]
    room = ""
    for page in found.values():
        if page.code.partition(".")[0] != room:
            room = page.code.partition(".")[0]
            lines += ["", f"## {room.capitalize()}"]
        kinds = ", ".join(_WORDS.get(kind, kind) for kind in page.severities if kind in _WORDS) or "Finding"
        head = f"*{kinds}.* " + " · ".join(page.titles) if page.titles else f"*{_GOES_ON if page.goes_on else _ENDS}"
        lines += ["", f"### {page.code}", "", head]
        if page.causes:
            lines += ["", "In the forecast: " + " · ".join(page.causes)]
        if page.whys:
            lines += ["", "Why: " + " ".join(dict.fromkeys(text.strip() for text in page.whys))]
        what = [f"the remedy ‘{label}’" for label in page.remedies]
        rows = [" or ".join(what) + "." if what else _hint(page)] if page.titles else []
        if page.fails:
            rows.append(f"{'On a card that is written already: ' if rows else ''}{advice(page.code)}.")
        lines += ["", f"What to do: {' '.join(rows)}"]
        if page.sources:
            lines += ["", "Source: " + "; ".join(page.sources) + "."]
    return "\n".join(lines) + "\n"


_HINTS = {
    "assembly": "change the part, the wire or the place that it names, on page 80.",
    "boot": "change the setting that it names on page 30.",
    "card": "follow the sentence on page 20; nothing is written before you agree.",
    "controls": "change the seat, the encoder or the mapping that it names, on page 40.",
    "faults": "answer the next check on page 90.",
    "library": "look at the game or folder that it names, on page 60.",
    "picture": "choose another mode or display on page 50. Never send a tube a rate that is not its own.",
    "plan": "change the part or cable that it names, on page 10.",
    "poweron": "open the step on page 90 that it names.",
    "tuning": "change the setting that it names, on page 70.",
    "upkeep": "look at the machine on page 95.",
}


def advice(code: str) -> str:
    """What the forecast itself advises."""
    from kyklon.operations.poweron.events import _ADVICE

    words = next((told for start, told in _ADVICE.items() if code.startswith(start)), "see the step that it names")
    return words[:1].lower() + words[1:]


def _hint(page: Page) -> str:
    return _HINTS.get(page.code.partition(".")[0], "see the page that it stands on.")


def main() -> None:
    text = text_of(pages())
    if "--check" in sys.argv:
        if not PAGE.is_file() or PAGE.read_text(encoding="utf-8") != text:
            raise SystemExit(f"{PAGE.relative_to(ROOT)} is not current: run tools/finding_pages.py.")
        return
    PAGE.parent.mkdir(parents=True, exist_ok=True)
    PAGE.write_text(text, encoding="utf-8")
    print(f"{PAGE.relative_to(ROOT)}: {text.count('### ')} codes")


if __name__ == "__main__":
    main()
