"""The board's store: settings that survive a power-off, in one file written atomically."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from pathlib import Path

from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.core.settings import Value, frozen, refusal
from ublet.firmware.durable import write_durably


class Store:
    """Stored settings by dotted path; kept in a JSON file when one is named, else only in memory."""

    def __init__(self, path: Path | None, arrival: Mapping[str, Value]) -> None:
        self.path = path
        self.refused: tuple[str, ...] = ()
        """What stood in the file and was not taken: place and reason of each."""
        self.values: Mapping[str, Value] = arrival
        if path is not None and path.exists():
            self.values, self.refused = _read(path)
            if self.refused:
                write_durably(path.with_name(f"{path.name}.refused"), path.read_bytes())

    def change(self, changes: Mapping[str, Value]) -> None:
        """Set values (None removes one): all of them, or none when the file cannot be written.

        Raises:
            OSError: the store could not be written; what it held still stands.
        """
        new = {path: value for path, value in {**self.values, **changes}.items() if value is not None}
        if self.path is not None:
            _write(self.path, new)
        self.values = new


def _read(path: Path) -> tuple[dict[str, Value], tuple[str, ...]]:
    """The values of a store's file, and what was refused of it.

    Raises:
        OSError: it is no store at all; it is left as it is.
    """
    mend = "remove it to start afresh; it is left as it is"
    try:
        values: object = json.loads(path.read_text(encoding="utf-8"))
    except RecursionError as error:
        raise OSError(f"{path} is no store of a simulated board (brackets {_deepest(path)}); {mend}") from error
    except (ValueError, UnicodeDecodeError) as error:
        raise OSError(f"{path} is no store of a simulated board ({error}); {mend}") from error
    if not isinstance(values, dict):
        raise OSError(f"{path} is no store of a simulated board; {mend}")
    good: dict[str, Value] = {}
    refused: list[str] = []
    for key, value in values.items():
        if why := _wrong(key, value):
            refused.append(f"{path}: {key}: {why}")
        else:
            good[key] = frozen(value)
    return good, tuple(refused)


def _wrong(key: str, value: object) -> str:
    """Why a stored value is not taken; empty: it is."""
    if isinstance(value, dict) or value is None:
        return "no value of a setting"
    rows = value if isinstance(value, list) else [value]
    for number in (each for row in rows for each in (row if isinstance(row, list) else [row])):
        if isinstance(number, (list, dict)) or (isinstance(number, float) and not math.isfinite(number)):
            return f"{number!r:.20} is no finite number"
    known = BOARD_SETTINGS.find(key) is not None  # of a part that is not in the image: it may come back
    return (refusal(BOARD_SETTINGS, key, frozen(value)) or "").removeprefix(f"{key}: ") if known else ""


def _deepest(path: Path) -> str:
    """Where brackets are nested deepest, for who looks for it."""
    depth = most = line = 0
    for number, text in enumerate(path.read_text(encoding="utf-8", errors="replace").splitlines(), start=1):
        for character in text:
            depth += (character in "[{") - (character in "]}")
            if depth > most:
                most, line = depth, number
    return f"nested {most} deep in line {line}"


def _write(path: Path, values: Mapping[str, Value]) -> None:
    write_durably(path, json.dumps(values, indent=1, sort_keys=True).encode())
