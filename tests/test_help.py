"""The help: every page and finding has a topic, every link leads somewhere, the search finds, nothing of a build is
taken for more than text."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

from kyklon.catalogue.loader import Catalogue
from kyklon.commands.main import _run as main
from kyklon.demo.known import DEMOS
from kyklon.help import topics
from kyklon.operations.inspection import inspect, observe
from kyklon.operations.registry import OPERATIONS
from kyklon.record import folder as store

ROOT = Path(__file__).parent.parent


def test_every_operation_and_every_group_has_its_topics() -> None:
    assert set(topics.OF_OPERATION) == {operation.number for operation in OPERATIONS}
    listed = [name for _heading, ids in topics.GROUPS for name in ids]
    assert len(listed) == len(set(listed))
    there = {path.stem for path in (ROOT / "src/kyklon/help/data").glob("*.md")}
    assert there == set(listed)
    assert len([name for name in listed if name.startswith("job-")]) >= 10


def test_the_page_of_findings_is_as_the_program_says_them() -> None:
    done = subprocess.run([sys.executable, ROOT / "tools/finding_pages.py", "--check"], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize("name", ["lighthouse", "camper", "school-fair"])
def test_every_finding_of_the_demos_has_a_page(name: str, tmp_path: Path, catalogue: Catalogue) -> None:
    folder = tmp_path / name
    DEMOS[name].make(folder, catalogue)
    build = store.load(folder).build
    found = inspect(build, catalogue, observe(build, folder, catalogue))
    assert found or name == "school-fair"  # which has nothing to say
    for finding in found:
        page = topics.of_code(finding.code)
        assert page is not None, finding.code
        assert "What to do:" in page.text
        assert re.search(r"\w", page.text.partition("What to do:")[2])


def test_links_and_pictures_lead_somewhere() -> None:
    """Of the help, the documents and the first page; anchors too."""
    for path in [*ROOT.glob("*.md"), *ROOT.glob("docs/*.md"), *ROOT.glob("src/kyklon/help/data/*.md")]:
        text = re.sub(r"(?s)```.*?```", "", path.read_text(encoding="utf-8"))
        for target in re.findall(r"\]\(([^)\s]+)\)", text):
            place, _, anchor = target.partition("#")
            if re.match(r"[a-z]+:", place):
                continue
            home = ROOT / "docs" if "help/data" in path.as_posix() and place.startswith("screenshots/") else path.parent
            there = home / place if place else path
            assert there.exists(), f"{path.name}: {target}"
            if anchor:
                heads = re.findall(r"(?m)^#+ (.+)$", there.read_text(encoding="utf-8"))
                assert anchor in {re.sub(r"[^\w -]", "", head.lower()).replace(" ", "-") for head in heads}, target


def test_the_search_finds_words_wherever_they_stand(capsys: pytest.CaptureFixture[str]) -> None:
    assert {hit.topic.id for hit in topics.find("OVERSCAN")} >= {"picture", "glossary"}
    assert topics.find("no-such-word-anywhere") == topics.find("  ") == ()
    assert main(["help", "--find", "host key", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["hits"]
    assert main(["help", "--find", "qqqq"]) == 1


def test_topics_by_name_title_and_code(capsys: pytest.CaptureFixture[str]) -> None:
    assert topics.topic("picture") is topics.topic("50 Picture") is topics.topic("PICTURE")
    assert topics.topic("boot.country:x").title == "boot.country"
    assert main(["help", "nothing-like-it"]) == 2
    assert "lists the topics" in capsys.readouterr().err
    for name in topics.topics():
        assert main(["help", name]) == 0
        told = capsys.readouterr().out
        assert "](" not in told
        assert "**" not in told
        assert max(map(len, told.splitlines())) <= 400 if name in ("words", "findings") else 101
