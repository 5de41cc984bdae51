"""A boot file's grammar derived from a sample: its user says which line carries which decision, the rest follows.

Every grammar that could be meant is tried on all lines; the simplest that understands the most is taken, and it must
write the sample back byte for byte.
"""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from kyklon.base.errors import FormatError, KyklonError
from kyklon.catalogue.text_records import DialectEntry, DialectFile, Grammar
from kyklon.model.build import Build
from kyklon.model.fields import Field, describe
from kyklon.operations.boot.dialects.codec import Wanted, split_lines
from kyklon.operations.boot.dialects.settings_file import SettingsFile
from kyklon.operations.picture import exports
from kyklon.parts.draft import Draft

LARGEST = 64 * 1024  # characters of a boot file; as cards are read
MOST_LINES = 2000
KERNEL_LINE = "boot.kernel_words"
_SEPARATORS = ("=", ":", ":=", "=>", "->", " ")
_REMARKS = ("#", ";", "//", "--", "!", "'", "*", "%", "REM", "rem", "@", "|", "~")
_ENDINGS = (";", ",", ".")
_SECTIONS = (
    ("[{section}]", ""),
    ("{section} {", "}"),
    ("{section}:", ""),
    ("<{section}>", ""),
    ("begin {section}", "end"),
    ("= {section} =", ""),
)
_PAIRS = (("yes", "no"), ("on", "off"), ("true", "false"), ("1", "0"), ("enabled", "disabled"), ("enable", "disable"))
# what each decision's value is made of; the same expressions as the shipped dialects'
TEMPLATES: Mapping[str, str] = {
    "boot.kernel": "{{ build.boot.kernel }}",
    "boot.device_tree": "{{ build.boot.device_tree }}",
    "picture.menu": "{{ timing if not number else '' }}",
    "boot.mode_as": "{{ number }}",
    "boot.force_output": "{{ 'on' if build.boot.force_output else '' }}",
    "boot.link": "{{ build.boot.link if build.boot.link != 'auto' else '' }}",
    "boot.ignore_identification": "{{ 'on' if build.boot.ignore_identification else '' }}",
    "boot.signal_strength": "{{ build.boot.signal_strength if build.boot.signal_strength != 5 else '' }}",
    "boot.overscan_percent": "{{ inset }}",
    "boot.frame_size": "{{ build.boot.frame_size }}",
    "boot.turn": "{{ turn }}",
    "boot.safe_start": "{{ 'on' if build.boot.safe_start else '' }}",
    "boot.sound": "{{ build.boot.sound }}",
    "boot.video_memory_mb": "{{ build.boot.video_memory_mb }}",
    "boot.processor_mhz": "{{ build.boot.processor_mhz or '' }}",
    "boot.overlays": "{{ overlays }}",
    "boot.user": "{{ build.boot.user }}",
    "boot.country": "{{ build.boot.country }}",
    "boot.hostname": "{{ build.boot.hostname }}",
    KERNEL_LINE: "",
}
# what a board must obey for a line to be written: as the shipped dialects have it
NEEDS: Mapping[str, str] = {
    "picture.menu": "boot file",
    "boot.mode_as": "boot file",
    "boot.link": "link kind",
    "boot.ignore_identification": "ignore identification",
    "boot.signal_strength": "signal strength",
    "boot.overscan_percent": "inset",
    "boot.frame_size": "frame size",
    "boot.turn": "turn",
    "boot.safe_start": "safe start",
    "boot.sound": "sound route",
    "boot.video_memory_mb": "memory split",
    "boot.processor_mhz": "processor clock",
    "boot.overlays": "header",
}


@dataclass(frozen=True)
class SampleLine:
    """number: from 1. kind: what the grammar takes it for. key: with its section. setting: the decision that it
    carries, '' while nobody has said."""

    number: int
    text: str
    kind: str  # setting, remark, section, blank, not understood
    key: str = ""
    value: str = ""
    setting: str = ""


