"""Atomic writing of files: the old content or the new, never a mixture, and the previous one kept.

A symbolic link stays a link (what it points at is replaced), and a file keeps its mode. What a killed program left
half-way is distinguished from what another one is writing just now by a lock on it.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
from dataclasses import dataclass
from pathlib import Path

PLAIN_MODE = 0o644


@dataclass
class Prepared:
    """A new content beside the file that it will replace, safely on the disk and locked."""

    target: Path
    temporary: Path
    descriptor: int

    def put_in_place(self) -> str:
        """Put it in the file's place; what was there is kept as ``NAME.previous``.

        Returns what could not be made sure of, as a sentence (empty: everything was).

        Raises:
            OSError: the directory does not allow it; the old file still stands.
        """
        try:
            if self.target.exists():
                _keep_previous(self.target)
            os.replace(self.temporary, self.target)
        finally:
            self.release()
        return _synced(self.target.parent)

    def discard(self) -> None:
        """Leave the old file as it is, and nothing beside it."""
        with contextlib.suppress(OSError):
            self.temporary.unlink(missing_ok=True)
        self.release()

    def release(self) -> None:
        """Let go of the lock: nobody writes it any more."""
        if self.descriptor >= 0:
            os.close(self.descriptor)
            self.descriptor = -1


def _keep_previous(target: Path) -> None:
    """A second name for the old content, or a copy where the file system has no second names."""
    kept, spare = target.with_name(f"{target.name}.previous"), _spare(target)
    with contextlib.suppress(FileNotFoundError):
        spare.unlink()
    try:
        os.link(target, spare)
    except OSError:
        shutil.copy2(target, spare)
    os.replace(spare, kept)


def _synced(directory: Path) -> str:
    try:
        descriptor = os.open(directory, os.O_RDONLY)
    except OSError as error:
        return _unsynced(directory, error)
    try:
        os.fsync(descriptor)
    except OSError as error:
        return _unsynced(directory, error)
    finally:
        os.close(descriptor)
    return ""


def _unsynced(directory: Path, error: OSError) -> str:
    return (
        f"The new file stands in its place, but {directory} could not be synced ({error.strerror or error}): until the "
        "system writes it out by itself, a power cut could bring the old one back."
    )


def prepare(path: Path, text: str) -> Prepared:
    """Write ``text`` beside ``path``, safely on the disk but not yet in its place.

    Raises:
        OSError: no room, or no permission; nothing is left behind.
    """
    target = path.resolve()
    clear_leftovers(path)
    temporary = _temporary(target)
    descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, PLAIN_MODE)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        with contextlib.suppress(OSError):  # a new file, or one that is somebody else's: the usual mode then
            os.fchmod(descriptor, target.stat().st_mode & 0o7777)
        with open(descriptor, "w", encoding="utf-8", newline="", closefd=False) as file:
            file.write(text)
            file.flush()
            os.fsync(descriptor)
    except OSError:
        with contextlib.suppress(OSError):
            temporary.unlink()
        os.close(descriptor)
        raise
    return Prepared(target, temporary, descriptor)


def clear_leftovers(path: Path) -> None:
    """Remove what a killed program left beside a file; what another one is writing now stays."""
    target = path.resolve()
    for left in (_temporary(target), _spare(target)):
        try:
            descriptor = os.open(left, os.O_RDONLY)
        except OSError:
            continue
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            left.unlink(missing_ok=True)
        except OSError:
            pass  # it is being written, or this folder may not be changed: whoever writes next says so
        finally:
            os.close(descriptor)


def write_atomically(path: Path, text: str) -> str:
    """Replace a file's text; the previous one is kept. Returns what could not be made sure of (empty: everything was).

    Raises:
        OSError: it could not be written; the old file still stands.
    """
    prepared = prepare(path, text)
    try:
        return prepared.put_in_place()
    except OSError:
        prepared.discard()
        raise


def free_name(path: Path) -> Path:
    """This path, or the first with a number before its ending that is not taken."""
    number, candidate = 1, path
    while candidate.exists():
        number += 1
        candidate = path.with_stem(f"{path.stem}-{number}")
    return candidate


def _temporary(target: Path) -> Path:
    return target.with_name(f".{target.name}.new")


def _spare(target: Path) -> Path:
    return target.with_name(f".{target.name}.kept")
