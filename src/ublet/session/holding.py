"""One window for a machine: the second one is warned, reads only, and takes over when the first is gone."""

from __future__ import annotations

import contextlib
import fcntl
import os
from pathlib import Path

ELSEWHERE = (
    "Another window has this machine open: here it can be read and looked back on. Nothing is linked, moved, heated or "
    "written here until that one is closed; then this one takes over by itself."
)
"""What the second window says."""

READS_ONLY = "another window has this machine open: this one only reads"
"""And why it is not linked."""


class Hold:
    """The hold on a machine: a lock on a file beside its own, let go when the program ends, whatever ends it. A place
    where no lock can be had is held by everybody.
    """

    def __init__(self, machine: Path) -> None:
        self._path = machine.with_name(f".{machine.stem}.open")
        self._descriptor = -1
        self.elsewhere = False
        self.take()

    def take(self) -> bool:
        """Try to have it; whether it is had now and was not before."""
        if self._descriptor >= 0:
            return False
        was_elsewhere = self.elsewhere
        try:
            descriptor = os.open(self._path, os.O_RDWR | os.O_CREAT, 0o644)
        except OSError:
            self.elsewhere = False
            return was_elsewhere
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            os.close(descriptor)
            self.elsewhere = True
            return False
        except OSError:
            os.close(descriptor)
            self.elsewhere = False
            return was_elsewhere
        self._descriptor, self.elsewhere = descriptor, False
        return was_elsewhere

    def release(self) -> None:
        """Let it go."""
        if self._descriptor >= 0:
            with contextlib.suppress(OSError):
                self._path.unlink()
            os.close(self._descriptor)
            self._descriptor = -1
