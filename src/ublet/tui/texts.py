"""Longer texts: the ledger, the talk with the board, help."""

from __future__ import annotations

import json

from rich.text import Text

from ublet.session.connection import Connection
from ublet.tui.theme import Palette

EVERYWHERE = """\
EVERYWHERE
      F8    HALT: everything off at once      r     release after a halt or a tripped guard
      tab   route / bench                     ctrl+s  write and save what is not yet
      F2    go where the next step is done    w     talk with the board
      l     ledger, and back
      F3    tell what happened: nozzle changed, belt tightened, ...
      F6    light / dark                      ctrl+p  every command         ctrl+q  quit
"""


def help_text(bench: str, palette: Palette) -> Text:
    """A bench's own help, and the keys that work everywhere."""
    return Text(f"{bench}\n{EVERYWHERE}" if bench else EVERYWHERE, palette.text)


def talk_text(connection: Connection) -> str:
    """The dialogue with the board, without the state notifications."""
    lines = [f"{way} {json.dumps(message, ensure_ascii=False)}" for way, message in connection.talk]
    return "\n".join(reversed(lines)) or "Nothing has been said yet."
