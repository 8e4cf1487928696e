"""What the builder is told when Ublet itself is at fault."""

from __future__ import annotations

import contextlib
import logging
import traceback
from pathlib import Path

from ublet.session.places import fault_path


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
        f"ublet: a fault in Ublet itself. A board that was linked switches off by itself when "
        "it hears nothing; look at the machine. Nothing that was saved is lost. The details are in "
        f"{fault_note(error)}: please send us that file, then start again."
    )
