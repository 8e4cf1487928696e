"""What the builder is told when Ublet itself is at fault."""

from __future__ import annotations

import contextlib
import traceback

import platformdirs


def crash_sentence(error: BaseException) -> str:
    """One sentence; the details go to a file that can be sent to us."""
    note = platformdirs.user_state_path("ublet") / "last-fault.txt"
    with contextlib.suppress(OSError):
        note.parent.mkdir(parents=True, exist_ok=True)
        note.write_text("".join(traceback.format_exception(error)), encoding="utf-8")
    return (
        f"ublet: a fault in Ublet itself ({type(error).__name__}). Nothing heats any more and nothing that was saved "
        f"is lost. The details are in {note}: please send us that file, then start again."
    )
