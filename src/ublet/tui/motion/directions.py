"""The bench of directions: the machine from above and from the front, and which way is positive."""

from __future__ import annotations

from rich.text import Text

from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture, put
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

CELL_RATIO = 2.1
"""A cell is so many times as high as it is wide."""


class DirectionsBench(TrialBench):
    """Each axis the right way."""

    kind = "directions"
    title = "Directions"
    why = "an axis that runs the wrong way never finds its end"

    def picture(self) -> Picture:
        """The machine, and what is positive."""
        return directions_picture


def directions_picture(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
    """The bed from above and the machine from the side, to scale, with the way that is positive on each axis."""
    machine = session.document.machine
    moving = watched.latest.about if watched is not None and watched.latest is not None else ""
    rows = max(7, height - 3)
    bed, tall = machine.bed, machine.axes.z.maximum_mm
    most = max(12, width // 2 - 6)
    scale = max(bed.depth_mm / (rows - 2), tall / (rows - 2), CELL_RATIO * bed.width_mm / most)  # mm a row
    wide = max(12, min(most, round(CELL_RATIO * bed.width_mm / scale)))
    deep, high = max(5, round(bed.depth_mm / scale)), max(5, round(tall / scale))
    above = _above(wide, deep, moving)
    side = _side(max(8, wide * 2 // 3), high, moving)
    lines = []
    for number in range(max(len(above), len(side))):
        left = above[number] if number < len(above) else Text()
        left.pad_right(max(0, wide + 10 - len(left)))
        right = side[number] if number < len(side) else Text()
        lines.append(left + right)
    head = Text(f"{'seen from above':<{wide + 10}}seen from the front\n\n", Ink.dim)
    return head + Text("\n").join(lines)


def _above(wide: int, deep: int, moving: str) -> list[Text]:
    """The bed, front at the bottom, with the positive ways of X and Y."""
    grid = [[" "] * (wide + 2) for _ in range(deep + 2)]
    for column in range(wide + 2):
        grid[0][column] = grid[-1][column] = "─"
    for row in range(deep + 2):
        grid[row][0] = grid[row][-1] = "│"
    grid[0][0], grid[0][-1], grid[-1][0], grid[-1][-1] = "╭", "╮", "╰", "╯"
    centre, middle = (wide + 2) // 2, (deep + 2) // 2
    lines = ["".join(row) for row in grid]
    drawn = [Text(line, Ink.faint) for line in lines]
    for row in range(2, middle):
        drawn[row] = put(drawn[row], centre, "▲" if row == 2 else "│", Ink.focus if moving == "y" else Ink.dim)
    drawn[1] = put(drawn[1], centre - 3, "+Y back", Ink.focus if moving == "y" else Ink.dim)
    arrow = "─" * max(1, wide - centre - 9) + "▶ +X right"
    drawn[middle] = put(drawn[middle], centre + 1, arrow[-(wide - centre) :], Ink.focus if moving == "x" else Ink.dim)
    drawn[middle] = put(drawn[middle], centre, "◎", Ink.text)
    drawn[-2] = put(drawn[-2], centre - 2, "front", Ink.quiet)
    return drawn


def _side(wide: int, high: int, moving: str) -> list[Text]:
    """Nozzle over bed; the gap between them opens upwards."""
    style = Ink.focus if moving == "z" else Ink.dim
    lines = [Text(" " * (wide + 14)) for _ in range(high + 1)]
    lines[0] = put(lines[0], wide // 2 - 1, "▔▼▔", Ink.text)
    lines[0] = put(lines[0], wide // 2 + 4, "nozzle", Ink.quiet)
    for row in range(2, high):
        lines[row] = put(lines[row], wide // 2, "▲" if row == 2 else "│", style)
    lines[min(3, high - 1)] = put(lines[min(3, high - 1)], wide // 2 + 3, "+Z opens the gap", style)
    lines[high] = Text("═" * wide, Ink.faint)
    lines[high].append("  bed", Ink.quiet)
    return lines
