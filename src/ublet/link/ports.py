"""Serial ports: which there are, and which one comes and goes when a cable is unplugged and plugged in again."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from ublet.link.holders import holders


@dataclass(frozen=True)
class Port:
    """A serial port: its device, what it says of itself, and why it cannot be used (empty: it can)."""

    device: str
    about: str = ""
    trouble: str = ""


def list_ports() -> tuple[Port, ...]:
    """The serial ports of this computer, those of plugged-in devices first."""
    from serial.tools import list_ports as tools

    listed = list(tools.comports())
    held = holders(item.device for item in listed)
    ports = [Port(item.device, _about(item), _trouble(item.device, held.get(item.device))) for item in listed]
    return tuple(sorted(ports, key=lambda port: (not port.about, port.device)))


def _about(port: object) -> str:
    words = getattr(port, "description", "") or ""
    return "" if words in ("", "n/a") else str(words)


def _trouble(device: str, holder: str | None) -> str:
    if holder is not None:
        return f"in use by {holder}: close that program first"
    if not Path(device).exists() or os.access(device, os.R_OK | os.W_OK):
        return ""
    return "no permission: add yourself to its group (often dialout) and log in again"


class PortWatch:
    """Tells what changed from one look to the next; a port that went and came back is the one of the cable."""

    def __init__(self, ports: Iterable[Port]) -> None:
        self._now: Mapping[str, Port] = {port.device: port for port in ports}
        self._gone: set[str] = set()

    def look(self, ports: Iterable[Port]) -> list[str]:
        """A sentence for each change since the last look."""
        seen = {port.device: port for port in ports}
        sentences = []
        for device in sorted(set(self._now) - set(seen)):
            self._gone.add(device)
            sentences.append(f"{device} went: plug it in again to see it come back.")
        for device in sorted(set(seen) - set(self._now)):
            if device in self._gone:
                sentences.append(f"{device} came back: that is the one you unplugged.")
            else:
                sentences.append(f"{device} is new: that is the one you plugged in.")
        self._now = seen
        return sentences
