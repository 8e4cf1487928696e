"""Below the least size: what must still be seen and pressed, and nothing that could be pressed unseen."""

from __future__ import annotations

from rich.text import Text
from textual.geometry import Size
from textual.reactive import reactive
from textual.widget import Widget

from ublet.tui.frame.pulse import PulseState
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink

LEAST_COLUMNS, LEAST_ROWS = 80, 24


def too_small(size: Size) -> bool:
    """Whether a terminal of this size is too small to work in."""
    return size.width < LEAST_COLUMNS or size.height < LEAST_ROWS


class SmallNote(Widget):
    """Stands for everything while the terminal is too small: temperatures, HALTED, and the three keys that work.

    ``asking`` is what quitting would lose; it is asked here, since no dialog can be seen.
    """

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    reading: reactive[PulseState] = reactive(PulseState())
    asking: reactive[str] = reactive("")

    def __init__(self) -> None:
        super().__init__()

    def render(self) -> Text:
        """The most important first: a few lines may be all there is."""
        text, reading = Text(), self.reading
        if reading.mode in ("halted", "tripped"):
            text.append(f"■ {reading.mode.upper()}\n", f"bold {Ink.stop}")
        elif reading.mode == "unlinked":
            text.append("✗ no link to the board\n", Ink.stop)
        for heater in reading.heaters:
            text.append(f"{heater.name} ", Ink.text)
            now = "no reading" if heater.celsius is None else f"{heater.celsius:.1f}"
            text.append(now, f"bold {Ink.focus}")
            target = " °C, off" if heater.target_c is None else f" → {heater.target_c:g} °C"
            text.append(f"{target}\n", Ink.text)
        if reading.running:
            text.append(f"◆ {reading.running} runs\n", Ink.focus)
        if self.asking:
            text.append(f"{self.asking} ", Ink.proposal)
        for key, words in (
            ("F8", "HALT"),
            ("esc", "cancel"),
            ("ctrl+q", "quit all the same" if self.asking else "quit"),
        ):
            text.append(f"{key} ", f"bold {Ink.focus}")
            text.append(f"{words}  ", Ink.text)
        text.append(
            f"\n\nUblet needs a terminal of at least {LEAST_COLUMNS} x {LEAST_ROWS} characters: make this one larger. "
            "Nothing else can be pressed until then.",
            Ink.dim,
        )
        return text
