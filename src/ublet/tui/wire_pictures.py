"""Pictures of the leg Wire: levels of inputs over the last half minute, sensors that warm, fans that turn."""

from __future__ import annotations

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
    rows = series.rows.tolist()[-len(machine.sensors) :] if series is not None else []
    sensors = list(machine.sensors)
    risen = {sensors[int(sensor)]: rise for _, _, sensor, rise in rows}
    driven = list(machine.heaters)[int(rows[-1][0])] if rows else ""
    columns = max(10, width - NAME_COLUMNS - 34)
    text.append(f"{'sensor':<{NAME_COLUMNS}}{'now':>9}{'rise':>10}   belongs to\n", palette.dim)
    for name in machine.sensors:
        owner = next((heater for heater, part in machine.heaters.items() if part.sensor == name), "")
        celsius = connection.channel(f"sensors.{name}")
        rise = risen.get(name)
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
