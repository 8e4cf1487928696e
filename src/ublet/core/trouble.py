"""Trouble that a user can mend: every expected error says what to do and how a command ends."""

from __future__ import annotations


class Trouble(Exception):
    """Base of all expected errors; the message is one clear sentence (or one a line).

    exit_code is what a command ends with: 2 wrong usage or unreadable input, 3 no link to the board.
    """

    exit_code = 2


class NoLink(Trouble):
    """There is no board to talk to, or it says no."""

    exit_code = 3
