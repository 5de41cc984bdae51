"""The book read by other programs: poppler (text and pictures of every page), pypdf (outline and links), markdown-it-py
(CommonMark)."""

from __future__ import annotations

import re
import shutil
import subprocess
from itertools import pairwise
from pathlib import Path

import pytest
from markdown_it import MarkdownIt
from PIL import Image
from pypdf import PdfReader

from kyklon.commands.book import book as by_command
from kyklon.model.build import edited
from kyklon.operations.book.blocks import Text
from kyklon.operations.book.compose import markdown
from kyklon.operations.book.publishing import published
from kyklon.record import folder as store
from kyklon.record import photos
from kyklon.record.logbook import Logbook, Noted
from support import Demo

needs_poppler = pytest.mark.skipif(shutil.which("pdftotext") is None, reason="poppler is not installed")

SECRETS = {
    "wireless_name": "Harbour Lane 7",
    "wireless_key": "correct horse battery",
    "wired": "192.168.17.23/24 192.168.17.1",
}


@pytest.fixture
def told(demo: Demo, tmp_path: Path) -> Demo:
    """A build with a network, an address, a photo and words of somebody's own."""
    build = edited(demo.build, "system", {**demo.build.system.model_dump(), **SECRETS})
    library = {**build.library.model_dump(), "host": "cabinet.example", "account": "someone"}
    store.save(demo.folder, edited(build, "library", library))
    Image.effect_noise((900, 600), 80).convert("RGB").save(tmp_path / "panel.jpg")
    kept = photos.keep(demo.folder, tmp_path / "panel.jpg")
    book = Logbook(demo.folder)
    book.add(0, "Drilled at number 7", kind="own", files=(kept,), noted=Noted("5 V rail", 4.71, "V", 12.5, 40))
    book.add(95, "Machine found", "someone@cabinet.example at 192.168.17.23, /home/someone/games")
    return demo


def pages_of(path: Path) -> list[str]:
    text = subprocess.run(["pdftotext", "-layout", path, "-"], capture_output=True, text=True, check=True).stdout
    return text.split("\f")[:-1]


@needs_poppler
def test_every_page_of_the_book(told: Demo, tmp_path: Path) -> None:
    path = tmp_path / "book.pdf"
    assert by_command(told.folder, path) == 0
    reader, pages = PdfReader(path), pages_of(path)
    assert len(pages) == len(reader.pages) > 10
    for number, text in enumerate(pages, 1):
        assert re.search(rf"Made with Kyklon\s+{number}\s*$", text), f"page {number}"
        assert text.strip().count("\n") > 1, f"page {number} is empty"
    contents = {line.rsplit(maxsplit=1)[0].strip(): line.split()[-1] for line in pages[1].splitlines() if line.strip()}
    titles = {item.title: reader.get_destination_page_number(item) + 1 for item in reader.outline}  # type: ignore[union-attr]
    assert {"10 Plan", "40 Controls", "Logbook"} <= set(titles)
    for title, page in titles.items():
        assert contents[title] == str(page)
        assert title.split()[-1] in pages[page - 1].split("\n\n")[1] + pages[page - 1]
    links = [note.get_object() for note in reader.pages[1]["/Annots"]]  # type: ignore[union-attr,attr-defined]
    assert len(links) == len(titles)
    pictures = subprocess.run(["pdfimages", "-list", path], capture_output=True, text=True, check=True).stdout
    assert re.search(r"\s900\s+600\s", pictures)
    whole = "\n".join(pages)
    assert "Drilled at number 7 (5 V rail 4.71 V, cost 12.50, 40 min)" in whole
    assert "correct horse battery" not in whole
    assert store.load(told.folder).build.system.wireless_key not in whole
    fonts = subprocess.run(["pdffonts", path], capture_output=True, text=True, check=True).stdout.splitlines()[2:]
    assert fonts
    assert all(" yes " in line for line in fonts)  # embedded