@dataclass(frozen=True)
class Sample:
    """A boot file to learn from. marks: line number to the decision it carries. words: by decision, how its values are
    spelt. path: below the boot partition."""

    text: str
    path: str
    marks: Mapping[int, str] = field(default_factory=dict)
    words: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    grammar: Grammar = field(default_factory=Grammar)

    @property
    def lines(self) -> tuple[SampleLine, ...]:
        """Every line, as the grammar takes it."""
        return _lines(self)

    def marked(self, number: int, setting: str) -> Sample:
        """With a line that carries a decision; '' takes it back. Raises ValueError in words."""
        marks = {at: each for at, each in self.marks.items() if at != number and each != setting}
        if not 1 <= number <= len(split_lines(self.text)):
            raise ValueError(f"The sample has no line {number}")
        if setting:
            if setting not in TEMPLATES:
                raise ValueError(f"{setting} is not a boot file setting")
            marks[number] = setting
        made = replace(self, marks=marks)
        made = replace(made, grammar=derive(made.text, tuple(marks), kernel_line_at=_at(marks, KERNEL_LINE)))
        if setting:
            line = made.lines[number - 1]
            if line.kind != "setting":
                raise ValueError(f"Line {number} is not a key with a value in any grammar: “{line.text.strip()[:60]}”")
            why = unsuited(setting, line.value)
            if why:
                raise ValueError(why)
            made = replace(made, words={**self.words, setting: spelling(setting, line.value)})
        return made

    def spelt(self, setting: str, value: str, word: str) -> Sample:
        """With how one value of a decision is spelt."""
        return replace(self, words={**self.words, setting: {**self.words.get(setting, {}), value: word.strip()}})


def sample_of(data: bytes, path: str) -> Sample:
    """A sample from a file's bytes, with the grammar that understands most of it. Raises FormatError for no text."""
    if len(data) > LARGEST:
        raise FormatError(path, LARGEST, expected=f"a boot file of at most {LARGEST} bytes", got=f"{len(data)}")
    zero = data.find(b"\0")
    if zero >= 0:
        raise FormatError(path, zero, expected="a text file", got="a zero byte")
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as bad:
        raise FormatError(path, bad.start, expected="UTF-8 text", got=f"byte {data[bad.start]:#04x}") from bad
    if text.count("\n") > MOST_LINES:
        raise FormatError(path, 0, expected=f"at most {MOST_LINES} lines", got="more")
    return Sample(text, path.lstrip("/"), grammar=derive(text))


def _at(marks: Mapping[int, str], setting: str) -> int:
    return next((number for number, each in marks.items() if each == setting), 0)


def _lines(sample: Sample) -> tuple[SampleLine, ...]:
    codec = SettingsFile(sample.grammar)
    found = []
    for number, (line, (told, section)) in enumerate(
        zip(split_lines(sample.text), codec.walked(sample.text), strict=True), 1
    ):
        plain = line.strip()
        if told is not None:
            found.append(SampleLine(number, line, "setting", told.key, told.value, sample.marks.get(number, "")))
        elif section is not None:
            found.append(SampleLine(number, line, "section", section))
        elif not plain:
            found.append(SampleLine(number, line, "blank"))
        elif plain.startswith(sample.grammar.remark):
            found.append(SampleLine(number, line, "remark"))
        else:
            found.append(SampleLine(number, line, "not understood"))
    return tuple(found)


# --- the grammar ---------------------------------------------------------------------------------------------------


def derive(text: str, marked: Iterable[int] = (), *, kernel_line_at: int = 0) -> Grammar:
    """The simplest grammar that understands most of a text's lines, every marked one among them."""
    lines = split_lines(text)[:300]
    marks = {each - 1 for each in marked}
    best: tuple[float, Grammar] | None = None
    for order, grammar in enumerate(_candidates(lines)):
        score = _score(grammar, lines, marks) - order * 1e-4
        if best is None or score > best[0]:
            best = (score, grammar)
    assert best is not None
    grammar = _with_joint(best[1], lines)
    codec = SettingsFile(grammar)
    if kernel_line_at:
        told = [line for line in codec.lines(text) if line.number == kernel_line_at - 1]
        grammar = grammar.model_copy(update={"kernel_line": told[0].key}) if told else grammar
    return grammar


