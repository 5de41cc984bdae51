"""Topics of the help as Markdown, their order, and the search through them. Nothing goes over the network."""

from __future__ import annotations

import functools
import re
import unicodedata
from dataclasses import dataclass
from importlib.resources import files

from kyklon.base.errors import WrongUse

GROUPS = (  # heading, and the topics below it in their order
    ("Pages", ("start", "plan", "card", "boot", "controls", "picture", "library", "tuning", "assembly", "power-on")),
    ("", ("upkeep", "shelf", "logbook")),
    ("Safety", ("cautions",)),
    (
        "Whole jobs",
        (
            "job-tv-console",
            "job-cabinet-tube",
            "job-cocktail",
            "job-stick-machine",
            "job-old-keyboard",
            "job-multiboot",
            "job-bare-metal",
            "job-black-screen",
            "job-add-on",
            "job-running-machine",
            "job-worn-card",
            "job-lesson",
        ),
    ),
    ("To look up", ("findings", "glossary", "words")),
)
OF_OPERATION = {
    10: "plan",
    20: "card",
    30: "boot",
    40: "controls",
    50: "picture",
    60: "library",
    70: "tuning",
    80: "assembly",
    90: "power-on",
    95: "upkeep",
}


@dataclass(frozen=True)
class Topic:
    """id: the file's name. text: Markdown, with its title as the first heading."""

    id: str
    title: str
    text: str


@dataclass(frozen=True)
class Hit:
    """A place in a topic. heading: the nearest above it, '' for the top. line: what was found there, in plain words."""

    topic: Topic
    heading: str
    line: str


@functools.lru_cache(maxsize=1)
def topics() -> dict[str, Topic]:
    """All of them by id, in their order."""
    place = files("kyklon.help").joinpath("data")
    found = {}
    for _heading, ids in GROUPS:
        for name in ids:
            text = place.joinpath(f"{name}.md").read_text(encoding="utf-8")
            found[name] = Topic(name, text.partition("\n")[0].lstrip("# ").strip(), text)
    return found


def topic(name: str) -> Topic:
    """One topic by id, by title, or by a finding's code. Raises WrongUse for another word."""
    known = topics()
    if name in known:
        return known[name]
    for each in known.values():
        if _plain(each.title) == _plain(name) or _plain(each.title).partition(" ")[2] == _plain(name):
            return each
    if (section := of_code(name)) is not None:
        return section
    raise WrongUse(f"There is no help on {name!r}.", do="`kyklon help` lists the topics; --find searches in them.")


def of_code(code: str) -> Topic | None:
    """What the findings' topic says of a code, as a topic of its own; None for one it does not know."""
    return _codes().get(code.partition(":")[0])


@functools.lru_cache(maxsize=1)
def _codes() -> dict[str, Topic]:
    found = {}
    for part in re.split(r"(?m)^### ", topics()["findings"].text)[1:]:
        name, _, body = part.partition("\n")
        body = re.split(r"(?m)^## ", body)[0]
        found[name] = Topic(name, name, f"# {name}\n{body}")
    return found


def find(words: str, most: int = 40) -> tuple[Hit, ...]:
    """Places that hold all words, those in headings first; capitals and accents make no difference."""
    wanted = [_plain(word) for word in words.split()]
    if not wanted:
        return ()
    strong: list[Hit] = []
    weak: list[Hit] = []
    for each in topics().values():
        heading = ""
        for line in each.text.splitlines():
            if line.startswith("#"):
                heading = line.lstrip("# ")
            plain = _plain(line)
            if line.startswith("![") or not all(word in f"{plain} {_plain(heading)}" for word in wanted):
                continue
            if not any(word in plain for word in wanted):
                continue
            hit = Hit(each, heading if heading != each.title else "", without_marks(line))
            (strong if line.startswith("#") else weak).append(hit)
    return tuple([*strong, *weak][:most])


def without_marks(text: str) -> str:
    """A line of Markdown as plain words, without the mark that it begins with."""
    text = re.sub(r"^\s*(#+|\* |\d+\. |\|)\s*", "", text)
    return without_marks_inside(re.sub(r"\s*\|\s*$", "", text).replace(" | ", ": "))


def without_marks_inside(text: str) -> str:
    """The same, but a list's own mark stays."""
    text = re.sub(r"!?\[([^\]]*)\]\([^)]*\)", r"\1", text)
    text = re.sub(r"\*\*([^*]+)\*\*", r"\1", text)
    text = re.sub(r"(?<!\S)\*([^*\s][^*]*)\*", r"\1", text)
    return text.replace("`", "").strip()


def _plain(text: str) -> str:
    return "".join(
        letter for letter in unicodedata.normalize("NFKD", text.casefold()) if not unicodedata.combining(letter)
    )
