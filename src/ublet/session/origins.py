"""Where the value of each layer of a setting came from, and when: by the file, the board's image and the ledger."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from ublet.core.machine.compare import same
from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.core.settings import Value
from ublet.ledger.entries import Change
from ublet.ledger.errors import LedgerError
from ublet.session.layers import LayerRow
from ublet.session.record import change_words, local_time
from ublet.session.session import Session

Layer = Literal["file", "image", "stored", "live"]


@dataclass(frozen=True)
class Origin:
    """One layer of a setting: its value, where that came from in words, and whether it is the one in force."""

    layer: Layer
    value: Value
    words: str
    wins: bool


def origins(session: Session, row: LayerRow) -> list[Origin]:
    """The layers of a setting, the file's first. A setting that no board holds has only that."""
    winner = {"kept": "live"}.get(row.wins, row.wins)
    known_origins = [Origin("file", row.file, _of_file(session, row), winner == "file")]
    if row.on_board:
        known_origins.append(Origin("image", row.image, _of_image(session), winner == "image"))
        known_origins.append(Origin("stored", row.stored, _of_store(session, row), winner == "stored"))
        known_origins.append(Origin("live", row.live, _of_live(session, row), winner == "live"))
    return known_origins


def _of_file(session: Session, row: LayerRow) -> str:
    name, line = session.document.path.name, session.document.line(row.path)
    if line is None:
        known = BOARD_SETTINGS.find(row.path)
        follows = known is not None and not same(row.file, known.default)
        return "not given: it follows from other settings" if follows else "not given: its default"
    change = _last(session, row.path, "file")
    return f"line {line} of {name}{f', {_change_words(session, change)}' if change is not None else ''}"


def _of_image(session: Session) -> str:
    image = session.connection.image
    if "image" not in session.connection.can and session.connection.linked:
        return "this board takes no image"
    if image is None:
        return "built into the board's image"
    change = _last(session, "image", "image")
    written = f", written {local_time(change.at)}" if change is not None else " before this ledger began"
    return f"built into image {image.digest[:8]}{written}"


def _of_store(session: Session, row: LayerRow) -> str:
    if row.stored is None:
        return "nothing stored: the image's value counts"
    change = _last(session, row.path, "stored")
    if change is None or not same(change.after, row.stored):
        return "stored before this ledger began, or by another program"
    return _change_words(session, change)


def _of_live(session: Session, row: LayerRow) -> str:
    if row.wins != "kept":
        return f"as in the board's {'store' if row.stored is not None else 'image'}"
    change = _last(session, row.path, "live")
    if change is None or not same(change.after, row.live):
        return "changed on the board by another program; not saved"
    return f"{_change_words(session, change)}; not saved, lost at power-off"


def _last(session: Session, setting: str, layer: str) -> Change | None:
    try:
        return session.ledger.last_change(setting, layer=layer)
    except LedgerError:
        return None


def _change_words(session: Session, change: Change) -> str:
    try:
        return change_words(session.ledger, change)
    except LedgerError:
        return change_words(None, change)
