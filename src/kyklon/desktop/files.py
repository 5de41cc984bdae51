"""What a desktop finds Kyklon by: entry, metainfo, file types and icons, as files below a prefix's share folder.

Forms: Desktop Entry Specification 1.4, AppStream 1.0, Shared MIME-info Database 0.21, Icon Theme Specification 0.13.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path
from xml.etree import ElementTree

from kyklon import RELEASE_DAY, __version__

ID = "org.kyklon.kyklon"  # a name in reverse order, as both specifications ask for; no site stands behind it yet
BUILD_TYPE = "application/x-kyklon-build+json"
ARCHIVE_TYPE = "application/x-kyklon-archive"
PARTS_TYPE = "application/x-kyklon-parts+toml"
TYPES = (BUILD_TYPE, ARCHIVE_TYPE, PARTS_TYPE)
SIZES = (16, 22, 24, 32, 48, 64, 128, 256)  # pixels: those that desktops ask for (common practice)
SUMMARY = "Plan, prepare and power on a retro games machine"
_CATEGORIES = ("Utility", "Electronics", "Engineering")
_ACTIONS = (("Start", "Start a New Machine", "start"), ("Demo", "Open the Demo", "demo --keep"))
_TOLD = (
    "Kyklon is a bench book for a retro games machine that you build yourself: a console in a case, an arcade cabinet, "
    "a stick with a computer inside, or a reborn home computer.",
    "It chooses parts that fit, writes and proves the card, issues the boot files, maps the controls, times the "
    "picture, fills the library, plans the wiring, and predicts the first power-on from the bytes that are on the "
    "card. When the screen stays black it finds the fault with the fewest checks.",
)


def entry(program: str = "kyklon") -> str:
    """The desktop entry. program: as it is started, an absolute path where it is not on everybody's PATH."""
    run = _exec_word(program)
    lines = [
        "[Desktop Entry]",
        "Type=Application",
        "Version=1.4",
        "Name=Kyklon",
        "GenericName=Games Machine Bench Book",
        f"Comment={SUMMARY}",
        f"Exec={run} open %f",
        "Icon=kyklon",
        "Terminal=false",
        f"Categories={';'.join(_CATEGORIES)};",
        "Keywords=retro;arcade;cabinet;SD card;boot;emulator;EDID;CRT;",
        f"MimeType={';'.join(TYPES)};",
        "StartupNotify=true",
        "StartupWMClass=kyklon",
        f"Actions={';'.join(name for name, _title, _words in _ACTIONS)};",
    ]
    for name, title, words in _ACTIONS:
        lines += ["", f"[Desktop Action {name}]", f"Name={title}", f"Exec={run} {words}"]
    return "\n".join(lines) + "\n"


def _exec_word(program: str) -> str:
    """A word of an Exec line: quoted where it must be, and then once more as every string value is."""
    if re.fullmatch(r"[A-Za-z0-9_./+-]+", program):
        return program
    quoted = re.sub(r'(["`$\\])', r"\\\1", program)
    return f'"{quoted}"'.replace("\\", "\\\\").replace("%", "%%")


def mime_types() -> bytes:
    """The file types: a build's own file, an archive of one, a file of parts."""
    top = ElementTree.Element("mime-info", {"xmlns": "http://www.freedesktop.org/standards/shared-mime-info"})
    rows = (
        (BUILD_TYPE, "Kyklon build", "application/json", "build.json"),
        (ARCHIVE_TYPE, "Kyklon archive", "application/x-tar", "*.kyklon.tar"),
        (PARTS_TYPE, "Kyklon parts", "application/toml", "*.kyklon.toml"),
    )
    for kind, comment, above, pattern in rows:
        row = ElementTree.SubElement(top, "mime-type", {"type": kind})
        ElementTree.SubElement(row, "comment").text = comment
        ElementTree.SubElement(row, "icon", {"name": kind.replace("/", "-")})
        ElementTree.SubElement(row, "glob", {"pattern": pattern, "weight": "60"})
        ElementTree.SubElement(row, "sub-class-of", {"type": above})
    return _xml(top)