@needs_poppler
def test_a_copy_to_publish_tells_nobody(told: Demo, tmp_path: Path) -> None:
    assert by_command(told.folder, tmp_path / "book.pdf", publish=True, no_drawings=True) == 0
    assert by_command(told.folder, tmp_path / "md", publish=True, no_drawings=True) == 0
    assert by_command(told.folder, tmp_path / "card.pdf", card=True, publish=True) == 0
    whole = "\n".join([*pages_of(tmp_path / "book.pdf"), (tmp_path / "md" / "book.md").read_text()])
    for word in (*SECRETS.values(), "192.168.17.23", "cabinet.example", "someone", "/home/", "number 7", "a87a1f"):
        assert word not in whole, word
    assert SECRETS["wireless_name"].encode().hex() not in whole
    assert "Wi-Fi" in whole
    assert len(pages_of(tmp_path / "card.pdf")) == 1


def test_markdown_is_read_as_it_was_meant(told: Demo, tmp_path: Path) -> None:
    assert by_command(told.folder, tmp_path / "md", no_drawings=True) == 0
    text = (tmp_path / "md" / "book.md").read_text()
    tokens = MarkdownIt("commonmark").enable("table").parse(text)
    heads = [b.content for a, b in pairwise(tokens) if a.type == "heading_open" and a.tag == "h2"]
    assert heads[0] == "10 Plan"
    assert heads[-1] == "Logbook"
    pictures = [child.attrs["src"] for token in tokens for child in token.children or () if child.type == "image"]
    assert pictures
    assert all((tmp_path / "md" / str(name)).stat().st_size for name in pictures)
    assert sum(token.type == "table_open" for token in tokens) > 8
    assert not any(token.type == "html_block" for token in tokens)


def test_a_photo_that_a_link_leads_to_is_left_out(told: Demo, tmp_path: Path) -> None:
    """Of a build folder from somebody else: nothing outside of it gets into the book."""
    place = told.folder / photos.FOLDER
    place.rename(tmp_path / "elsewhere")
    place.symlink_to(tmp_path / "elsewhere")
    assert by_command(told.folder, tmp_path / "linked", no_drawings=True) == 0
    assert not list((tmp_path / "linked").glob("*.jpg"))
    place.unlink()
    (tmp_path / "elsewhere").rename(place)
    assert by_command(told.folder, tmp_path / "plain", no_drawings=True) == 0
    assert list((tmp_path / "plain").glob("*.jpg"))


def test_hostile_words_stay_words() -> None:
    from kyklon.operations.book.blocks import Book, Code, Section, Table

    evil = "a | b <script>x</script> ![i](http://x) ``` \x1b[31m `c`\n# head"
    book = Book(
        evil, "kind", (Section(0, "One", (Text(evil), Table(("h",), ((evil,),)), Code("f", tuple(evil.split("\n"))))),)
    )
    text, pictures = markdown(book)
    assert not pictures
    tokens = MarkdownIt("commonmark").enable("table").parse(text)
    assert [t.tag for t in tokens if t.type == "heading_open"] == ["h1", "h2"]
    inner = [child for token in tokens for child in token.children or ()]
    assert not any(child.type in ("image", "link_open") for child in inner)
    assert {child.content for child in inner if child.type == "html_inline"} <= {"<br>"}
    assert "\x1b" not in text


@pytest.mark.parametrize(
    "words",
    ["mail me@example.org now", "fe80::1ff:fe23:4567:890a", "at 10.0.0.7/24", "b8:27:eb:01:02:03", "//nas/games/all"],
)
def test_what_an_address_looks_like(words: str) -> None:
    assert "(left out)" in published(words, ())


@pytest.mark.parametrize("words", ["1440 × 240 at 60.05 Hz", "kernel 6.1.0", "12:30:45", "0x6b79:0x0022:0x40", "9.99"])
def test_what_an_address_does_not_look_like(words: str) -> None:
    assert published(words, ()) == words
