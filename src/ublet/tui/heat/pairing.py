"""The bench of pairing: each heater with its own sensor."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from rich.text import Text

from ublet.core.heat.wire_trials import FELT_C, HIGHEST_C, PairingParameters
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import graph
from ublet.tui.instruments.picture import Picture
from ublet.tui.trial.recorded import RecordedBench
from ublet.tui.trial.watch import TrialWatch

NAME_COLUMNS, NOW_COLUMNS = 18, 12
GRAPH_COLUMNS, GRAPH_ROWS = 34, 8
"""A graph is no smaller than this; where there is less room there are none."""

LABEL_COLUMNS = 20
INKS = (Ink.proposal, Ink.good, Ink.text, Ink.dim)
"""Of sensors that are not the heater's own."""

SHORTEST_S = 30.0


class PairingBench(RecordedBench):
    """Each heater with its own sensor."""

    kind = "pairing"
    title = "Heaters paired"
    why = "a heater with another one's sensor burns before a guard can know"

    def picture(self) -> Picture:
        """What each sensor reads, and how they rose while each heater was driven."""
        aim = self.aim
        assert isinstance(aim, PairingParameters)

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            series = self.read("rises")
            rows = series.rows if series is not None else np.zeros((0, 4))
            cells = Cells(width, height)
            driven = int(rows[-1, 0]) if watched is not None and len(rows) else None
            _readings(cells, session, driven)
            top, heaters = len(session.document.machine.sensors) + 2, list(session.document.machine.heaters)
            if height - top < GRAPH_ROWS:
                return cells.text()
            across = max(1, min(len(heaters), width // GRAPH_COLUMNS))
            down = -(-len(heaters) // across)
            size = (width // across - 2, max(GRAPH_ROWS, (height - top) // down))
            for number in range(len(heaters)):
                place = (number % across * (width // across), top + number // across * size[1])
                _pulse(cells, place, size, session, number, (rows[rows[:, 0] == number], number == driven), aim)
            return cells.text()

        return draw


def _readings(cells: Cells, session: Session, driven: int | None) -> None:
    """A line a sensor: what it reads now, and whose it is."""
    connection, machine = session.connection, session.document.machine
    heaters = list(machine.heaters)
    cells.put(0, 0, f"{'sensor':<{NAME_COLUMNS}}{'now':>{NOW_COLUMNS}}   belongs to", Ink.dim)
    for row, name in enumerate(machine.sensors, start=1):
        celsius = connection.channel(f"sensors.{name}")
        owner = next((heater for heater, part in machine.heaters.items() if part.sensor == name), "")
        hot = driven is not None and owner == heaters[driven]
        cells.put(0, row, name, f"bold {Ink.text}")
        now = f"{celsius:.1f} °C" if celsius is not None else "✗ none"
        cells.put(NAME_COLUMNS, row, f"{now:>{NOW_COLUMNS}}", f"bold {Ink.focus}")
        cells.put(NAME_COLUMNS + NOW_COLUMNS + 3, row, owner or "–", f"bold {Ink.focus}" if hot else Ink.dim)
        if hot:
            duty = connection.channel(f"heaters.{owner}.duty") or 0.0
            words = f"◆ at {100 * duty:.0f} %" if duty else "○ off again"
            cells.put(NAME_COLUMNS + NOW_COLUMNS + 3 + len(owner) + 2, row, words, Ink.focus if duty else Ink.dim)


def _pulse(
    cells: Cells,
    place: tuple[int, int],
    size: tuple[int, int],
    session: Session,
    number: int,
    pulsed: tuple[NDArray[np.float64], bool],
    aim: PairingParameters,
) -> None:
    """How sensors rose while one heater was driven: its own in the ink that stands out."""
    machine, (left, top), (rows, runs) = session.document.machine, place, pulsed
    heater, sensors = list(machine.heaters)[number], list(machine.sensors)
    most_s = max(SHORTEST_S, float(rows[:, 1].max())) if len(rows) else aim.longest_s
    up = (
        min(0.0, float(rows[:, 3].min())) if len(rows) else 0.0,
        max(FELT_C, float(rows[:, 3].max(initial=0.0))) * 1.1,
    )
    title = f"driving the {heater}, sensors rise by °C"
    drawn = graph(cells, left, top, size, (0.0, most_s), up, (title, "s"))
    cells.put(left, top, title, f"bold {Ink.focus}" if runs else Ink.text if len(rows) else Ink.dim)
    if not len(rows):
        lines = (f"{100 * aim.duty:.0f} % until one rose by {FELT_C:g} °C,", f"never over {HIGHEST_C:g} °C more")
        for row, words in enumerate(lines):
            cells.put(drawn.left + 2, drawn.top + drawn.height // 4 + row, words, Ink.quiet)
        return
    own = machine.heaters[heater].sensor
    ends: list[tuple[float, str, str]] = []
    for at, name in enumerate(sensors):
        mine = rows[rows[:, 2] == at]
        ink = Ink.focus if name == own else INKS[min(at, len(INKS) - 1)]
        drawn.line(mine[:, 1].tolist(), mine[:, 3].tolist(), ink)
        ends.append((float(mine[-1, 3]), f"{name} {mine[-1, 3]:+.1f}", f"bold {ink}" if name == own else ink))
    _labels(cells, drawn.left + 2, drawn.top, ends)


def _labels(cells: Cells, column: int, top: int, ends: Sequence[tuple[float, str, str]]) -> None:
    """What stands for which line, the one that rose most first."""
    for row, (_, words, ink) in enumerate(sorted(ends, reverse=True)):
        cells.put(column, top + row, words[:LABEL_COLUMNS], ink)
