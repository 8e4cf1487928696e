"""Atomic writing of files: the old content or the new, never a mixture, and the previous one kept."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path


def prepare(path: Path, text: str) -> Path:
    """Write ``text`` beside ``path``, safely on the disk but not yet in its place.

    Raises:
        OSError: no room, or no permission; nothing is left behind.
    """
    temporary = path.with_name(f".{path.name}.new")
    try:
        with temporary.open("w", encoding="utf-8", newline="") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
    except OSError:
        with contextlib.suppress(OSError):
            temporary.unlink()
        raise
    return temporary


def put_in_place(temporary: Path, path: Path) -> None:
    """Put a prepared file in its place; what was there is kept as ``NAME.previous``.

    Raises:
        OSError: the directory does not allow it; the old file still stands.
    """
    if path.exists():
        kept = path.with_name(f"{path.name}.previous")
        spare = path.with_name(f".{path.name}.kept")
        with contextlib.suppress(FileNotFoundError):
            spare.unlink()
        os.link(path, spare)
        os.replace(spare, kept)
    os.replace(temporary, path)
    directory = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(directory)
    finally:
        os.close(directory)


def write_atomically(path: Path, text: str) -> None:
    """Replace a file's text; the previous one is kept.

    Raises:
        OSError: it could not be written; the old file still stands.
    """
    put_in_place(prepare(path, text), path)


def free_name(path: Path) -> Path:
    """This path, or the first with a number before its ending that is not taken."""
    number, found = 1, path
    while found.exists():
        number += 1
        found = path.with_stem(f"{path.stem}-{number}")
    return found
