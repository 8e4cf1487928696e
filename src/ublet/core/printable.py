"""Text from outside made safe to show: what would steer a terminal, or turn a line round, is shown by its code."""

from __future__ import annotations

import json
import re

_STEERS = (
    "\x00-\x08\x0b-\x1f\x7f-\x9f"  # C0 without tab and newline, DEL, C1 (8-bit CSI, OSC)
    "\u00ad\u061c\u180e\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb"  # no width, bidirectional, lines
    "\ud800-\udfff\U000e0000-\U000e0fff"  # halves of a pair, tags
)
_UNPRINTABLE = re.compile(f"[{_STEERS}]")
_IN_A_LINE = re.compile(f"[{_STEERS}\t\n]")


def printable(text: str, lines: bool = False) -> str:
    r"""The text with every character that steers a terminal written as its code. lines: tabs and newlines stay.

    >>> printable("a\x1b[2Jb\u202ec\nd")
    'a\\x1b[2Jb\\u202ec\\x0ad'
    """
    return (_UNPRINTABLE if lines else _IN_A_LINE).sub(_code, text)


def is_printable(text: str) -> bool:
    """Whether a text is safe to show in a line as it is."""
    return _IN_A_LINE.search(text) is None


def without_unprintable(text: str) -> str:
    """The text without these characters: for what is drawn in cells, where they have no width."""
    return _IN_A_LINE.sub("", text)


def printable_json(text: str) -> str:
    r"""A JSON text with these characters escaped as JSON escapes them; they can only stand inside its strings."""
    return _UNPRINTABLE.sub(lambda match: json.dumps(match[0])[1:-1], text)


def _code(match: re.Match[str]) -> str:
    number = ord(match[0])
    return f"\\x{number:02x}" if number < 0x100 else f"\\u{number:04x}" if number < 0x10000 else f"\\U{number:08x}"
