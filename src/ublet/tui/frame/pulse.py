"""The pulse: the live machine at the bottom of the screen, always."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from rich.text import Text
from textual.reactive import reactive
from textual.widget import Widget

from ublet.core.units import duration
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink

if TYPE_CHECKING:
    from ublet.core.run import Progress

BARS = "▁▂▃▄▅▆▇█"
TRACE_COLUMNS = 12
BAR_COLUMNS = 24
TOO_HOT_TO_TOUCH_C = 50.0
MOST_TERSE = 4


@dataclass(frozen=True)
class HeaterState:
    """One heater now: trace holds a minute's temperatures, oldest first."""

    name: str
    celsius: float | None
    target_c: float | None
    duty: float
    trace: tuple[float, ...]


@dataclass(frozen=True)
class PulseState:
    """The machine now. mode is ready, halted, tripped or unlinked; why is a sentence; waits: what runs does, for an
    answer.
    """

    heaters: tuple[HeaterState, ...] = ()
    fans: tuple[tuple[str, float], ...] = ()
    mode: str = "unlinked"
    why: str = ""
    running: str = ""
    progress: Progress | None = None
    gone_s: float = 0.0
    left_s: float | None = None
    position: tuple[tuple[str, float | None], ...] = ()
    waits: bool = False


class Pulse(Widget):
    """Two lines: the readings, and what runs; with HALT at the right."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    reading: reactive[PulseState] = reactive(PulseState())

    def __init__(self) -> None:
        super().__init__()

    def render(self) -> Text:
        """The two lines, fitted to the width."""
        width = self.content_size.width or 100
        halt = Text(" F8 HALT ", f"bold {Ink.ground} on {Ink.stop}")
        first = self._readings_line(width - len(halt) - 1)
        first.pad_right(max(0, width - len(halt) - len(first)))
        second = self._work_line(width)
        text = Text(no_wrap=True)
        text.append_text(first)
        text.append_text(halt)
        text.append("\n")
        text.append_text(second)
        return text

    def _readings_line(self, width: int) -> Text:
        """The readings, shown as fully as there is room for: nothing is cut off."""
        if not self.reading.heaters:
            linked = self.reading.mode != "unlinked"
            return Text("no readings yet" if linked else "no readings: the board is not linked", Ink.dim)
        line = Text()
        for terse in range(MOST_TERSE + 1):
            line = self._readings(terse)
            if len(line) <= width:
                return line
        line.truncate(width, overflow="ellipsis")
        return line

    def _readings(self, terse: int) -> Text:
        """Heaters, position, fans. terse leaves out, one after the other: traces, fans that stand still, the word duty
        and heaters' duties that are 0, the fans.
        """
        line, reading = Text(), self.reading
        for heater in reading.heaters:
            line.append(f"{heater.name} ", Ink.dim)
            if heater.celsius is None:
                line.append("✗ no reading", Ink.stop)
            else:
                line.append(f"{heater.celsius:5.1f}", f"bold {Ink.focus}")
            target = "off" if heater.target_c is None else f"{heater.target_c:.0f}"
            line.append(f" / {target:>3} °C ", Ink.text)
            if terse < 1:
                line.append(trace(heater.trace, heater.target_c), Ink.focus)
            if terse < 3 or heater.duty:
                word = "duty " if terse < 3 else ""
                line.append(f" {word}{100 * heater.duty:3.0f} %", Ink.text if heater.duty else Ink.dim)
            line.append("   ")
        for name, where in reading.position:
            line.append(f"{name.upper()} ", Ink.dim)
            shown = "? " if where is None else f"{round(where, 1) + 0.0:.1f} "
            line.append(shown, Ink.focus if where is None else Ink.text)
        line.append("mm   " if reading.position else "", Ink.dim)
        turning = [(name, duty) for name, duty in reading.fans if duty or terse < 2]
        if terse < 4:
            for name, duty in turning:
                line.append(f"{name} fan {f'{100 * duty:.0f} %' if duty else 'off'}  ", Ink.text if duty else Ink.dim)
            if reading.fans and not turning:
                line.append("fans off", Ink.dim)
        line.rstrip()
        return line

    def _work_line(self, width: int) -> Text:
        line, reading = Text(), self.reading
        if reading.mode in ("halted", "tripped"):
            word = "HALTED" if reading.mode == "halted" else "GUARD TRIPPED"
            line.append(f"■ {word} ", f"bold {Ink.stop}")
            line.append(f"{reading.why} Everything is off. ", Ink.text)
            line.append("r releases", Ink.focus)
        elif reading.mode == "unlinked":
            line.append("✗ no link  ", f"bold {Ink.stop}")
            line.append(reading.why, Ink.text)
        elif reading.running:
            line.append(f"◆ {reading.running}  ", f"bold {Ink.focus}")
            if reading.progress is not None:
                fraction = min(1.0, max(0.0, reading.progress.fraction))
                done = round(BAR_COLUMNS * fraction)
                line.append("━" * done, Ink.focus)
                line.append("━" * (BAR_COLUMNS - done), Ink.faint)
                left = reading.left_s
                later = f"about {duration(left)} left" if left is not None else "time left not known yet"
                later = "waits for you" if reading.waits else later
                left_words = f" {duration(reading.gone_s)} gone, {later}"
                line.append(f" {reading.progress.phase} ·{left_words} · {reading.progress.detail}", Ink.text)
            elif reading.waits:
                line.append("waits for you", Ink.text)
        else:
            heating = [heater.name for heater in reading.heaters if heater.duty]
            hot = [f"{h.name} {h.celsius:.0f} °C" for h in reading.heaters if (h.celsius or 0) > TOO_HOT_TO_TOUCH_C]
            if heating:
                line.append(f"◆ {', '.join(heating)} heating", Ink.focus)
            else:
                line.append("○ nothing runs, nothing heats", Ink.dim)
            if hot:
                line.append(f"   ! hot to the touch: {', '.join(hot)}", Ink.focus)
        line.truncate(width, overflow="ellipsis")
        return line


def trace(values: tuple[float, ...], target_c: float | None) -> str:
    """A minute of temperatures as bars; the scale spans at least 4 °C, and the target when there is one."""
    if not values:
        return " " * TRACE_COLUMNS
    picked = [values[int(n * len(values) / TRACE_COLUMNS)] for n in range(TRACE_COLUMNS)]
    low, high = min(picked), max(picked)
    if target_c is not None:
        low, high = min(low, target_c), max(high, target_c)
    if high - low < 4:
        middle = (high + low) / 2
        low, high = middle - 2, middle + 2
    return "".join(BARS[min(7, int((value - low) / (high - low) * 8))] for value in picked)
