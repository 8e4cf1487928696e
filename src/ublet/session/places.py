"""Where Ublet keeps what is not a machine's: preferences, the log, the machine that was open last (the XDG folders)."""

from __future__ import annotations

import contextlib
import json
from dataclasses import dataclass
from pathlib import Path

import platformdirs


def preferences_path() -> Path:
    """The builder's preferences."""
    return platformdirs.user_config_path("ublet") / "preferences.toml"


def log_path() -> Path:
    """The log of links, boards and faults; older ones beside it end in .1, .2 and so on."""
    return platformdirs.user_state_path("ublet") / "ublet.log"


def known_machines_path() -> Path:
    """The machines that were opened, the last one first."""
    return platformdirs.user_state_path("ublet") / "machines.json"


def fault_path() -> Path:
    """The details of a fault of ours."""
    return platformdirs.user_state_path("ublet") / "last-fault.txt"


@dataclass(frozen=True)
class Recent:
    """A machine file and the port that it was opened with; at: when, by the ledger's clock; ledger: the number that its
    ledger bears, by which it is found again when it was moved (0: none).
    """

    file: Path
    port: str | None
    at: str = ""
    ledger: int = 0


MOST_KNOWN = 50
"""Most machines remembered."""


def recent_machines() -> list[Recent]:
    """The machines that were opened, the last one first; also those whose file is not there any more."""
    try:
        noted = json.loads(known_machines_path().read_text(encoding="utf-8"))
        return [
            Recent(Path(one["file"]), one.get("port"), str(one.get("at", "")), int(one.get("ledger", 0)))
            for one in noted
        ]
    except (OSError, ValueError, KeyError, TypeError):
        return []


def last_machine() -> Recent | None:
    """The last machine, if its file is still there."""
    known = recent_machines()
    return known[0] if known and known[0].file.exists() else None


def remember(file: Path, port: str | None, at: str = "", ledger: int = 0) -> None:
    """Note the machine as the last one; a folder that cannot be written is no reason not to work."""
    path = file.absolute()
    others = [one for one in recent_machines() if one.file != path and (not ledger or one.ledger != ledger)]
    _note([Recent(path, port, at, ledger), *others])


def forget(file: Path) -> None:
    """Take a machine off the list; its files stay."""
    _note([one for one in recent_machines() if one.file != file.absolute()])


def _note(known: list[Recent]) -> None:
    rows = [{"file": str(one.file), "port": one.port, "at": one.at, "ledger": one.ledger} for one in known[:MOST_KNOWN]]
    with contextlib.suppress(OSError):
        known_machines_path().parent.mkdir(parents=True, exist_ok=True)
        known_machines_path().write_text(json.dumps(rows, indent=1), encoding="utf-8")