def metainfo(site: str = "") -> bytes:
    """AppStream's metainfo. site: where pictures and documents are found, https://…; without one none is named, as
    nothing in the program goes over the network by itself."""
    top = ElementTree.Element("component", {"type": "desktop-application"})

    def add(tag: str, text: str = "", **marks: str) -> ElementTree.Element:
        made = ElementTree.SubElement(top, tag, marks)
        made.text = text or None
        return made

    add("id", ID)
    add("metadata_license", "CC0-1.0")
    add("project_license", "GPL-3.0-or-later")
    add("name", "Kyklon")
    add("summary", SUMMARY)
    maker = ElementTree.SubElement(top, "developer", {"id": "org.kyklon"})
    ElementTree.SubElement(maker, "name").text = "The Kyklon founders"
    told = add("description")
    for text in _TOLD:
        ElementTree.SubElement(told, "p").text = text
    add("launchable", f"{ID}.desktop", type="desktop-id")
    add("icon", "kyklon", type="stock")
    sorts = add("categories")
    for sort in _CATEGORIES:
        ElementTree.SubElement(sorts, "category").text = sort
    if site:
        add("url", site, type="homepage")
        pictures = add("screenshots")
        for number, (name, caption) in enumerate(PICTURES):
            row = ElementTree.SubElement(pictures, "screenshot", {"type": "default"} if not number else {})
            ElementTree.SubElement(row, "caption").text = caption
            ElementTree.SubElement(row, "image", {"type": "source"}).text = f"{site.rstrip('/')}/screenshots/{name}.png"
    provided = add("provides")
    ElementTree.SubElement(provided, "binary").text = "kyklon"
    for kind in TYPES:
        ElementTree.SubElement(provided, "mediatype").text = kind
    add("content_rating", type="oars-1.1")
    branding = add("branding")
    for scheme, color in (("light", "#D9E6E4"), ("dark", "#0E5A61")):
        ElementTree.SubElement(branding, "color", {"type": "primary", "scheme_preference": scheme}).text = color
    wanted = add("requires")
    ElementTree.SubElement(wanted, "display_length", {"compare": "ge"}).text = "1024"
    controls = add("recommends")
    for control in ("pointing", "keyboard"):
        ElementTree.SubElement(controls, "control").text = control
    kind = "development" if __version__.startswith("0.") else "stable"
    marks = {"version": __version__, "date": RELEASE_DAY, "type": kind}
    ElementTree.SubElement(add("releases"), "release", marks)
    return _xml(top)


PICTURES = (  # of docs/screenshots, with what they show
    ("power-on", "The first power-on, predicted from the bytes on the card"),
    ("plan", "Parts, cables and what does not fit"),
    ("picture", "The timing of the picture"),
    ("fault-finder", "The next check that tells most"),
)


def _xml(top: ElementTree.Element) -> bytes:
    ElementTree.indent(top)
    body: bytes = ElementTree.tostring(top, "utf-8")
    return b'<?xml version="1.0" encoding="UTF-8"?>\n' + body + b"\n"


def drawing(name: str) -> bytes:
    """An icon as SVG; name: kyklon or document."""
    return files("kyklon.desktop").joinpath("data", f"{name}.svg").read_bytes()


Pixels = Callable[[bytes, int], bytes]  # an SVG and the pixels of an edge -> PNG


def share(pixels: Pixels, program: str = "kyklon", *, site: str = "") -> dict[Path, bytes]:
    """Everything below a prefix's share folder but manual pages and completions. pixels: draws an icon."""
    found = {
        Path("applications") / f"{ID}.desktop": entry(program).encode(),
        Path("metainfo") / f"{ID}.metainfo.xml": metainfo(site),
        Path("mime/packages/kyklon.xml"): mime_types(),
    }
    icons = Path("icons/hicolor")
    for place, names, svg in (
        ("apps", ("kyklon",), drawing("kyklon")),
        ("mimetypes", tuple(kind.replace("/", "-") for kind in TYPES), drawing("document")),
    ):
        for name in names:
            found[icons / "scalable" / place / f"{name}.svg"] = svg
        for size in SIZES:
            data = pixels(svg, size)
            for name in names:
                found[icons / f"{size}x{size}" / place / f"{name}.png"] = data
    return found
