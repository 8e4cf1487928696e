"""The raw dialogue with the board, to be read."""

from __future__ import annotations

import json

from ublet.session.connection import Connection


def talk_text(connection: Connection) -> str:
    """What was said, the newest first; the board's notifications of its state are left out."""
    lines = [f"{way} {json.dumps(message, ensure_ascii=True)}" for way, message in connection.talk]
    return "\n".join(reversed(lines)) or "Nothing has been said yet."
