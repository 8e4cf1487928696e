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


def last_machine_path() -> Path:
    """The machine that was open last."""
    return platformdirs.user_state_path("ublet") / "last.json"


def fault_path() -> Path:
    """The details of a fault of ours."""
    return platformdirs.user_state_path("ublet") / "last-fault.txt"


@dataclass(frozen=True)
class Recent:
    """A machine file and the port that it was opened with."""

    file: Path
    port: str | None


def last_machine() -> Recent | None:
    """The last machine, if its file is still there."""
    try:
        noted = json.loads(last_machine_path().read_text(encoding="utf-8"))
        recent = Recent(Path(noted["file"]), noted.get("port"))
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return recent if recent.file.exists() else None


def remember(file: Path, port: str | None) -> None:
    """Note the machine; a folder that cannot be written is no reason not to work."""
    with contextlib.suppress(OSError):
        last_machine_path().parent.mkdir(parents=True, exist_ok=True)
        last_machine_path().write_text(json.dumps({"file": str(file.absolute()), "port": port}), encoding="utf-8")
