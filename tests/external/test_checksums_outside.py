"""Lists of checksums as their own tools write them.

Outside references: coreutils' md5sum, sha1sum, sha224sum, sha256sum, sha384sum, sha512sum and b2sum, in every form;
openssl dgst; gpg --clearsign.
"""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

from kyklon.base.errors import FormatError
from kyklon.model.image_file import Stated
from kyklon.operations import checksums

NAMES = ("plain.img", "with blank.img", "back\\slash.img", "new\nline.img", "*star.img", "täg (x) = y.img", "-dash.img")
TOOLS = {
    "md5sum": "MD5",
    "sha1sum": "SHA-1",
    "sha224sum": "SHA-224",
    "sha256sum": "SHA-256",
    "sha384sum": "SHA-384",
    "sha512sum": "SHA-512",
    "b2sum": "BLAKE2b",
}
FORMS = ((), ("--tag",), ("-z",), ("-b",), ("--tag", "-z"))


@pytest.fixture
def files(tmp_path: Path) -> Path:
    for number, name in enumerate(NAMES):
        (tmp_path / name).write_bytes(bytes([number]) * 100)
    return tmp_path


def said(command: list[str], folder: Path) -> str:
    done = subprocess.run(command, cwd=folder, capture_output=True, check=True)
    return done.stdout.decode("utf-8", "surrogateescape")


def right(found: dict[str, Stated], folder: Path, algorithm: str) -> None:
    """Every file is named, and its sum is that of its bytes."""
    assert set(found) == set(NAMES)
    for name, stated in found.items():
        assert stated.algorithm == algorithm
        with (folder / name).open("rb") as file:
            assert checksums.of_file(file, algorithm) == stated.digest


@pytest.mark.parametrize("tool", TOOLS)
@pytest.mark.parametrize("form", FORMS, ids=" ".join)
@pytest.mark.parametrize("ahead", ["", "\ufeff", "# a remark\n"], ids=["", "mark", "remark"])
def test_every_form_of_coreutils_is_read(tool: str, form: tuple[str, ...], ahead: str, files: Path) -> None:
    if ahead.startswith("#") and "-z" in form:
        return  # no remarks there
    text = said([tool, *form, "--", *NAMES], files)
    right(checksums.parse(ahead + text, "B2SUMS" if tool == "b2sum" else "list.txt"), files, TOOLS[tool])


@pytest.mark.parametrize("bits", [128, 256, 384])
def test_shorter_sums_of_b2sum(bits: int, files: Path) -> None:
    text = said(["b2sum", "-l", str(bits), "plain.img"], files)
    tagged = said(["b2sum", "-l", str(bits), "--tag", "plain.img"], files)
    for found in (checksums.parse(text, "plain.img.b2"), checksums.parse(tagged, "list.txt")):
        stated = found["plain.img"]
        assert stated.algorithm == f"BLAKE2b-{bits}"
        with (files / "plain.img").open("rb") as file:
            assert checksums.of_file(file, stated.algorithm) == stated.digest


@pytest.mark.parametrize("kind", ["md5", "sha1", "sha224", "sha256", "sha384", "sha512", "blake2b512"])
def test_openssl_dgst_is_read(kind: str, files: Path) -> None:
    text = said(["openssl", "dgst", f"-{kind}", "plain.img", "with blank.img"], files)
    found = checksums.parse(text)
    assert set(found) == {"plain.img", "with blank.img"}
    for name, stated in found.items():
        with (files / name).open("rb") as file:
            assert checksums.of_file(file, stated.algorithm) == stated.digest


@pytest.mark.skipif(shutil.which("gpg") is None, reason="gpg is not there")
def test_a_signed_list_counts_for_what_is_signed(files: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    home = tmp_path_factory.mktemp("gpg")
    home.chmod(0o700)
    gpg = ["gpg", "--homedir", str(home), "--batch", "--quiet", "--pinentry-mode", "loopback", "--passphrase", ""]
    made = subprocess.run(
        [*gpg, "--quick-generate-key", "Test <t@example.org>", "default", "default", "never"], capture_output=True
    )
    if made.returncode:
        pytest.skip(f"gpg made no key: {made.stderr.decode()[-200:]}")
    text = said(["sha256sum", "--", *NAMES], files)
    (files / "list").write_text(text, encoding="utf-8")
    signed = said([*gpg, "--clearsign", "-o", "-", "list"], files)
    subprocess.run(["gpgconf", "--homedir", str(home), "--kill", "all"], capture_output=True, check=False)
    right(checksums.parse(signed), files, "SHA-256")
    forged = f"{'0' * 64}  forged.img\n{signed}{'1' * 64}  later.img\n"
    assert set(checksums.parse(forged)) == set(NAMES)  # what stands outside is nobody's word
    broken = signed.replace("Hash:", "Hash")
    assert set(checksums.parse(broken)) == set(NAMES)


def test_a_tag_that_is_not_its_sums_length_is_refused() -> None:
    for line in (
        f"SHA256 (a) = {'0' * 96}",
        f"BLAKE2b-256 (a) = {'0' * 128}",
        f"SHA2-384(a)= {'0' * 64}",
        f"BLAKE2b (a) = {'0' * 64}",
        "0" * 57 + "  a",
    ):
        with pytest.raises(FormatError):
            checksums.parse(f"{line}\n")


def test_lists_lie_beside_an_image_by_their_usual_names(files: Path) -> None:
    for tool, name in (("sha224sum", "SHA224SUMS"), ("sha384sum", "plain.img.sha384"), ("b2sum", "B2SUMS")):
        (files / name).write_text(said([tool, "plain.img"], files), encoding="utf-8")
    found = checksums._side_files(files, "plain.img")["plain.img"]
    assert found.algorithm == "BLAKE2b"