def _candidates(lines: Sequence[str]) -> Iterable[Grammar]:
    """Grammars made of what is to be seen in the lines, plain ones first."""
    plain = [line.strip() for line in lines if line.strip()]
    joined = "\n".join(plain)
    separators = [each for each in _SEPARATORS if each in joined]
    remarks = [each for each in _REMARKS if any(line.startswith(each) for line in plain)] or ["#"]
    remarks = remarks[:4]
    endings = ["", *(each for each in _ENDINGS if sum(line.rstrip().endswith(each) for line in plain) >= 2)]
    quotes = ["", *(each for each in ('"', "'") if joined.count(each) >= 2)]
    sections = [("", "")]
    for section, close in _SECTIONS:
        before, after = section.split("{section}")
        pattern = re.compile(rf"{re.escape(before)}\s*[A-Za-z_][\w.\-]*\s*{re.escape(after)}")
        if any(pattern.fullmatch(line) for line in plain):
            sections.append((section, close))
    first = Counter(line.split()[0] for line in plain if len(line.split()) > 1)
    prefixes = [
        "",
        *(word for word, count in first.most_common(3) if count >= 2 and re.fullmatch(r"[A-Za-z_@.$]\w{0,15}", word)),
    ]
    behind = [False, *([True] if any(f" {mark}" in line for mark in remarks for line in plain) else [])]
    tails: list[tuple[Any, ...]] = list(itertools.product(endings, quotes, sections, prefixes, behind))
    for (remark, separator), (ending, quote, section, prefix, after) in itertools.product(
        itertools.product(remarks, separators or ["="]), tails
    ):
        yield Grammar(
            separator=separator,
            remark=remark,
            ending=ending,
            quote=quote,
            section=section[0],
            close=section[1],
            prefix=prefix,
            remark_behind=after,
        )


def _score(grammar: Grammar, lines: Sequence[str], marked: set[int]) -> float:
    """How well a grammar fits: understood lines, less what makes its words look wrong."""
    codec = SettingsFile(grammar)
    score, seen = 0.0, set[str]()
    for number, (line, (told, section)) in enumerate(zip(lines, codec.walked("\n".join(lines)), strict=False)):
        plain = line.strip()
        if not plain:
            continue
        if told is not None:
            score += 1.0 if told.key not in seen else 0.4  # one word again and again is a prefix
            seen.add(told.key)
            value = told.value
            if grammar.separator == " ":  # whatever has two words would do
                score -= 0.1
            if value[:1] in "=:" or value[-1:] in ";,{" or (value[:1] in "\"'" and value[-1:] == value[:1]):
                score -= 0.5
            if any(mark in value for mark in (f" {grammar.remark}", " #", " ;", " //")):
                score -= 0.4
            if plain.startswith(("#", ";", "//", "--", "!")):
                score -= 1.0
        elif section is not None:
            score += 1.0
        elif plain.startswith(grammar.remark):
            score += 0.95
        elif number in marked:
            score -= 100
        if number in marked and told is None:
            score -= 100
    return score


def _with_joint(grammar: Grammar, lines: Sequence[str]) -> Grammar:
    """With the blanks that stand round the separator in most lines."""
    codec = SettingsFile(grammar)
    seen: Counter[str] = Counter()
    quoted = bare = 0
    for line in lines:
        told = codec.lines(line)
        if told:
            in_quotes = bool(grammar.quote) and line[told[0].span[0] - 1 : told[0].span[0]] == grammar.quote
            quoted, bare = quoted + in_quotes, bare + (not in_quotes)
            start = told[0].span[0] - in_quotes
            word = told[0].key.rpartition("/")[2]
            at = line.find(word) + len(word)
            if 0 < at <= start and line[at:start].strip() == grammar.separator.strip():
                seen[line[at:start]] += 1
    joint = seen.most_common(1)[0][0] if seen else ""
    return grammar.model_copy(update={"joint": joint[:40], "quote_always": not grammar.quote or quoted > bare})


# --- values --------------------------------------------------------------------------------------------------------


def offered() -> tuple[tuple[str, str], ...]:
    """The decisions that a line may carry: their paths, and what the screen calls them."""
    return tuple(
        (path, "Kernel command line" if path == KERNEL_LINE else describe(Build, path).label) for path in TEMPLATES
    )


def unsuited(setting: str, value: str) -> str:
    """Why a value cannot be one of that decision, in words; '' when it can."""
    if setting == "picture.menu":
        try:
            exports.parse_timing_line(value)
        except KyklonError:
            return (
                f"“{value[:40]}” is a mode written in a way that cannot "
                "be checked; leave this line as it is, and set the "
                "mode on the kernel command line"
            )
    if setting == "boot.mode_as" and value and not re.fullmatch(r"(cta|dmt) \d{1,3}", value):
        return f"“{value[:40]}” is not a standard mode number; write e.g. cta 1 or dmt 4"
    named = describe(Build, setting) if setting != KERNEL_LINE else None
    if named is not None and named.kind == "number" and value:
        try:
            named.parse(value)
        except ValueError as bad:
            return str(bad)
    return ""


