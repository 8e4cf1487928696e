"""The board's store: settings that survive a power-off, in one file written atomically."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

from ublet.core.settings import Value, frozen
from ublet.firmware.durable import write_durably


class Store:
    """Stored settings by dotted path; kept in a JSON file when one is named, else only in memory."""

    def __init__(self, path: Path | None, arrival: Mapping[str, Value]) -> None:
        self.path = path
        self.values: Mapping[str, Value] = arrival if path is None or not path.exists() else _read(path)

    def change(self, changes: Mapping[str, Value]) -> None:
        """Set values (None removes one): all of them, or none when the file cannot be written.

        Raises:
            OSError: the store could not be written; what it held still stands.
        """
        new = {path: value for path, value in {**self.values, **changes}.items() if value is not None}
        if self.path is not None:
            _write(self.path, new)
        self.values = new


def _read(path: Path) -> dict[str, Value]:
    try:
        values: object = json.loads(path.read_text(encoding="utf-8"))
    except (ValueError, UnicodeDecodeError) as error:
        raise OSError(f"{path} is no store of a simulated board ({error}); remove it to start afresh") from error
    if not isinstance(values, dict):
        raise OSError(f"{path} is no store of a simulated board; remove it to start afresh")
    return {str(key): frozen(value) for key, value in values.items()}


def _write(path: Path, values: Mapping[str, Value]) -> None:
    write_durably(path, json.dumps(values, indent=1, sort_keys=True).encode())
