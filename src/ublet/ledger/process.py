"""Which program writes a run, and whether it is still there."""

from __future__ import annotations

import os
import platform
from pathlib import Path


def this_process() -> str:
    """This program as it is noted: host, process number, and when the process began (where the system says)."""
    return f"{platform.node()}/{os.getpid()}/{_began(os.getpid())}"


def alive(process: str) -> bool:
    """Whether a noted program may still be there; one on another host is taken to be."""
    host, _, rest = process.partition("/")
    number, _, began = rest.partition("/")
    if not number.isdigit():
        return False
    if host != platform.node():
        return True
    try:
        os.kill(int(number), 0)
    except ProcessLookupError:
        return False
    except OSError:
        pass
    return not began or _began(int(number)) in ("", began)


def _began(number: int) -> str:
    """A process's time of beginning since the system's start; empty where nothing says it."""
    try:
        return Path(f"/proc/{number}/stat").read_text(encoding="ascii", errors="replace").rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""
