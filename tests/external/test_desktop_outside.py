"""What a desktop finds Kyklon by, judged by the programs that read it: desktop-file-validate, appstreamcli, xmllint's
reading of the types by update-mime-database, man (groff) and the three shells."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

from kyklon.app.theme.icon_file import pixels
from kyklon.commands import manual
from kyklon.commands.desktop import texts
from kyklon.commands.listing import COMMANDS
from kyklon.desktop import files, installing


def needs(program: str) -> pytest.MarkDecorator:
    return pytest.mark.skipif(shutil.which(program) is None, reason=f"{program} is not installed")


def said(*words: str | Path, passes: tuple[int, ...] = (0,), **more: str) -> str:
    done = subprocess.run(list(map(str, words)), capture_output=True, text=True, timeout=120, **more)  # type: ignore[call-overload]
    assert done.returncode in passes, f"{done.stdout}{done.stderr}"
    return f"{done.stdout}{done.stderr}"


@pytest.fixture(scope="module")
def share(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("share")
    installing.put(place, {**files.share(pixels, "/opt/my tools/kyklon"), **texts()})
    return place


@needs("desktop-file-validate")
def test_the_entry_is_one(share: Path) -> None:
    assert said("desktop-file-validate", next((share / "applications").glob("*.desktop"))) == ""


@needs("appstreamcli")
@pytest.mark.parametrize("site", ["", "https://example.org/kyklon"])
def test_the_metainfo_is_valid_to_the_pedant(tmp_path: Path, site: str) -> None:
    path = tmp_path / f"{files.ID}.metainfo.xml"
    path.write_bytes(files.metainfo(site))
    told = said("appstreamcli", "validate", "--pedantic", "--no-net", path)
    assert "successful" in told
    assert not [line for line in told.splitlines() if line.startswith(("E:", "W:", "P:"))], told


@needs("update-mime-database")
def test_the_types_are_known_by_name(share: Path) -> None:
    globs = (share / "mime/globs2").read_text(encoding="utf-8")
    assert f"60:{files.BUILD_TYPE}:build.json" in globs
    assert f"60:{files.ARCHIVE_TYPE}:*.kyklon.tar" in globs


@needs("man")
@needs("groff")
def test_every_manual_page_is_without_a_warning(tmp_path: Path) -> None:
    pages = manual.manual_pages()
    assert len(pages) == len(COMMANDS) + 1
    for name, text in pages.items():
        (tmp_path / name).write_text(text, encoding="utf-8")
    told = said("groff", "-man", "-ww", "-Tutf8", "-K", "utf8", "-z", *sorted(tmp_path.iterdir()))
    assert told == ""
    page = said("man", "-l", tmp_path / "kyklon-desktop-add.1")
    assert "put Kyklon into the desktop's menu" in page
    assert "--prefix PREFIX" in page


@needs("bash")
def test_bash_offers_what_each_command_takes(tmp_path: Path) -> None:
    """Every command's options, as bash itself finds them, are those of its help."""
    (tmp_path / "script").write_text(manual.completion("bash"), encoding="utf-8")
    lines = [
        f"source {tmp_path / 'script'}",
        'ask() { COMP_WORDS=("$@"); COMP_CWORD=$(($# - 1)); _kyklon; echo ${COMPREPLY[@]}; }',
    ]
    lines += [f"ask kyklon {command.name} --" for command in COMMANDS]
    lines += ["ask kyklon pla", "ask kyklon plan ''"]
    told = said("bash", "-c", "\n".join(lines)).splitlines()
    for command, line in zip(COMMANDS, told, strict=False):
        row = manual.described(command)
        wanted = {name for each in row.lines if each.is_option for name in each.names}
        assert set(line.split()) == {*wanted, "--help"}, command
    assert told[-2].split() == ["plan"]
    assert {"show", "use", "connect"} <= set(told[-1].split())


@needs("zsh")
def test_zsh_reads_its_script(tmp_path: Path) -> None:
    (tmp_path / "_kyklon").write_text(manual.completion("zsh"), encoding="utf-8")
    assert said("zsh", "-n", tmp_path / "_kyklon") == ""


@needs("fish")
def test_fish_offers_the_same(tmp_path: Path) -> None:
    (tmp_path / "kyklon.fish").write_text(manual.completion("fish"), encoding="utf-8")
    ask = f"source {tmp_path / 'kyklon.fish'}; "
    firsts = said("fish", "-c", f"{ask} complete -C 'kyklon '", env={"HOME": str(tmp_path), "PATH": "/usr/bin:/bin"})
    assert {command.name.split()[0] for command in COMMANDS} <= {line.split("\t")[0] for line in firsts.splitlines()}
    told = said("fish", "-c", f"{ask} complete -C 'kyklon plan '", env={"HOME": str(tmp_path), "PATH": "/usr/bin:/bin"})
    assert "connect\t" in told
