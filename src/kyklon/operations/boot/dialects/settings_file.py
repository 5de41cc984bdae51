"""Settings, a line each: a word and its value, perhaps bound to some boards. How that is written is data (Grammar)."""

from __future__ import annotations

import re
from dataclasses import dataclass

from kyklon.catalogue.records import DialectFile, Grammar
from kyklon.operations.boot.dialects.codec import Told, Wanted, Works, split_lines

_WORD = re.compile(r"[A-Za-z][\w.\-]*")


@dataclass(frozen=True)
class SettingLine:
    """number: from 0. boards: those it is bound to, none for all. value: '' when nothing follows the separator."""

    number: int
    boards: tuple[str, ...]
    key: str
    value: str

    def counts_for(self, board: str) -> bool:
        return not self.boards or board in self.boards


@dataclass(frozen=True)
class SettingsFile:
    grammar: Grammar

    def recognised(self, text: str) -> bool:
        """Whether the file begins with the line that names its format."""
        first = next((line.strip() for line in split_lines(text) if line.strip()), "")
        return not self.grammar.first_line or first == self.grammar.first_line

    def lines(self, text: str) -> tuple[SettingLine, ...]:
        """Every line that sets something; remarks, blank and odd lines are passed over."""
        found = (self._line(number, line) for number, line in enumerate(split_lines(text)))
        return tuple(each for each in found if each is not None)

    def _line(self, number: int, line: str) -> SettingLine | None:
        line = line.strip()
        if not line or line.startswith(self.grammar.remark) or line == self.grammar.first_line:
            return None
        boards: tuple[str, ...] = ()
        if self.grammar.bound:
            before, after = self.grammar.bound.split("{boards}")
            if line.startswith(before):
                names, found, line = line.removeprefix(before).partition(after)
                if not found:
                    return None
                boards = tuple(name.strip() for name in names.split(",") if name.strip())
        key, found, value = line.partition(self.grammar.separator)
        return (
            SettingLine(number, boards, key.strip(), value.strip()) if found and _WORD.fullmatch(key.strip()) else None
        )

    def told(self, text: str, board: str) -> list[Told]:
        """Override."""
        deciding = {line.key: line.number for line in self._deciding(text, board).values()}
        by_number = {line.number: line for line in self.lines(text)}
        found = []
        for number, raw in enumerate(split_lines(text)):
            line, plain = by_number.get(number), raw.strip()
            if line is None:
                if plain and not plain.startswith(self.grammar.remark) and plain != self.grammar.first_line:
                    found.append(Told(number + 1, "", plain, "is neither a setting nor a remark"))
                continue
            odd = ""
            if not line.counts_for(board):
                odd = f"is for {' and '.join(line.boards)} only"
            elif deciding[line.key] != number:
                odd = f"does not count: line {deciding[line.key] + 1} sets it too"
            found.append(Told(number + 1, line.key, line.value, odd))
        return found

    def _deciding(self, text: str, board: str) -> dict[str, SettingLine]:
        """The line that counts for each word: one bound to the board before one for all, then the first or the last."""
        decided: dict[str, SettingLine] = {}
        for line in self.lines(text):
            if not line.counts_for(board):
                continue
            other = decided.get(line.key)
            if other is None or self._beats(line, other):
                decided[line.key] = line
        return decided

    def _beats(self, line: SettingLine, earlier: SettingLine) -> bool:
        if bool(line.boards) != bool(earlier.boards):
            return bool(line.boards)
        return self.grammar.wins == "last"

    def read(self, text: str, board: str, works: Works | None = None) -> dict[str, str]:
        """Override: nothing from a file that does not name its format."""
        if not self.recognised(text):
            return {}
        return {key: line.value for key, line in self._deciding(text, board).items()}

    def compile(self, old: str, wanted: Wanted) -> str:
        """Override. A word keeps the place that counts; a line shared with other boards is left to them."""
        lines: list[str | None] = list(split_lines(old))
        decided = self._deciding(old, wanted.board)
        fresh: list[str] = []
        for key, value in wanted.values.items():
            line = decided.get(key)
            if not value:
                self._take_out(lines, old, key, wanted.board)
            elif line is None:
                fresh.append(self._written(key, value))
            elif line.value == value:
                continue
            elif not line.boards or line.boards == (wanted.board,):
                lines[line.number] = self._written(
                    key, value, line.boards, ending="\r" if _returns(lines, line) else ""
                )
            else:
                own = self._written(key, value, (wanted.board,))
                if self.grammar.wins == "first":
                    lines[line.number] = f"{own}\n{lines[line.number]}"
                else:
                    fresh.append(own)
        kept = [line for line in lines if line is not None]
        if not self.recognised("\n".join(kept)):
            kept.insert(0, self.grammar.first_line)
        return "".join(f"{line}\n" for line in (*kept, *fresh))

    def _take_out(self, lines: list[str | None], old: str, key: str, board: str) -> None:
        """No line for this word counts for the board any more; other boards keep theirs."""
        for line in self.lines(old):
            if line.key == key and line.counts_for(board):
                others = tuple(name for name in line.boards if name != board)
                lines[line.number] = self._written(key, line.value, others) if others else None

    def _written(self, key: str, value: str, boards: tuple[str, ...] = (), *, ending: str = "") -> str:
        bound = f"{self.grammar.bound.replace('{boards}', ', '.join(boards))} " if boards else ""
        return f"{bound}{key} {self.grammar.separator} {value}{ending}"

    def explain(self, line: str, wanted: Wanted) -> str:
        """Override."""
        told = self._line(0, line)
        if told is None or not told.counts_for(wanted.board) or wanted.values.get(told.key) != told.value:
            return ""
        return wanted.settings.get(told.key, "")


def _returns(lines: list[str | None], line: SettingLine) -> bool:
    """Whether a line ends as a desktop's editor left it, with a carriage return."""
    return (lines[line.number] or "").endswith("\r")


def codec(file: DialectFile) -> SettingsFile:
    """For kinds.codec_of."""
    return SettingsFile(file.grammar)
