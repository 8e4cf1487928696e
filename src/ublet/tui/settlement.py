"""The settlement: the gains to choose from, what each is predicted to do, what is live, what was measured."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual.reactive import reactive
from textual.widget import Widget

from ublet.core.heat.candidates import AS_FOUND
from ublet.core.run import Option, TrialResult
from ublet.core.units import duration, show
from ublet.tui.theme import Palette

COLUMNS = (("Kp /°C", 9), ("Ki /(°C·s)", 12), ("Kd s/°C", 9), ("overshoot", 11), ("settled", 13), ("ripple", 10))
NAME_COLUMNS = 16


class Settlement(Widget):
    """A table of options; the chosen one is what Keep writes."""

    DEFAULT_CSS = """
    Settlement { height: auto; min-height: 6; padding: 0 1; text-wrap: nowrap; text-overflow: ellipsis; }
    """
    options: reactive[Sequence[Option]] = reactive((), layout=True)
    chosen: reactive[int] = reactive(0)
    recommended: reactive[str] = reactive("")
    live: reactive[str] = reactive("")
    measured: reactive[TrialResult | None] = reactive(None, layout=True)

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.palette = palette

    @property
    def option(self) -> Option | None:
        """The chosen option."""
        return self.options[self.chosen] if 0 <= self.chosen < len(self.options) else None

    def choose(self, by: int) -> None:
        """Move the choice."""
        if self.options:
            self.chosen = max(0, min(len(self.options) - 1, self.chosen + by))

    def get_content_height(self, *_: object) -> int:
        """A heading, a line an option, and one for the measurement."""
        return 1 + len(self.options) + (1 if self.measured else 0) if self.options else 1

    def render(self) -> Text:
        """The table; wide terminals get a note at its right."""
        palette, text = self.palette, Text(no_wrap=True)
        if not self.options:
            return text
        width = self.content_size.width or 100
        shown = COLUMNS if width >= 96 else COLUMNS[3:]
        text.append(" " * 2 + f"{'gains':<{NAME_COLUMNS}}", palette.dim)
        for title, columns in shown:
            text.append(f"{title:>{columns}}", palette.dim)
        text.append("   predicted" if width >= 96 else "", palette.dim)
        for number, option in enumerate(self.options):
            chosen = number == self.chosen
            style = f"bold {palette.proposal}" if chosen else palette.text
            if option.name == AS_FOUND and not chosen:
                style = palette.dim
            text.append("\n")
            text.append("▸ " if chosen else "  ", style)
            mark = "● " if option.name == self.live else ""
            text.append(f"{mark + option.name:<{NAME_COLUMNS}}", style)
            for (_, columns), cell in zip(shown, _cells(option)[-len(shown) :], strict=True):
                text.append(f"{cell:>{columns}}", style)
            text.append(f"   {self._note(option)}", style if chosen else palette.dim)
        if self.measured is not None:
            good = self.measured.outcome == "proven"
            style = palette.good if good else palette.stop
            text.append("\n")
            text.append(f"{'✓' if good else '✗'} {'measured':<{NAME_COLUMNS}}", f"bold {style}")
            for (title, columns), cell in zip(COLUMNS, ["", "", "", *_measured(self.measured)], strict=True):
                if (title, columns) in shown:
                    text.append(f"{cell:>{columns}}", f"bold {style}")
            text.append("   by a step from cold", palette.dim)
        return text

    def _note(self, option: Option) -> str:
        notes = [option.note]
        if option.name == self.live:
            notes.append("● live now")
        if option.name == self.recommended:
            notes.append("recommended")
        return " · ".join(notes)


def _cells(option: Option) -> list[str]:
    figures = option.figures
    settle = figures.get("settle_s")
    return [
        *(show(figures[key] or 0.0, digits=3) if key in figures else "–" for key in ("kp", "ki", "kd")),
        f"+{figures.get('overshoot_c') or 0.0:.1f} °C",
        duration(settle) if settle is not None else "never",
        f"±{figures.get('ripple_c') or 0.0:.1f} °C",
    ]


def _measured(result: TrialResult) -> list[str]:
    overshoot, settle, ripple = (result.finding(name) for name in ("overshoot", "settle", "ripple"))
    return [
        f"+{overshoot.value:.1f} °C" if overshoot else "–",
        duration(settle.value) if settle else "never",
        f"±{ripple.value:.1f} °C" if ripple else "–",
    ]
