"""Where Ublet keeps what is not a machine's: preferences, the log, the last machine (the XDG folders)."""

from __future__ import annotations

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
