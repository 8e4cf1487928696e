"""Longer texts: the ledger, the talk with the board, help."""

from __future__ import annotations

import json
from datetime import datetime

from rich.text import Text

from ublet.core.typed import shown_after, shown_value
from ublet.ledger.book import Ledger
from ublet.session.connection import Connection
from ublet.tui.theme import Palette

EVERYWHERE = """\
EVERYWHERE
      F8    HALT: everything off at once      r     release after a halt or a tripped guard
      tab   route / bench                     ctrl+s  write and save what is not yet
      l     ledger                            w     talk with the board
      F6    light / dark                      ctrl+p  every command         ctrl+q  quit
"""


def local_time(at: str) -> str:
    """A time of the ledger (UTC) as the builder's clock shows it, to the minute."""
    return datetime.fromisoformat(at).astimezone().strftime("%Y-%m-%d %H:%M")


def help_text(bench: str, palette: Palette) -> Text:
    """A bench's own help, and the keys that work everywhere."""
    return Text(f"{bench}\n{EVERYWHERE}" if bench else EVERYWHERE, palette.text)


def ledger_text(ledger: Ledger, palette: Palette) -> Text:
    """Trials and changes, newest first."""
    lines: list[tuple[str, str, str]] = []
    styles = {"proven": palette.good, "failed": palette.stop, "halted": palette.stop}
    for entry in ledger.runs():
        result = entry.result
        lines.append((entry.at, f"{entry.name}: {result.outcome}. {result.why}", styles[result.outcome]))
    for change in ledger.changes():
        before, after = shown_value(change.before), shown_after(change.before, change.after)
        lines.append((change.at, f"{change.kind}  {change.setting} ({change.layer})  {before} → {after}", palette.text))
    if not lines:
        return Text("Nothing has been done on this machine yet.", palette.dim)
    text = Text()
    for at, words, style in sorted(lines, key=lambda line: line[0], reverse=True):
        text.append(f"{local_time(at)}  ", palette.dim)
        text.append(f"{words}\n", style)
    return text


def talk_text(connection: Connection) -> str:
    """The dialogue with the board, without the state notifications."""
    lines = [f"{way} {json.dumps(message, ensure_ascii=False)}" for way, message in connection.talk]
    return "\n".join(reversed(lines)) or "Nothing has been said yet."
