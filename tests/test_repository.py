"""Parts shared by many: made, signed, checked, added, taken, withdrawn. ssh-keygen (OpenSSH) judges the signature."""

from __future__ import annotations

import json
import random
import shutil
import subprocess
from pathlib import Path

import pytest

from kyklon.base.errors import KyklonError
from kyklon.base.places import catalogue_folder
from kyklon.catalogue import loader
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Cable, Supply
from kyklon.commands.main import _run as main
from kyklon.model.world import World
from kyklon.parts import exchange, repository
from kyklon.parts.copies import kept
from kyklon.parts.view import inspect
from support import Demo

needs_keygen = pytest.mark.skipif(shutil.which("ssh-keygen") is None, reason="ssh-keygen is not installed")


def put(folder: Path, catalogue: Catalogue, kind: str, part: object, new_id: str, **changes: str) -> Path:
    """A part file in a repository, from a shipped part under another id."""
    text = exchange.exported(kind, part.id, catalogue).replace(f'id = "{part.id}"', f'id = "{new_id}"', 1)  # type: ignore[attr-defined]
    for old, new in changes.items():
        text = text.replace(old, new)
    path = folder / repository.PARTS / kind / f"{new_id}{repository.ENDING}"
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text, encoding="utf-8")
    return path


@pytest.fixture
def shared(tmp_path: Path, catalogue: Catalogue) -> Path:
    folder = tmp_path / "shared"
    put(folder, catalogue, "supplies", catalogue.all(Supply)[0], "club-supply")
    put(folder, catalogue, "cables", catalogue.all(Cable)[0], "club-cable")
    return folder


@pytest.fixture
def key(tmp_path: Path) -> Path:
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", tmp_path / "key"], check=True)
    return tmp_path / "key"


def shelf() -> Catalogue:
    return loader.load(catalogue_folder(), strict=False)


@needs_keygen
def test_the_signature_is_one_to_openssh(shared: Path, key: Path, tmp_path: Path, catalogue: Catalogue) -> None:
    """ssh-keygen -Y verify takes ours, -l prints the same fingerprint, and what it signs we take."""
    repository.make(shared, "Club", catalogue)
    print_ = repository.sign(shared, key)
    told = subprocess.run(["ssh-keygen", "-l", "-f", f"{key}.pub"], capture_output=True, text=True, check=True).stdout
    assert print_ in told.split()
    public = " ".join(Path(f"{key}.pub").read_text(encoding="ascii").split()[:2])
    (tmp_path / "allowed").write_text(f"club {public}\n", encoding="ascii")
    words = ["ssh-keygen", "-Y", "verify", "-f", str(tmp_path / "allowed"), "-I", "club", "-n", "kyklon-parts"]
    verify = [*words, "-s", str(shared / repository.SIGNATURE)]
    index = (shared / repository.INDEX).read_bytes()
    assert b"Good" in subprocess.run(verify, input=index, capture_output=True, check=True).stdout
    assert subprocess.run(verify, input=index + b" ", capture_output=True, check=False).returncode != 0
    (shared / repository.SIGNATURE).unlink()
    sign = ["ssh-keygen", "-q", "-Y", "sign", "-f", str(key), "-n", "kyklon-parts", str(shared / repository.INDEX)]
    subprocess.run(sign, check=True, capture_output=True)
    assert repository.signer_of(shared) == print_


def test_the_index_is_the_same_whoever_makes_it(shared: Path, tmp_path: Path, catalogue: Catalogue) -> None:
    """Made twice, from a copy, in another order of files: the same bytes; a merge of two hands is made again."""
    repository.make(shared, "Club", catalogue)
    first = (shared / repository.INDEX).read_bytes()
    assert len(first.splitlines()) == 2 + 2  # a line a part
    copy = tmp_path / "copy"
    for path in sorted(shared.rglob("*"), key=lambda path: path.name, reverse=True):
        if path.is_file() and path.name != repository.INDEX:
            place = copy / path.relative_to(shared)
            place.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(path, place)
    repository.make(copy, "Club", catalogue)
    assert (copy / repository.INDEX).read_bytes() == first
    repository.make(shared, "", catalogue)
    assert (shared / repository.INDEX).read_bytes() == first


