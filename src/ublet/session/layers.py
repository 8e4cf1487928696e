"""The four layers of every setting: file, image, stored, live; which one wins, and what shadows what."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from ublet.core.machine.compare import same
from ublet.core.settings import Value
from ublet.session.connection import Connection
from ublet.session.document import Document

Winner = Literal["image", "stored", "kept", "file"]
"""The layer whose value is in force: kept is live and in no store; file, when the board does not hold the setting."""


@dataclass(frozen=True)
class LayerRow:
    """One setting in its layers; None: that layer has nothing. What a board does not hold has only the file's."""

    path: str
    file: Value
    image: Value = None
    stored: Value = None
    live: Value = None
    on_board: bool = False

    @property
    def wins(self) -> Winner:
        """The layer whose value is in force."""
        if not self.on_board:
            return "file"
        saved = self.image if self.stored is None else self.stored
        if not same(self.live, saved):
            return "kept"
        return "image" if self.stored is None else "stored"

    @property
    def shadowed(self) -> bool:
        """Whether a stored value hides another one in the file."""
        return self.on_board and self.stored is not None and self.file is not None and not same(self.file, self.stored)

    @property
    def outdated(self) -> bool:
        """Whether the image was built from another value than the file's, and the store does not make up for it."""
        covered = self.stored is not None and same(self.stored, self.file)
        return self.on_board and not covered and not same(self.file, self.image)

    @property
    def differs(self) -> bool:
        """Whether the layers do not all agree."""
        return self.shadowed or self.outdated or self.wins == "kept"


def rows(document: Document, connection: Connection) -> list[LayerRow]:
    """Every setting that file or board hold, in the file's order; those that only the board holds come last.

    A board that takes no image has two layers only: what is live, and what it will have after power-on, which is shown
    as stored.
    """
    takes_image = "image" in connection.can
    layers = connection.layers if connection.linked else {}
    layer_rows = []
    for path, value in document.values.items():
        if path in layers:
            setting = layers[path]
            image, stored = (setting.image, setting.stored) if takes_image else (None, setting.saved)
            layer_rows.append(LayerRow(path, value, image, stored, setting.live, True))
        elif value is not None:
            layer_rows.append(LayerRow(path, value, on_board=connection.holds(path) and bool(layers)))
    known = document.values
    layer_rows += [
        LayerRow(path, None, layer.image, layer.stored, layer.live, True)
        for path, layer in layers.items()
        if path not in known
    ]
    return layer_rows


def shadows(document: Document, connection: Connection) -> list[LayerRow]:
    """Settings whose stored value hides another one in the file."""
    return [row for row in rows(document, connection) if row.shadowed]


Settling = Literal["file", "stored", "adopt"]
"""How a shadow is settled: take the file's value, keep the stored one, or put the stored one into the file."""


def settled_values(chosen: Mapping[str, Settling], shadowed: Mapping[str, LayerRow]) -> dict[str, Value]:
    """What the board's store must hold for each choice, as :func:`saving.save` takes it: a value is filed too.

    Taking the file's value clears the stored one when the image holds it; otherwise it is stored.
    """
    values: dict[str, Value] = {}
    for path, way in chosen.items():
        row = shadowed[path]
        if way == "file":
            values[path] = None if same(row.image, row.file) else row.file
        elif way == "adopt":
            values[path] = row.stored
    return values