def spelling(setting: str, value: str) -> dict[str, str]:
    """How the values of a decision are spelt, guessed from the one that the sample has; for the user to set right."""
    if setting == KERNEL_LINE:
        return {}
    named: Field = describe(Build, setting)
    if named.kind == "switch":
        for on, off in _PAIRS:
            if value.lower() in (on, off):
                return {"on": _cased(on, value), "": _cased(off, value)}
        return {"on": value, "": ""}
    if named.kind == "choice":
        known = {str(each): str(each) for each, _words in named.choices}
        if value in known or not value:
            return {}
        first = next(iter(known))
        return {**known, first: value}
    return {}


def _cased(word: str, like: str) -> str:
    return word.upper() if like.isupper() and not like.isdigit() else word.capitalize() if like[:1].isupper() else word


def values_of(setting: str) -> tuple[tuple[str, str], ...]:
    """The values whose spelling is asked: value and words; none for what is written as it is."""
    if setting == KERNEL_LINE:
        return ()
    named = describe(Build, setting)
    if named.kind == "switch":
        return ("on", "on"), ("", "off")
    return named.choices if named.kind == "choice" and setting not in ("boot.turn", "boot.mode_as") else ()


# --- the trial -----------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Trial:
    """What came of reading, issuing and reading again. same: the sample came back byte for byte. kept: each carried
    decision was changed and read back. odd: lines that are not understood, with their numbers."""

    same: bool
    kept: bool
    odd: tuple[tuple[int, str], ...]
    why: str = ""

    @property
    def good(self) -> bool:
        return self.same and self.kept


def tried(sample: Sample) -> Trial:
    """Read the sample, issue it, read it again; then change every value and read that."""
    codec = SettingsFile(sample.grammar)
    odd = tuple((line.number, line.text.strip()[:80]) for line in sample.lines if line.kind == "not understood")
    entries = entries_of(sample)
    now = codec.read(sample.text, "")
    values = {entry.key: now.get(entry.key, "") for entry in entries}
    kernel_words = tuple(now.get("kernel line", "").split())
    same_wanted = Wanted("", values, {}, kernel_words)
    try:
        issued = codec.compile(sample.text, same_wanted)
        same = issued == sample.text and codec.read(issued, "") == now
        why = "" if same else "The generated file differs from the sample."
        kept = True
        for entry in entries:
            other = _another(entry, values[entry.key])
            changed = codec.compile(sample.text, replace(same_wanted, values={**values, entry.key: other}))
            again = codec.read(changed, "")
            if again.get(entry.key, "") != other or {**again, entry.key: ""} != {**now, entry.key: ""}:
                kept, why = False, f"{entry.key} does not read back as what was written."
    except KyklonError as bad:
        return Trial(False, False, odd, str(bad))
    return Trial(same, kept, odd, why)


def _another(entry: DialectEntry, value: str) -> str:
    """Another value for a line, of the kind that it has."""
    if entry.words:
        return next((word for word in entry.words.values() if word and word != value), value)
    return "7" if value.isdigit() and value != "7" else "another.file" if value != "another.file" else "one.more"


def entries_of(sample: Sample) -> tuple[DialectEntry, ...]:
    """An entry for each marked line; the kernel line is the grammar's own."""
    found = []
    for line in sample.lines:
        if not line.setting or line.setting == KERNEL_LINE or line.kind != "setting":
            continue
        value = TEMPLATES[line.setting]
        if line.value.startswith("/") and line.setting in ("boot.kernel", "boot.device_tree"):
            value = f"/{value}"
        words = {key: word for key, word in sample.words.get(line.setting, {}).items() if key != word}
        found.append(
            DialectEntry(
                setting=line.setting, key=line.key, value=value, needs=NEEDS.get(line.setting, ""), words=words
            )
        )
    return tuple(found)


def draft_of(sample: Sample, longest_line: int = 0, overlays: str = "") -> Draft:
    """The dialect as a draft. Raises ValueError when nothing was marked."""
    if not sample.marks:
        raise ValueError("Assign a setting to at least one line")
    file = DialectFile(path=sample.path, kind="settings", grammar=sample.grammar, entries=entries_of(sample))
    rows: list[dict[str, Any]] = [file.model_dump(mode="json", exclude_defaults=True)]
    if not sample.grammar.kernel_line:
        rows.append({"path": "kernel.line", "kind": "words"})
    length = longest_line or max(160, *(len(line) + 40 for line in split_lines(sample.text)))
    name = sample.path.rpartition("/")[2]
    draft = Draft("dialects", asked=("longest_line", "overlays")).with_measured(f"the sample {name}", files=rows)
    draft = draft.offer("longer than the sample's lines; look it up", longest_line=length)
    draft = draft.with_value("overlays", overlays) if overlays else draft
    return draft.with_read(name, name=f"As in {name}"[:120])
