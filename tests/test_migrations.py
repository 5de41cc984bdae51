"""Builds as each version of the file kept them: written by the program of that time, opened by the program of now."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import VERSION
from kyklon.model.world import World
from kyklon.parts.view import inspect
from kyklon.record import folder as store

FIXTURES = Path(__file__).parent / "fixtures"
KEPT = sorted(FIXTURES.glob("build-v*.json"), key=lambda path: int(path.stem.removeprefix("build-v")))
# what a step changed on purpose, as the beginning of a path
RENAMED = ("version", "boot.kernel", "tuning")


def leaves(data: Any, path: str = "") -> Iterator[tuple[str, Any]]:
    """Every value below a document, by its path."""
    if isinstance(data, dict):
        for name, value in data.items():
            yield from leaves(value, f"{path}.{name}".strip("."))
    elif isinstance(data, list):
        for number, value in enumerate(data):
            yield from leaves(value, f"{path}.{number}")
    else:
        yield path, data


def test_every_version_of_the_file_is_kept() -> None:
    """Whoever makes the number larger writes the demo of before into tests/fixtures first (docs/adding.md)."""
    assert [json.loads(path.read_text(encoding="utf-8"))["version"] for path in KEPT] == list(range(1, VERSION + 1))


@pytest.mark.parametrize("path", KEPT, ids=lambda path: path.stem)
def test_nothing_that_was_decided_is_lost(path: Path, tmp_path: Path, catalogue: Catalogue) -> None:
    """Each value is still there, under its name; saved and opened again it is the same; its findings are as of now."""
    old = json.loads(path.read_text(encoding="utf-8"))
    (tmp_path / "build.json").write_bytes(path.read_bytes())
    build = store.load(tmp_path).build
    now = dict(leaves(build.model_dump(mode="json")))
    lost = {
        name: value
        for name, value in leaves(old)
        if value not in (None, "", 0, False) and not name.startswith(RENAMED) and now.get(name) != value
    }
    assert not lost
    assert build.version == VERSION
    assert build.boot.kernel == "merrow-armv8.krn"  # 'merrow8.krn' before version 3
    store.save(tmp_path, build)
    assert store.load(tmp_path).build == build
    assert {finding.code for finding in inspect(build, catalogue, World())} >= {"picture.out-of-range:menu"}


def test_a_newer_file_is_left_as_it_is(tmp_path: Path) -> None:
    data = json.loads(KEPT[-1].read_text(encoding="utf-8")) | {"version": VERSION + 1}
    (tmp_path / "build.json").write_text(json.dumps(data), encoding="utf-8")
    before = (tmp_path / "build.json").read_bytes()
    with pytest.raises(store.NewerBuild):
        store.load(tmp_path)
    assert (tmp_path / "build.json").read_bytes() == before
