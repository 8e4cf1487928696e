"""The sheet of gain sets: every known set drawn on the same model of the heater, and which one is used where."""

from __future__ import annotations

import numpy as np
from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import Static

from ublet.core.heat.gain_sets import Served
from ublet.core.trouble import Trouble
from ublet.session.gain_sets import switch_set, used_at
from ublet.session.session import Session
from ublet.tui.frame.dialogs import Dialog
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.chart import ChartLine, Picture, StripChart

NEAR_C = 8.0
"""The chart shows so much below the target, °C."""

NAME_COLUMNS, CELL_COLUMNS = 19, 18


class GainSetsDialog(Dialog):
    """A chart of one temperature's steps above a table of all of them."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("left", "target(-1)", show=False),
        Binding("right", "target(1)", show=False),
        Binding("up", "choose(-1)", show=False),
        Binding("down", "choose(1)", show=False),
        Binding("u", "use", show=False),
    ]

    def __init__(self, session: Session, heater: str, sets: Served) -> None:
        super().__init__()
        self.session, self.heater, self.found = session, heater, sets
        self.names = list(sets.steps)
        self.target, self.chosen = 0, 0
        self.message = ""

    def compose(self) -> ComposeResult:
        """Heading, chart, table, what was said, keys."""
        with Vertical():
            yield Static(id="sets-heading")
            yield StripChart()
            yield Static(id="sets-table")
            yield Static("", id="sets-message")
            keys = "↑↓ set    ←→ temperature    u use it near its temperature, or no longer    esc closes"
            yield Static(keys, classes="keys")

    def on_mount(self) -> None:
        """Show it."""
        self._show()

    def _show(self) -> None:
        target = self.found.targets_c[self.target]
        heading = Text(f"Gain sets of the {self.heater}: ", f"bold {Ink.text}")
        heading.append(f"steps from the room to {target:g} °C, on the model found nearest to it", Ink.dim)
        self.query_one("#sets-heading", Static).update(heading)
        self.query_one(StripChart).show(self._picture(target))
        self.query_one("#sets-table", Static).update(self._table())
        self.query_one("#sets-message", Static).update(Text(self.message, Ink.proposal))

    def _picture(self, target: float) -> Picture | None:
        """Every set around the target; the chosen one on top, in its own colour."""
        curves, high, start = [], target + 3.0, 1e9
        order = [number for number in range(len(self.names)) if number != self.chosen] + [self.chosen]
        for number in order:
            step = self.found.steps[self.names[number]][self.target]
            if step is None:
                continue
            style = Ink.focus if number == self.chosen else Ink.dim
            curves.append(ChartLine(step.time_s[::5], step.celsius[::5], style))
            high = max(high, float(step.celsius.max()) + 1)
            near = np.flatnonzero(step.celsius > target - NEAR_C)
            start = min(start, float(step.time_s[near[0]]) if len(near) else start)
        if not curves:
            return None
        start = max(0.0, start - 10) if start < 1e9 else 0.0
        end = max(float(curve.x[-1]) for curve in curves)
        return Picture(curves, (start, end), (target - NEAR_C, high), level=target)

    def _table(self) -> Text:
        """A row for each set, a column for each temperature: overshoot and time to settle; which one is used where."""
        sets, text = self.found, Text(no_wrap=True)
        text.append(" " * NAME_COLUMNS)
        for number, target in enumerate(sets.targets_c):
            style = f"bold {Ink.focus}" if number == self.target else Ink.dim
            text.append(f"{f'{target:g} °C':>{CELL_COLUMNS}}", style)
        text.append("\n")
        for number, name in enumerate(self.names):
            here = number == self.chosen
            text.append("▸ " if here else "  ", Ink.focus)
            style = f"bold {Ink.focus}" if here else Ink.text
            text.append(f"{name:<{NAME_COLUMNS - 2}}"[: NAME_COLUMNS - 2], style)
            for at, target in enumerate(sets.targets_c):
                used = used_at(self.session, self.heater, target) == name
                cell = f"{'◆ ' if used else ''}{_cell(sets, name, at)}"
                good = name in sets.all
                text.append(f"{cell:>{CELL_COLUMNS}}", Ink.focus if used else Ink.good if good else Ink.dim)
            text.append("   ● serves all" if name in sets.all else "", Ink.good)
            text.append("\n")
        text.append("\n◆ ", Ink.focus)
        text.append("the board uses this set there. ", Ink.dim)
        text.append("Overshoot, and minutes until it stays within 1 °C.\n", Ink.dim)
        if sets.all:
            text.append(f"{sets.all[0]} serves all of them: one set is enough.", Ink.good)
        else:
            text.append("No set serves all of them: tune where it fails, and keep that set for it.", Ink.focus)
        return text

    def action_target(self, by: int) -> None:
        """Another temperature."""
        self.target = (self.target + by) % len(self.found.targets_c)
        self._show()

    def action_choose(self, by: int) -> None:
        """Another set."""
        self.chosen = (self.chosen + by) % len(self.names)
        self._show()

    async def action_use(self) -> None:
        """Let the board use the chosen set near its temperature, or no longer."""
        try:
            self.message = await switch_set(self.session, self.heater, self.names[self.chosen])
        except (ValueError, Trouble) as error:
            self.message = f"✗ {error}"
        self._show()


def _cell(sets: Served, name: str, at: int) -> str:
    measure = sets.measure(name, at)
    if measure is None:
        return "not reached"
    settled = f"{measure.settle_s // 60:.0f}:{measure.settle_s % 60:02.0f}" if measure.settle_s else "never"
    return f"+{measure.overshoot_c:.1f} °C {settled:>5}"
