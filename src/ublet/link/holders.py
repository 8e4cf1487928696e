"""Which program has a port open: from the open files that the system lists for each process (Linux, proc(5))."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Iterator
from pathlib import Path

PROCESSES = Path("/proc")


def holders(devices: Iterable[str], processes: Path = PROCESSES) -> dict[str, str]:
    """For each device that another program has open, that program: ``python3 (process 812)``.

    Processes of other people cannot be looked into and are left out.
    """
    wanted = {os.path.realpath(device): device for device in devices}
    programs: dict[str, str] = {}
    for process in _others(processes) if wanted else ():
        with contextlib.suppress(OSError):
            for file in (process / "fd").iterdir():
                with contextlib.suppress(OSError):
                    device = wanted.get(str(file.readlink()))
                    if device is not None:
                        name = (process / "comm").read_text(encoding="utf-8", errors="replace").strip()
                        programs.setdefault(device, f"{name} (process {process.name})")
    return programs


def _others(processes: Path) -> Iterator[Path]:
    own = str(os.getpid())
    with contextlib.suppress(OSError):
        for path in processes.iterdir():
            if path.name.isdigit() and path.name != own:
                yield path
