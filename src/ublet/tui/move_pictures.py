"""Pictures of the leg Move: ends and their spread, directions, measured lengths, what an axis stands."""

from __future__ import annotations

from rich.text import Text

from ublet.session.session import Session
from ublet.tui.pictures import put
from ublet.tui.theme import Palette
from ublet.tui.watch import TrialWatch


def homing_picture(session: Session, watched: TrialWatch | None, width: int, height: int, palette: Palette) -> Text:
    """Each axis to scale: its travel, the end it homes to, where it stands; and how far off each repeat found it."""
    connection, machine, text = session.connection, session.document.machine, Text(no_wrap=True)
    phase = watched.latest.phase if watched is not None and watched.latest is not None else ""
    series = watched.series("shifts") if watched is not None else None
    columns = max(20, width - 46)
    longest = max(a.maximum_mm - a.minimum_mm for a in (machine.axes.x, machine.axes.y, machine.axes.z))
    text.append(f"{'axis':<6}{'order':<7}{'end':<8}{'stands at':>12}   travel, to scale\n", palette.dim)
    for number, name in enumerate(("x", "y", "z")):
        axis = getattr(machine.axes, name)
        here = connection.channel(f"axes.{name}.mm")
        now = phase == f"axis {name.upper()}"
        text.append(f"\n{name.upper():<6}", f"bold {palette.focus}" if now else f"bold {palette.text}")
        text.append(f"{axis.homing.order:<7}{axis.homing.end:<8}", palette.dim)
        shown = f"{round(here, 2) + 0.0:.2f} mm" if here is not None else "not homed"
        text.append(f"{shown:>12}   ", f"bold {palette.focus}" if here is not None else palette.dim)
        length = max(4, round(columns * (axis.maximum_mm - axis.minimum_mm) / longest))
        track = ["─"] * length
        track[-1 if axis.homing.end == "high" else 0] = "┫" if axis.homing.end == "high" else "┣"
        line = Text("".join(track), palette.faint)
        if here is not None:
            share = (here - axis.minimum_mm) / (axis.maximum_mm - axis.minimum_mm)
            line = put(line, round(min(1.0, max(0.0, share)) * (length - 1)), "●", palette.focus)
        text.append_text(line)
        text.append("\n")
        if series is not None:
            shifts = [row[1] for row in series.rows.tolist() if round(row[0]) == number]
            words = "   ".join(f"{1000 * shift:+.0f}" for shift in shifts)
            text.append(f"{'':<33}   repeats, µm: {words}\n" if words else "\n", palette.dim)
        else:
            text.append("\n")
    return text


def directions_picture(session: Session, watched: TrialWatch | None, width: int, height: int, palette: Palette) -> Text:
    """The bed from above and the machine from the side, to scale, with the way that is positive on each axis."""
    machine = session.document.machine
    phase = watched.latest.phase if watched is not None and watched.latest is not None else ""
    told = phase[-1:].lower() if phase.startswith("axis ") else ""
    rows = max(7, min(height - 3, 22))
    bed, tall = machine.bed, machine.axes.z.maximum_mm
    scale = max(bed.depth_mm, tall) / (rows - 2)
    wide = max(12, min(width // 2 - 6, round(2.1 * bed.width_mm / scale)))
    deep, high = max(5, round(bed.depth_mm / scale)), max(5, round(tall / scale))
    above = _above(wide, deep, told, palette)
    side = _side(max(8, wide * 2 // 3), high, told, palette)
    lines = []
    for number in range(max(len(above), len(side))):
        left = above[number] if number < len(above) else Text()
        left.pad_right(max(0, wide + 10 - len(left)))
        right = side[number] if number < len(side) else Text()
        lines.append(left + right)
    head = Text(f"{'seen from above':<{wide + 10}}seen from the front\n", palette.dim)
    return head + Text("\n").join(lines)


def _above(wide: int, deep: int, told: str, palette: Palette) -> list[Text]:
    """The bed, front at the bottom, with the positive ways of X and Y."""
    grid = [[" "] * (wide + 2) for _ in range(deep + 2)]
    for column in range(wide + 2):
        grid[0][column] = grid[-1][column] = "─"
    for row in range(deep + 2):
        grid[row][0] = grid[row][-1] = "│"
    grid[0][0], grid[0][-1], grid[-1][0], grid[-1][-1] = "╭", "╮", "╰", "╯"
    centre, middle = (wide + 2) // 2, (deep + 2) // 2
    lines = ["".join(row) for row in grid]
    drawn = [Text(line, palette.faint) for line in lines]
    for row in range(2, middle):
        drawn[row] = put(drawn[row], centre, "▲" if row == 2 else "│", palette.focus if told == "y" else palette.dim)
    drawn[1] = put(drawn[1], centre - 3, "+Y back", palette.focus if told == "y" else palette.dim)
    arrow = "─" * max(1, wide - centre - 9) + "▶ +X right"
    drawn[middle] = put(
        drawn[middle], centre + 1, arrow[-(wide - centre) :], palette.focus if told == "x" else palette.dim
    )
    drawn[middle] = put(drawn[middle], centre, "◎", palette.text)
    drawn[-2] = put(drawn[-2], centre - 2, "front", palette.quiet)
    return drawn


def _side(wide: int, high: int, told: str, palette: Palette) -> list[Text]:
    """Nozzle over bed; the gap between them opens upwards."""
    style = palette.focus if told == "z" else palette.dim
    lines = [Text(" " * (wide + 14)) for _ in range(high + 1)]
    lines[0] = put(lines[0], wide // 2 - 1, "▔▼▔", palette.text)
    lines[0] = put(lines[0], wide // 2 + 4, "nozzle", palette.quiet)
    for row in range(2, high):
        lines[row] = put(lines[row], wide // 2, "▲" if row == 2 else "│", style)
    lines[min(3, high - 1)] = put(lines[min(3, high - 1)], wide // 2 + 3, "+Z opens the gap", style)
    lines[high] = Text("═" * wide, palette.faint)
    lines[high].append("  bed", palette.quiet)
    return lines
