"""Files on an ext volume, read through e2fsprogs' debugfs. Offsets in bytes."""

from __future__ import annotations

from pathlib import Path

from kyklon.base import scratch, tools
from kyklon.base.errors import ToolError

LOOK_S = 10.0  # seconds
LARGEST_TEXT = 1 << 20  # bytes of a file that is looked into; /etc/passwd and its like are far smaller


def read_ext_files(path: Path, offset: int, names: tuple[str, ...]) -> dict[str, bytes | None]:
    """Contents of files of an ext file system (None where there is none), in one run of debugfs."""
    with scratch.folder("look") as held:
        commands = "".join(f"dump {name} {held}/{index}\n" for index, name in enumerate(names))
        # debugfs answers 0 even when it cannot open the image: `stats` must have succeeded too
        with tools.plain_name(path) as name:
            image = f"{name}?offset={offset}"
            out = tools.run(
                ["debugfs", "-f", "-", image],
                stdin=(commands + "stats -h\n").encode(),
                seconds=LOOK_S,
                bounds=tools.Bounds(file=LARGEST_TEXT),
            )
        if b"Filesystem state" not in out:
            raise ToolError(f"{path} holds no ext file system at byte {offset}.")
        found: dict[str, bytes | None] = {}
        for index, name in enumerate(names):
            file = Path(held) / str(index)
            found[name] = file.read_bytes() if file.exists() else None
    return found


def list_ext_folder(path: Path, offset: int, folder: str) -> tuple[str, ...]:
    """Names in a folder of an ext file system; nothing where it does not exist."""
    with tools.plain_name(path) as name:
        out = tools.run(["debugfs", "-R", f"ls -p {folder}", f"{name}?offset={offset}"],
                        seconds=LOOK_S, bounds=tools.Bounds(file=LARGEST_TEXT))  # fmt: skip
    lines = out.decode("utf-8", "surrogateescape").split("\n")
    names = [line.split("/")[5] for line in lines if line.startswith("/") and line.count("/") >= 6]
    return tuple(name for name in names if name not in (".", "..", "lost+found"))
