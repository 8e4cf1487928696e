"""The board's settings in layers (image, stored, live) and its store: one file that a power-off leaves whole."""

from __future__ import annotations

import contextlib
import json
import math
import os
from collections.abc import Iterable, Mapping
from pathlib import Path

from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.core.settings import Value, frozen, refusal
from ublet.firmware.live_values import must_be_allowed
from ublet.firmware.refusal import STORE_FAILED, Refused


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
    for number in (number for row in rows for number in (row if isinstance(row, list) else [row])):
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


class LayerStore:
    """Live settings come from the store where it has them, else from the image, until somebody writes them."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self.image: dict[str, Value] = {}
        self.live: dict[str, Value] = {}
        self.on_loan: dict[str, Value] = {}
        """Settings that are lent to the session, and the live values that they return to with its end."""

    def start(self, image: Mapping[str, Value]) -> None:
        """Power-on with an image."""
        self.image = dict(image)
        self.on_loan = {}
        self.live = {**self.image, **{path: v for path, v in self.store.values.items() if path in self.image}}

    def names(self, table: str) -> list[str]:
        """The names below a table of the image."""
        return sorted({path.split(".")[1] for path in self.image if path.startswith(f"{table}.")})

    def must_be_allowed(self, values: Mapping[str, Value | None]) -> None:
        """Raises Refused when a setting is unknown, or a value out of range; None is always allowed."""
        must_be_allowed({path: value for path, value in values.items() if value is not None}, self.image)

    def lend(self, values: Mapping[str, Value]) -> None:
        """Note what settings return to; what is lent already returns to what it was before the first loan."""
        for path in values:
            self.on_loan.setdefault(path, self.live[path])

    def below_loans(self, values: Mapping[str, Value]) -> dict[str, Value]:
        """Of values that are written, those that become live now; what is on loan returns to its new value later."""
        self.on_loan.update({path: value for path, value in values.items() if path in self.on_loan})
        return {path: value for path, value in values.items() if path not in self.on_loan}

    def returned(self, paths: Iterable[str]) -> dict[str, Value]:
        """End loans; returns what is to be live again."""
        return {path: self.on_loan.pop(path) for path in paths if path in self.on_loan}

    def keep(self, values: Mapping[str, Value | None]) -> dict[str, Value]:
        """Change the store in one transaction; None removes a value. Returns what becomes live.

        Raises:
            Refused: the store cannot be written; it holds what it held.
        """
        try:
            self.store.change(values)
        except OSError as error:
            raise Refused(STORE_FAILED, f"the board's store could not be written: {error}") from error
        return {path: self.image[path] if value is None else value for path, value in values.items()}
