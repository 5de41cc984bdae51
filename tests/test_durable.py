"""Durable writing: whole or not at all, one writer after the other, nothing left behind, hostile names."""

from __future__ import annotations

import os
import threading
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base import durable
from kyklon.base.errors import KyklonError, VerifyError


def left(folder: Path) -> list[str]:
    return [path.name for path in folder.rglob("*") if path.name.endswith(durable.UNFINISHED)]


@given(
    st.binary(max_size=4000), st.text(st.characters(codec="utf-8", exclude_characters="/\0"), min_size=1, max_size=80)
)
def test_what_is_written_is_there_under_any_name(
    tmp_path_factory: pytest.TempPathFactory, data: bytes, name: str
) -> None:
    folder = tmp_path_factory.mktemp("durable")
    if name in (".", "..") or len(name.encode()) > 255:
        return
    durable.replace(folder / name, b"before")
    durable.replace(folder / name, data)
    assert (folder / name).read_bytes() == data
    assert left(folder) == []


def test_many_writers_at_once_leave_one_whole_file(tmp_path: Path) -> None:
    path = tmp_path / "deep" / "file"
    contents = [bytes([number]) * 300_000 for number in range(8)]
    threads = [threading.Thread(target=durable.replace, args=(path, content)) for content in contents]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert path.read_bytes() in contents
    assert left(tmp_path) == []


def test_what_a_crash_left_is_used_up(tmp_path: Path) -> None:
    (tmp_path / f".file{durable.UNFINISHED}").write_bytes(b"half of somethi")
    durable.replace(tmp_path / "file", b"new")
    assert (tmp_path / "file").read_bytes() == b"new"
    assert left(tmp_path) == []


def test_a_link_planted_under_the_unfinished_name_is_not_followed(tmp_path: Path) -> None:
    victim = tmp_path / "victim"
    victim.write_bytes(b"precious")
    (tmp_path / f".file{durable.UNFINISHED}").symlink_to(victim)
    with pytest.raises(OSError, match="symbolic links"):
        durable.replace(tmp_path / "file", b"new")
    assert victim.read_bytes() == b"precious"


def test_a_place_that_cannot_be_written_is_told_in_words(tmp_path: Path) -> None:
    (tmp_path / "file").write_bytes(b"")
    with pytest.raises(KyklonError, match="cannot be written"):
        durable.keep(tmp_path / "file" / "below", b"x")


def test_a_copy_counts_once_it_was_read_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    source, target = tmp_path / "a", tmp_path / "to" / "b"
    source.write_bytes(os.urandom(3_000_000))
    moved: list[int] = []
    assert durable.copy(source, target, moved.append)
    assert target.read_bytes() == source.read_bytes()
    assert sum(moved) == 3_000_000
    assert not durable.copy(source, target)  # it is there already
    target.unlink()
    real = durable._digest
    monkeypatch.setattr(durable, "_digest", lambda path: b"worn" if durable.UNFINISHED in path.name else real(path))
    with pytest.raises(VerifyError, match="reads back differently"):
        durable.copy(source, target)
    assert not target.exists()
    assert left(tmp_path) == []


def test_a_copy_that_is_stopped_leaves_nothing(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(bytes(3_000_000))

    def stop(_count: int) -> None:
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        durable.copy(tmp_path / "a", tmp_path / "b", stop)
    assert not (tmp_path / "b").exists()
    assert left(tmp_path) == []
