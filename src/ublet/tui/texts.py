"""Longer texts: the ledger, the talk with the board, help."""

from __future__ import annotations

import json
from datetime import datetime

from rich.text import Text

from ublet.core.units import show
from ublet.ledger.book import Ledger
from ublet.session.connection import Connection
from ublet.tui.theme import Palette

HELP = """\
WHY   A hotend that overshoots burns the first millimetres and one that ripples prints bands. The gains
      of another machine do not fit yours: power, block, sock and fan decide.

HOW   From room temperature the board heats at full power, then switches around the target by itself.
      Each swing tells how strongly and how late the block answers. The first swing after any change is
      thrown away; when three agree within 2 % it stops. Two more with the part fan on tell what the fan
      takes away. A model (gain, two lags, dead time) is fitted to the whole record, and the board's own
      control law is run on that model for each set of gains: that is the prediction.

      calm      Tyreus-Luyben: slow and safe
      balanced  SIMC, from the model
      quick     Ziegler-Nichols: overshoots

      Keep writes the gains to the live machine. Verify heats from cold with them and compares with the
      prediction. Save puts them into the board's store and the machine file, both or neither.

KEYS  enter start            t  temperature         ↑ ↓  choose gains
      k     keep             d  drop                v    verify
      e     export           esc  cancel            ctrl+s  save
      F8    HALT: everything off at once, from everywhere
      r     release after a halt or a tripped guard
      tab   route / bench    l  ledger              w    talk with the board
      F6    light / dark     ctrl+p  every command  ctrl+q  quit
"""


def local_time(at: str) -> str:
    """A time of the ledger (UTC) as the builder's clock shows it, to the minute."""
    return datetime.fromisoformat(at).astimezone().strftime("%Y-%m-%d %H:%M")


def help_text(palette: Palette) -> Text:
    """Help for the bench, and every key."""
    return Text(HELP, palette.text)


def ledger_text(ledger: Ledger, palette: Palette) -> Text:
    """Trials and changes, newest first."""
    lines: list[tuple[str, str, str]] = []
    styles = {"proven": palette.good, "failed": palette.stop, "halted": palette.stop}
    for entry in ledger.trials():
        result = entry.result
        lines.append((entry.at, f"{entry.name}: {result.outcome}. {result.why}", styles[result.outcome]))
    for change in ledger.changes():
        before, after = (show(v) if isinstance(v, float) else str(v) for v in (change.before, change.after))
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
