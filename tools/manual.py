"""Builds the manual as HTML, from the help's topics and the documents, without a network.

Usage: .venv/bin/python tools/manual.py [OUT]   OUT: a folder, dist/manual when it is not given
Needs mkdocs (the release extra). A link that leads nowhere ends it with an error.
"""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "kyklon" / "help" / "data"
sys.path.insert(0, str(ROOT / "src"))


def build(out: Path) -> int:
    """Returns how many pages there are."""
    from kyklon.help.topics import GROUPS, topics

    with tempfile.TemporaryDirectory() as held:
        place = Path(held) / "docs"
        shutil.copytree(ROOT / "docs", place)
        for file in SOURCE.glob("*.md"):
            shutil.copyfile(file, place / f"help-{file.name}")
        for file in place.glob("*.md"):  # links to the tree's own files lead nowhere in a manual
            text = file.read_text(encoding="utf-8")
            text = re.sub(r"\[([^\]]+)\]\((?:\.\./)+[^)]*\)", r"\1", text)
            file.write_text(text, encoding="utf-8")
        readme = (ROOT / "README.md").read_text(encoding="utf-8").replace("(docs/", "(")
        readme = re.sub(r"\[([^\]]+)\]\((?!screenshots/)[^)]*\.(?:md|py)\)", r"\1", readme)
        (place / "index.md").write_text(readme, encoding="utf-8")
        known, nav = topics(), [{"Kyklon": "index.md"}]
        heading = ""
        for name, ids in GROUPS:
            heading = name or heading
            rows = [{known[each].title: f"help-{each}.md"} for each in ids]
            if name:
                nav.append({name: rows})
            else:
                nav[-1][heading] += rows  # type: ignore[operator]
        own = [{file.stem.capitalize().replace("-", " "): file.name} for file in sorted((ROOT / "docs").glob("*.md"))]
        nav.append({"For those who carry on": own})
        settings = {
            "site_name": "Kyklon",
            "docs_dir": str(place),
            "site_dir": str(out),
            "theme": {"name": "mkdocs", "highlightjs": False, "nav_style": "light"},
            "use_directory_urls": False,
            "plugins": [],
            "nav": nav,
            "validation": {"links": {"not_found": "warn", "anchors": "warn"}, "nav": {"omitted_files": "ignore"}},
        }
        (Path(held) / "mkdocs.yml").write_text(json.dumps(settings), encoding="utf-8")
        done = subprocess.run(
            [sys.executable, "-m", "mkdocs", "build", "--strict", "--quiet", "-f", str(Path(held) / "mkdocs.yml")],
            capture_output=True,
            text=True,
        )
    if done.returncode:
        raise SystemExit(f"{done.stdout}{done.stderr}")
    return len(list(out.glob("*.html")))


if __name__ == "__main__":
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "dist" / "manual"
    print(f"{target}: {build(target.absolute())} pages")
