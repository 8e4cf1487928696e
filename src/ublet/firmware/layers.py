"""The board's settings in layers: what its image says, what its store holds, what is live."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from ublet.core.settings import Value
from ublet.firmware.live_values import must_be_allowed
from ublet.firmware.refusal import STORE_FAILED, Refused
from ublet.firmware.store import Store


class Layers:
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
