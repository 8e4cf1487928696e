"""Writing what must survive a power-off: temporary file, fsync, rename; a reader sees the old content or the new."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path


def write_durably(path: Path, data: bytes) -> None:
    """Replace a file's content.

    Raises:
        OSError: it could not be written; what it held still stands.
    """
    temporary = path.with_name(path.name + ".new")
    try:
        with temporary.open("wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.replace(temporary, path)
    except OSError:
        with contextlib.suppress(OSError):
            temporary.unlink()
        raise
