"""What stays bright above everything else: the live machine, HALT, and the note of a terminal that is too small."""

from __future__ import annotations

from typing import Any

from textual.screen import Screen

from ublet.tui.frame.pulse import Pulse
from ublet.tui.frame.small import SmallNote


def keep_bright(screen: Screen[Any]) -> None:
    """Give a screen that covers the app a pulse and a note of its own, with what the app's own show now."""
    below = screen.app.screen_stack[0]
    if below.query(SmallNote):
        screen.mount(SmallNote())
    for pulse in below.query(Pulse):
        live = Pulse()
        live.set_reactive(Pulse.reading, pulse.reading)
        screen.mount(live)
