"""Settings, a line each: a word and its value, perhaps in a section, perhaps bound to some boards. How that is
written is data (Grammar)."""

from __future__ import annotations

import re
from dataclasses import dataclass

from kyklon.base.errors import WrongUse
from kyklon.catalogue.text_records import DialectFile, Grammar
from kyklon.model.kernel_line import set_words
from kyklon.operations.boot.dialects.codec import FaultWords, Wanted, Works, split_lines
from kyklon.operations.boot.dialects.words_file import LINE

WORD = re.compile(r"[A-Za-z_][\w.\-]*")


@dataclass(frozen=True)
class SettingLine:
    """number: from 0. boards: those it is bound to, none for all. key: with its section, as section/word. value: ''
    when nothing follows the separator. span: where the value stands in its line."""

    number: int
    boards: tuple[str, ...]
    key: str
    value: str
    span: tuple[int, int] = (0, 0)

    def counts_for(self, board: str) -> bool:
        return not self.boards or board in self.boards


@dataclass(frozen=True)
class SettingsFile:
    grammar: Grammar

    def recognised(self, text: str) -> bool:
        """Whether the file begins with the line that names its format."""
        first = next(iter(split_lines(text)), "").strip(" \t\r")  # the first line itself, no blank one before it
        return not self.grammar.first_line or first == self.grammar.first_line

    def lines(self, text: str) -> tuple[SettingLine, ...]:
        """Every line that sets something; remarks, blank and odd lines are passed over."""
        return tuple(line for line, _section in self.walked(text) if line is not None)

    def walked(self, text: str) -> list[tuple[SettingLine | None, str | None]]:
        """Of each line what it sets, and the section that it begins ('' for one that ends it); None for neither."""
        found: list[tuple[SettingLine | None, str | None]] = []
        section = ""
        for number, line in enumerate(split_lines(text)):
            begun = self._section(line)
            if begun is not None:
                section = begun
                found.append((None, begun))
                continue
            found.append((self._line(number, line, section), None))
        return found

    def _section(self, line: str) -> str | None:
        """The name of the section that a line begins, '' for one that ends it, None for another line."""
        if not self.grammar.section:
            return None
        plain = line.strip()
        if self.grammar.close and plain == self.grammar.close:
            return ""
        before, after = self.grammar.section.split("{section}")
        if len(plain) <= len(before) + len(after) or not (plain.startswith(before) and plain.endswith(after)):
            return None
        name = plain[len(before) : len(plain) - len(after)].strip()
        return name if WORD.fullmatch(name) and not plain.startswith(self.grammar.remark) else None

    def _line(self, number: int, line: str, section: str = "") -> SettingLine | None:
        grammar = self.grammar
        at = len(line) - len(line.lstrip())
        plain = line.strip()
        if not plain or plain.startswith(grammar.remark) or plain == grammar.first_line:
            return None
        boards: tuple[str, ...] = ()
        if grammar.bound:
            before, after = grammar.bound.split("{boards}")
            if line.startswith(before, at):
                end = line.find(after, at + len(before))
                if end < 0:
                    return None
                boards = tuple(name.strip() for name in line[at + len(before) : end].split(",") if name.strip())
                at = _past_blanks(line, end + len(after))
        if grammar.prefix:
            after_prefix = _past_blanks(line, at + len(grammar.prefix))
            if not line.startswith(grammar.prefix, at) or after_prefix == at + len(grammar.prefix):
                return None
            at = after_prefix
        word = WORD.match(line, at)
        if word is None:
            return None
        start = self._past_separator(line, word.end())
        if start is None:
            return None
        span = self._value(line, start)
        key = f"{section}/{word[0]}" if section else word[0]
        return None if span is None else SettingLine(number, boards, key, line[span[0] : span[1]], span)

    def _past_separator(self, line: str, at: int) -> int | None:
        """Where a value begins, blanks passed over; None where no separator stands."""
        after = _past_blanks(line, at)
        separator = self.grammar.separator.strip()
        if not separator:
            return after if after > at or after == len(line) else None
        return _past_blanks(line, after + len(separator)) if line.startswith(separator, after) else None

    def _value(self, line: str, start: int) -> tuple[int, int] | None:
        """Where a value begins and ends; None where something follows it that does not belong there."""
        grammar = self.grammar
        if grammar.quote and line.startswith(grammar.quote, start):
            end = line.find(grammar.quote, start + 1)
            return (start + 1, end) if end > 0 and self._ends(line[end + 1 :]) else None
        end = len(line.rstrip())
        if grammar.remark_behind:
            for found in re.finditer(rf"(?<=\s){re.escape(grammar.remark)}", line[start:]):
                end = len(line[: start + found.start()].rstrip())
                break
            if line.startswith(grammar.remark, start):
                end = start
        if grammar.ending:
            if not line.endswith(grammar.ending, start, end):
                return None
            end = len(line[: end - len(grammar.ending)].rstrip())
        return (start, end) if end >= start else (start, start)

    def _ends(self, rest: str) -> bool:
        """Whether only what may follow a quoted value follows it."""
        rest = rest.strip()
        if self.grammar.ending:
            if not rest.startswith(self.grammar.ending):
                return False
            rest = rest[len(self.grammar.ending) :].strip()
        return not rest or (self.grammar.remark_behind and rest.startswith(self.grammar.remark))

    def told(self, text: str, board: str) -> list[FaultWords]:
        """Override."""
        deciding = {line.key: line.number for line in self._deciding(text, board).values()}
        found = []
        raw_lines = split_lines(text)
        for number, (line, section) in enumerate(self.walked(text)):
            plain = raw_lines[number].strip()
            if section is not None:
                continue
            if line is None:
                if plain and not plain.startswith(self.grammar.remark) and plain != self.grammar.first_line:
                    found.append(FaultWords(number + 1, "", plain, "is neither a setting nor a comment"))
                continue
            odd = ""
            if not line.counts_for(board):
                odd = f"is for {' and '.join(line.boards)} only"
            elif deciding[line.key] != number:
                odd = f"has no effect: line {deciding[line.key] + 1} sets it too"
            found.append(FaultWords(number + 1, line.key, line.value, odd))
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
        found = {key: line.value for key, line in self._deciding(text, board).items()}
        if self.grammar.kernel_line:
            found[LINE] = found.pop(self.grammar.kernel_line, "")
        return found

    def compile(self, old: str, wanted: Wanted) -> str:
        """Override. A word keeps the place that counts; a line shared with other boards is left to them."""
        lines: list[str | None] = list(split_lines(old))
        decided = self._deciding(old, wanted.board)
        fresh: list[tuple[str, str]] = []  # section and line
        for key, value in self._values(wanted, decided).items():
            line = decided.get(key)
            if not value:
                self._take_out(lines, old, key, wanted.board)
            elif line is None:
                fresh.append((key.rpartition("/")[0], self._written(key, value)))
            elif line.value == value:
                continue
            elif not line.boards or line.boards == (wanted.board,):
                lines[line.number] = self._changed(lines[line.number] or "", line, value)
            else:
                own = self._written(key, value, (wanted.board,))
                if self.grammar.wins == "first":
                    lines[line.number] = f"{own}\n{lines[line.number]}"
                else:
                    fresh.append((key.rpartition("/")[0], own))
        kept = self._with_fresh(old, lines, fresh)
        if not self.recognised("\n".join(kept)):
            kept.insert(0, self.grammar.first_line)
        last = "" if old and not old.endswith("\n") and not fresh else "\n"
        return "\n".join(kept) + last if kept else ""

    def _values(self, wanted: Wanted, decided: dict[str, SettingLine]) -> dict[str, str]:
        """What is wanted by key, the kernel line among it where the file carries it."""
        values, key = dict(wanted.values), self.grammar.kernel_line
        if key:
            now = decided[key].value if key in decided else ""
            values[key] = set_words(now, wanted.words, wanted.without)
        return values

    def _with_fresh(self, old: str, lines: list[str | None], fresh: list[tuple[str, str]]) -> list[str]:
        """The lines with new ones put in: at the end of their section, the section itself made where there is none."""
        grammar = self.grammar
        begins: dict[str, int] = {}
        ends: dict[str, int] = {"": len(lines)}
        section = ""
        for number, (line, begun) in enumerate(self.walked(old)):
            if begun is not None:
                if begun and begun not in begins:
                    begins[begun] = number
                section = begun
            if section and (line is not None or begun):
                ends[section] = number + 1
        if begins:  # what belongs to no section stands before the first
            ends[""] = min(begins.values())
        added: dict[int, list[str]] = {}
        for name, text in fresh:
            if name in ends:
                added.setdefault(ends[name], []).append(text)
        kept: list[str] = []
        for number in range(len(lines) + 1):
            kept += added.get(number, [])
            if number < len(lines) and (line_now := lines[number]) is not None:
                kept.append(line_now)
        for name in dict.fromkeys(name for name, _text in fresh if name not in ends):
            kept += [grammar.section.replace("{section}", name), *(text for of, text in fresh if of == name)]
            kept += [grammar.close] if grammar.close else []
        return kept

    def _take_out(self, lines: list[str | None], old: str, key: str, board: str) -> None:
        """No line for this word counts for the board any more; other boards keep theirs."""
        for line in self.lines(old):
            if line.key == key and line.counts_for(board):
                others = tuple(name for name in line.boards if name != board)
                lines[line.number] = self._written(key, line.value, others) if others else None

    def _changed(self, line: str, there: SettingLine, value: str) -> str:
        """A line with another value; all the rest of it stays as it is."""
        start, end = there.span
        in_quotes = bool(self.grammar.quote) and line[start - 1 : start] == self.grammar.quote
        text = self._checked(value) if in_quotes else self._in_quotes(value, only_if_needed=bool(line[start:end]))
        if start == end and not in_quotes and line[start - 1 : start].strip():
            text = f" {text}"
        return line[:start] + text + line[end:]

    def _in_quotes(self, value: str, *, only_if_needed: bool = False) -> str:
        quote = self.grammar.quote
        if not quote or (only_if_needed and not re.search(r"\s", value)):
            return self._checked(value, bare=True)
        return f"{quote}{self._checked(value)}{quote}"

    def _checked(self, value: str, *, bare: bool = False) -> str:
        """A value that reads back as itself. Raises WrongUse."""
        grammar = self.grammar
        barred = ["\n", "\r"] + ([grammar.quote] if grammar.quote else [])
        if bare and grammar.remark_behind:
            barred.append(f" {grammar.remark}")
        for each in barred:
            if each in value:
                raise WrongUse(
                    f"“{value[:60]}” cannot be written: this boot file format cannot hold {each!r} in a value."
                )
        return value

    def _written(self, key: str, value: str, boards: tuple[str, ...] = ()) -> str:
        grammar = self.grammar
        bound = f"{grammar.bound.replace('{boards}', ', '.join(boards))} " if boards else ""
        prefix = f"{grammar.prefix} " if grammar.prefix else ""
        joint = grammar.joint or (f" {grammar.separator} " if grammar.separator.strip() else grammar.separator)
        told = self._in_quotes(value, only_if_needed=not grammar.quote_always)
        return f"{bound}{prefix}{key.rpartition('/')[2]}{joint}{told}{grammar.ending}"

    def explain(self, line: str, wanted: Wanted) -> str:
        """Override."""
        told = self._line(0, line)
        if told is None or not told.counts_for(wanted.board):
            return ""
        if told.key == self.grammar.kernel_line.rpartition("/")[2] and told.key:
            return "boot.kernel_words" if wanted.words else ""
        for key, value in wanted.values.items():
            if key.rpartition("/")[2] == told.key and value == told.value:
                return wanted.settings.get(key, "")
        return ""


def _past_blanks(line: str, at: int) -> int:
    while at < len(line) and line[at].isspace():
        at += 1
    return at


def codec(file: DialectFile) -> SettingsFile:
    """For kinds.codec_of."""
    return SettingsFile(file.grammar)