def test_from_hand_to_hand_by_commands(
    shared: Path, key: Path, capsys: pytest.CaptureFixture[str], demo: Demo, catalogue: Catalogue
) -> None:
    """Made, signed, added by fingerprint, taken, changed, seen as a difference, taken again, withdrawn, warned."""
    place = str(shared)
    assert main(["part", "repository", "make", place, "--name", "Club"]) == 0
    assert main(["part", "repository", "sign", place, "--key", str(key)]) == 0
    assert main(["part", "repository", "check", place]) == 0
    print_ = repository.signer_of(shared)
    assert main(["part", "repository", "add", place]) == 2  # whose key is it?
    assert print_ in capsys.readouterr().err
    assert main(["part", "repository", "add", place, "--key", "SHA256:somebody-else"]) == 2
    assert main(["part", "repository", "add", place, "--key", print_]) == 0
    capsys.readouterr()
    assert main(["part", "repository", "news", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert [(row["part"], row["state"]) for row in told["news"]] == [
        ("cables/club-cable", "new"),
        ("supplies/club-supply", "new"),
    ]
    assert main(["part", "repository", "take", place, "--part", "supplies/club-supply"]) == 0
    assert "club-supply" in shelf().parts["supplies"]

    volts = catalogue.all(Supply)[0].volts
    put(shared, catalogue, "supplies", catalogue.all(Supply)[0], "club-supply", **{f"volts = {volts}": "volts = 5.25"})
    assert main(["part", "repository", "check", place]) == 1  # the file is not what the index names
    assert main(["part", "repository", "make", place]) == 0
    assert main(["part", "repository", "news"]) == 1  # signed no more: nothing of it is read
    assert main(["part", "repository", "sign", place, "--key", str(key)]) == 0
    capsys.readouterr()
    assert main(["part", "repository", "news"]) == 0
    assert "5.25" in capsys.readouterr().out
    assert main(["part", "repository", "take", place, "--part", "supplies/club-supply"]) == 1
    assert shelf().parts["supplies"]["club-supply"].volts == volts  # type: ignore[attr-defined] # nothing was changed yet
    assert main(["part", "repository", "take", place, "--part", "supplies/club-supply", "--replace"]) == 0
    assert shelf().parts["supplies"]["club-supply"].volts == 5.25  # type: ignore[attr-defined]

    build = kept(demo.build.with_part("supply", "club-supply"), shelf())
    why = "Its plug gets hot."
    assert main(["part", "repository", "withdraw", place, "--part", "supplies/club-supply", "--why", why]) == 0
    assert main(["part", "repository", "sign", place, "--key", str(key)]) == 0
    repository.look()
    found = [each for each in inspect(build, shelf(), World()) if each.code == "plan.withdrawn:supplies/club-supply"]
    assert [why in each.message for each in found] == [True]
    assert main(["part", "repository", "take", place, "--part", "supplies/club-supply", "--replace"]) == 2
    assert main(["part", "repository", "forget", place]) == 0
    repository.look()
    assert not [each for each in inspect(build, shelf(), World()) if each.code.startswith("plan.withdrawn")]


def test_two_that_disagree_are_shown_side_by_side(shared: Path, tmp_path: Path, catalogue: Catalogue) -> None:
    other = tmp_path / "other"
    volts = catalogue.all(Supply)[0].volts
    put(other, catalogue, "supplies", catalogue.all(Supply)[0], "club-supply", **{f"volts = {volts}": "volts = 5.1"})
    for folder, name in ((shared, "Club"), (other, "Other")):
        repository.make(folder, name, catalogue)
        repository.add(folder)
    rows = {
        (row.repository.index.name, row.entry.key): row.others
        for row in repository.news(repository.every()[0], shelf())
    }
    assert rows["Club", "supplies/club-supply"] == ("Other",)
    assert rows["Other", "supplies/club-supply"] == ("Club",)
    assert rows["Club", "cables/club-cable"] == ()


def test_whatever_is_changed_is_noticed(shared: Path, key: Path, catalogue: Catalogue) -> None:
    """500 random bytes changed, cut or added, in every file: never a part that was not signed, always a clear error."""
    repository.make(shared, "Club", catalogue)
    print_ = repository.sign(shared, key)
    files = sorted(path for path in shared.rglob("*") if path.is_file())
    whole = {path: path.read_bytes() for path in files}
    draw = random.Random(11)
    for _ in range(500):
        path = draw.choice(files)
        data = bytearray(whole[path])
        at = draw.randrange(len(data))
        match draw.randrange(3):
            case 0:
                data[at] ^= 1 << draw.randrange(8)
            case 1:
                del data[at:]
            case _:
                data[at:at] = draw.randbytes(3)
        path.write_bytes(data)
        try:
            found = repository.read(shared, print_)
            taken = [found.bytes_of(entry) for entry in found.index.parts]
        except KyklonError:
            taken = []
        allowed = [whole[shared / entry.file] for entry in repository._index_of(whole[shared / repository.INDEX]).parts]
        assert taken in ([], allowed), path
        path.write_bytes(whole[path])
    assert repository.check(shared, catalogue) == ()


@pytest.mark.parametrize(
    "file", ["../../outside.kyklon.toml", "/etc/passwd", "parts/../../x.kyklon.toml", "parts/supplies/link.kyklon.toml"]
)
def test_an_index_leads_nowhere_else(shared: Path, tmp_path: Path, catalogue: Catalogue, file: str) -> None:
    repository.make(shared, "Club", catalogue)
    (tmp_path / "outside.kyklon.toml").write_text("[[supplies]]\n", encoding="utf-8")
    (shared / "parts/supplies/link.kyklon.toml").symlink_to(tmp_path / "outside.kyklon.toml")
    index = json.loads((shared / repository.INDEX).read_text(encoding="utf-8"))
    index["parts"][0]["file"] = file
    (shared / repository.INDEX).write_text(json.dumps(index), encoding="utf-8")
    found = repository.read(shared)
    with pytest.raises(KyklonError):
        found.bytes_of(found.index.parts[0])
    assert repository.check(shared, catalogue)


@pytest.mark.parametrize(
    "text",
    ["", "[]", "{", '{"format": 2, "name": "x"}', '{"name": 1}', '{"name": "x", "parts": [{"kind": "y"}]}', "\0" * 9],
)
def test_an_index_that_is_none_is_refused(shared: Path, catalogue: Catalogue, text: str) -> None:
    (shared / repository.INDEX).write_text(text, encoding="utf-8")
    with pytest.raises(KyklonError):
        repository.read(shared)
    assert repository.check(shared, catalogue)


def test_two_files_of_one_part_are_named(shared: Path, catalogue: Catalogue) -> None:
    path = next((shared / "parts/supplies").iterdir())
    shutil.copyfile(path, path.with_name(f"again{repository.ENDING}"))
    with pytest.raises(KyklonError, match="both hold supplies/club-supply"):
        repository.make(shared, "Club", catalogue)
