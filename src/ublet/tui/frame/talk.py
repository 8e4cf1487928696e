"""The raw dialogue with the board, to be read."""

from __future__ import annotations

import json

from ublet.link.frames import Message
from ublet.session.connection import Connection


def _shown(message: Message) -> str:
    """A message; a line of a dialect as it is, with what it was understood as."""
    if (line := message.get("line")) is None:
        return json.dumps(message, ensure_ascii=True)
    return f"{line!s:<60}  {message.get('meaning', '')}".rstrip()


def talk_text(connection: Connection) -> str:
    """What was said, the newest first; the board's notifications of its state are left out."""
    lines = [f"{way} {_shown(message)}" for way, message in connection.talk]
    return "\n".join(reversed(lines)) or "Nothing has been said yet."
