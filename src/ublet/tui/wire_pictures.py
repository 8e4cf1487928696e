"""Pictures of the leg Wire: levels of inputs over the last half minute, sensors that warm, fans that turn."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from rich.text import Text

from ublet.core.motion.inputs import input_words
from ublet.core.motion.motor_trials import motor_roots, motor_words
from ublet.core.motion.trials import declared_inputs
from ublet.session.session import Session
from ublet.tui.theme import Palette
from ublet.tui.watch import TrialWatch

HALF_MINUTE_S = 30.0
NAME_COLUMNS = 18
BARS = " ▏▎▍▌▋▊▉█"
FULL_BAR_C = 12.0

Picture = Callable[[Session, TrialWatch | None, int, int, Palette], Text]


def inputs_picture(session: Session, watched: TrialWatch | None, width: int, height: int, palette: Palette) -> Text:
    """A level trace for each input, the newest at the right: raised where it was triggered."""
    connection, text = session.connection, Text(no_wrap=True)
    about, samples = connection.about, list(connection.samples)
    names = declared_inputs(session.document.machine)
    columns = max(10, width - NAME_COLUMNS - 30)
    per_column = HALF_MINUTE_S / columns
    now = connection.board_time
    roomy = height >= 3 * len(names) + 2
    text.append(f"{'input':<{NAME_COLUMNS}}{'now':<12}{'edges':>6}   ", palette.dim)
    text.append("the last half minute: ▇ triggered, ▁ free\n", palette.dim)
    for name in names:
        text.append("\n" if roomy else "")
        channel = f"inputs.{name}"
        if about is None or channel not in about.channels or not samples:
            text.append(f"{input_words(name):<{NAME_COLUMNS}}not reported by the board\n", palette.dim)
            continue
        at = 2 + about.channels.index(channel)
        level, edges = connection.channel(channel), connection.channel(f"edges.{name}")
        socket = session.live(f"{name}.socket")
        text.append(f"{input_words(name):<{NAME_COLUMNS}}", palette.text)
        text.append(f"{'▇ triggered' if level else '▁ free':<12}", f"bold {palette.focus}" if level else palette.dim)
        text.append(f"{int(edges or 0):>6}   ", palette.text)
        trace: list[bool | None] = [None] * columns
        for sample in samples:
            column = columns - 1 - int((now - (sample[1] or 0.0)) / per_column)
            if 0 <= column < columns:
                trace[column] = bool(sample[at]) or bool(trace[column])
        for state in trace:
            mark = " " if state is None else "▇" if state else "▁"
            text.append(mark, palette.focus if state else palette.faint)
        text.append(f"  {socket}", palette.dim)
        text.append("\n")
    return text


def pairing_picture(session: Session, watched: TrialWatch | None, width: int, height: int, palette: Palette) -> Text:
    """For the pulse that runs: how far each sensor has risen; the driven heater is marked."""
    connection, machine, text = session.connection, session.document.machine, Text(no_wrap=True)
    series = watched.series("rises") if watched is not None else None
    latest: Mapping[str, float] = (
        dict(zip(series.columns, series.rows[-1].tolist(), strict=True)) if series is not None else {}
    )
    driven = list(machine.heaters)[int(latest["heater"])] if "heater" in latest else ""
    columns = max(10, width - NAME_COLUMNS - 34)
    text.append(f"{'sensor':<{NAME_COLUMNS}}{'now':>9}{'rise':>10}   belongs to\n", palette.dim)
    for name in machine.sensors:
        owner = next((heater for heater, part in machine.heaters.items() if part.sensor == name), "")
        celsius = connection.channel(f"sensors.{name}")
        rise = latest.get(f"{name}_c")
        text.append(f"\n{name:<{NAME_COLUMNS}}", palette.text)
        text.append(f"{f'{celsius:.1f} °C' if celsius is not None else '✗ none':>9}", f"bold {palette.focus}")
        text.append(f"{f'{rise:+.1f} °C' if rise is not None else '':>10}   ", palette.text)
        text.append(f"{owner:<10}", f"bold {palette.focus}" if owner and owner == driven else palette.dim)
        length = max(0.0, min(1.0, (rise or 0.0) / FULL_BAR_C)) * (columns - 12)
        text.append("█" * int(length) + BARS[int(8 * (length % 1))], palette.focus)
        text.append("\n")
    if driven:
        duty = connection.channel(f"heaters.{driven}.duty") or 0.0
        text.append(f"\n◆ the {driven} heats at {100 * duty:.0f} %", palette.focus)
    return text


def fans_picture(session: Session, watched: TrialWatch | None, width: int, height: int, palette: Palette) -> Text:
    """Each fan: its socket, what it follows, what it is told now."""
    connection, machine, text = session.connection, session.document.machine, Text(no_wrap=True)
    columns = max(10, min(40, width - NAME_COLUMNS - 40))
    text.append(f"{'fan':<{NAME_COLUMNS}}{'socket':<8}{'follows':<22}{'told':>6}\n", palette.dim)
    for name, fan in machine.fans.items():
        duty = connection.channel(f"fans.{name}") or 0.0
        follows = f"heater {fan.heater} above {fan.above_c:g}" if fan.follows == "heater" else fan.follows
        text.append(f"\n{name:<{NAME_COLUMNS}}", f"bold {palette.focus}" if duty else palette.text)
        text.append(f"{session.live(f'fans.{name}.socket') or fan.socket!s:<8}{follows:<22}", palette.dim)
        text.append(f"{100 * duty:>4.0f} %  ", f"bold {palette.focus}" if duty else palette.dim)
        text.append("█" * round(columns * duty), palette.focus)
        text.append("░" * (columns - round(columns * duty)), palette.faint)
        text.append("\n")
    return text


def motors_picture(session: Session, watched: TrialWatch | None, width: int, height: int, palette: Palette) -> Text:
    """Each motor: its socket, current and microsteps; the one that is told to turn stands out."""
    connection, text = session.connection, Text(no_wrap=True)
    told = watched.latest.phase if watched is not None and watched.latest is not None else ""
    moving = bool(connection.channel("motion.moving"))
    text.append(
        f"{'motor':<{NAME_COLUMNS}}{'socket':<8}{'current':>9}{'microsteps':>12}{'reversed':>10}\n", palette.dim
    )
    roots = motor_roots(session.document.machine)
    roomy = height >= 2 * len(roots) + 2
    for root in roots:
        name = motor_words(root)
        here = name == told
        text.append("\n" if roomy else "")
        text.append(f"{name:<{NAME_COLUMNS}}", f"bold {palette.focus}" if here else palette.text)
        amps, micro = session.live(f"{root}.run_a"), session.live(f"{root}.microsteps")
        flag = session.live(f"{root}.reversed")
        values = f"{session.live(f'{root}.socket') or '–'!s:<8}{f'{amps} A' if amps is not None else '–':>9}"
        text.append(values, palette.dim)
        text.append(f"{micro if micro is not None else '–'!s:>12}{'yes' if flag else 'no':>10}", palette.dim)
        if here:
            text.append("   ◆ turning now" if moving else "   ◆ was told to turn", f"bold {palette.focus}")
        text.append("\n")
    return text


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
            line = _put(line, round(min(1.0, max(0.0, share)) * (length - 1)), "●", palette.focus)
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
        drawn[row] = _put(drawn[row], centre, "▲" if row == 2 else "│", palette.focus if told == "y" else palette.dim)
    drawn[1] = _put(drawn[1], centre - 3, "+Y back", palette.focus if told == "y" else palette.dim)
    arrow = "─" * max(1, wide - centre - 9) + "▶ +X right"
    drawn[middle] = _put(
        drawn[middle], centre + 1, arrow[-(wide - centre) :], palette.focus if told == "x" else palette.dim
    )
    drawn[middle] = _put(drawn[middle], centre, "◎", palette.text)
    drawn[-2] = _put(drawn[-2], centre - 2, "front", palette.quiet)
    return drawn


def _side(wide: int, high: int, told: str, palette: Palette) -> list[Text]:
    """Nozzle over bed; the gap between them opens upwards."""
    style = palette.focus if told == "z" else palette.dim
    lines = [Text(" " * (wide + 14)) for _ in range(high + 1)]
    lines[0] = _put(lines[0], wide // 2 - 1, "▔▼▔", palette.text)
    lines[0] = _put(lines[0], wide // 2 + 4, "nozzle", palette.quiet)
    for row in range(2, high):
        lines[row] = _put(lines[row], wide // 2, "▲" if row == 2 else "│", style)
    lines[min(3, high - 1)] = _put(lines[min(3, high - 1)], wide // 2 + 3, "+Z opens the gap", style)
    lines[high] = Text("═" * wide, palette.faint)
    lines[high].append("  bed", palette.quiet)
    return lines


def _put(line: Text, column: int, words: str, style: str) -> Text:
    """Words written over a line from a column on."""
    column = max(0, column)
    line.pad_right(max(0, column + len(words) - len(line)))
    return line[:column] + Text(words, style) + line[column + len(words) :]


PICTURES: Mapping[str, Picture] = {
    "inputs": inputs_picture,
    "pairing": pairing_picture,
    "fans": fans_picture,
    "motors": motors_picture,
    "directions": directions_picture,
    "homing": homing_picture,
}
"""The picture of each kind of bench."""
