"""Choosing a moment of the ledger: now, a save, a run, a date that is typed, another machine's file."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from ublet.core.trouble import Trouble
from ublet.session.past import moment_of
from ublet.session.record import local_time
from ublet.session.session import Session
from ublet.tui.frame.pickers import PickDialog, PickerItem

NEWEST = 60
"""Number of the newest runs offered; any number can be typed."""


def moment_dialog(session: Session, title: str, files: bool) -> PickDialog:
    """The dialog; it closes with what names the moment. files: another machine's file may be typed, too."""
    hint = "type to narrow, or a date (2026-11-30), a run (12)" + (", another machine file" if files else "")
    return PickDialog(title, _choices(session, files), hint=hint)


def _choices(session: Session, files: bool) -> Callable[[str], Sequence[PickerItem]]:
    ledger = session.ledger
    items = [PickerItem("now", "now", "as it is")] if files else []
    saves = ledger.saves()
    items += [
        PickerItem(f"save{number}", f"save {number}", local_time(at))
        for number, at in reversed(list(enumerate(saves, start=1)))
    ]
    items += [
        PickerItem(str(entry.id), f"run {entry.id}", f"{local_time(entry.at)}  {entry.name}: {entry.result.outcome}")
        for entry in ledger.runs(most=NEWEST)
    ]

    def fitting(typed: str) -> Sequence[PickerItem]:
        words = typed.lower().split()
        fits = [item for item in items if all(word in f"{item.words} {item.note}".lower() for word in words)]
        text = typed.strip()
        if files and text.endswith(".toml") and Path(text).expanduser().is_file():
            return [PickerItem(str(Path(text).expanduser()), Path(text).name, "another machine"), *fits]
        if text and (moment := _moment(session, text)):
            return [PickerItem(text, moment, "as typed"), *(item for item in fits if item.value != text)]
        return fits

    return fitting


def _moment(session: Session, text: str) -> str:
    try:
        return moment_of(session.ledger, text).words
    except Trouble:
        return ""
