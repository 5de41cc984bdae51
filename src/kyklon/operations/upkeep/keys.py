"""A key pair of the build's own, made and kept as OpenSSH does (its own private key format; RFC 8709 for Ed25519)."""

from __future__ import annotations

import contextlib
import os
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import WrongUse
from kyklon.model.build import Build, edited


@dataclass(frozen=True)
class Made:
    """path: of the private half. public: a line for authorized_keys. old: it was there already."""

    path: Path
    public: str
    old: bool


def usual(build: Build) -> Path:
    """Where the key of this build's machine lies."""
    return Path.home() / ".ssh" / f"kyklon-{build.boot.hostname or 'games'}"


def make(path: Path) -> Made:
    """A pair without a pass phrase, readable by its owner alone; one that is there stays and is used. Raises WrongUse
    where something else has that name, OSError as WrongUse."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import (
        Encoding,
        NoEncryption,
        PrivateFormat,
        PublicFormat,
        load_ssh_private_key,
    )

    try:
        if path.exists():
            try:
                held = load_ssh_private_key(path.read_bytes(), None)
            except (ValueError, TypeError) as bad:
                raise WrongUse(f"{path} is not a key without a pass phrase.", do="Name another file.") from bad
            return Made(path, _line(held.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH), path), True)
        key = Ed25519PrivateKey.generate()
        data = key.private_bytes(Encoding.PEM, PrivateFormat.OpenSSH, NoEncryption())
        line = _line(key.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH), path)
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        file = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
        try:
            with os.fdopen(file, "wb") as out:
                out.write(data)
                out.flush()
                os.fsync(out.fileno())
        except OSError:
            with contextlib.suppress(OSError):
                path.unlink()
            raise
        path.with_name(f"{path.name}.pub").write_text(f"{line}\n", encoding="ascii")
    except OSError as bad:
        raise WrongUse(f"{path} cannot be made: {bad.strerror}.", do="Name another file.") from bad
    return Made(path, line, False)


def _line(public: bytes, path: Path) -> str:
    comment = "".join(letter for letter in path.name if letter.isalnum() or letter in "._-")[:64]
    return f"{public.decode('ascii')} {comment}".strip()


def with_key(build: Build, made: Made) -> Build:
    """A build whose machine lets this key in, and which uses it."""
    return edited(edited(build, "system.remote_key", made.public), "library.key_file", str(made.path))
