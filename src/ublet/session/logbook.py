"""The log: what happened on the link and at the board, and faults of ours; how the builder learns of these."""

from __future__ import annotations

import contextlib
import logging
import traceback
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import TextIO

from ublet.session.connection import Connection
from ublet.session.places import fault_path, log_path


def fault_note(error: BaseException) -> Path:
    """Write the details of a fault to a file that can be sent to us; returns where."""
    note = fault_path()
    logging.getLogger(__name__).error("a fault of ours: %r, details in %s", error, note)
    with contextlib.suppress(OSError):
        note.parent.mkdir(parents=True, exist_ok=True)
        note.write_text("".join(traceback.format_exception(error)), encoding="utf-8")
    return note


def crash_sentence(error: BaseException) -> str:
    """One sentence; the details go to a file."""
    return (
        "ublet: a fault in Ublet itself. A linked board switches off by itself when it receives nothing; look at "
        "the machine. Nothing that was saved is lost. The details are in "
        f"{fault_note(error)}: please send us that file, then start again."
    )


LARGEST_BYTES, KEPT = 500_000, 3
FORMAT = "%(asctime)s %(levelname)-7s %(name)s: %(message)s"

log = logging.getLogger(__name__)


class _Changes:
    """Writes a line whenever the link or the board's mode is another one than before."""

    def __init__(self, connection: Connection) -> None:
        self.connection = connection
        self.before: tuple[str, str] = ("", "")

    def look(self) -> None:
        """Called at every change of the connection."""
        connection, state = self.connection, self.connection.state
        now = (state.mode, connection.why if state.mode == "unlinked" else state.why)
        if now == self.before:
            return
        before, self.before = self.before, now
        if state.mode == "unlinked":
            log.warning("no link: %s", connection.why)
        elif state.mode == "ready" and before[0] in ("halted", "tripped"):
            log.info("released: the board is ready again")
        elif state.mode == "ready" and connection.about is not None:
            log.info("linked to %s, firmware %s", connection.about.board, connection.about.firmware)
        else:
            log.warning("the board is %s: %s", state.mode, state.why)


def log_to(stream: TextIO) -> None:
    """Log to a stream, for a command that shows no screen; connections are followed from then on."""
    handler = logging.StreamHandler(stream)
    handler.setFormatter(logging.Formatter(FORMAT))
    root = logging.getLogger("ublet")
    root.handlers, root.propagate = [handler], False
    root.setLevel(logging.INFO)


def log_changes(connection: Connection) -> None:
    """Log the link's and the board's changes, where a log is kept at all."""
    if logging.getLogger("ublet").handlers:
        connection.changed.append(_Changes(connection).look)
        connection.broken.append(lambda what, why: log.warning("%s: %s", what.value, why))


def keep_log(connection: Connection) -> None:
    """Keep the log of a connection. A folder that cannot be written is no reason not to work."""
    root = logging.getLogger("ublet")
    for old in list(root.handlers):
        root.removeHandler(old)
        old.close()
    root.propagate = False
    try:
        log_path().parent.mkdir(parents=True, exist_ok=True)
        handler: logging.Handler = RotatingFileHandler(
            log_path(), maxBytes=LARGEST_BYTES, backupCount=KEPT, encoding="utf-8", delay=True
        )
    except OSError:
        handler = logging.NullHandler()
    handler.setFormatter(logging.Formatter(FORMAT))
    handler.handleError = lambda record: None  # type: ignore[method-assign]  # a full disk: the app goes on
    root.addHandler(handler)
    root.setLevel(logging.INFO)
    log_changes(connection)
