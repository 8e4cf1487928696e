"""What a part of the machine file describes, drawn: as the file has it, and as the draft would."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial

import numpy as np
from rich.text import Text

from ublet.core.heat.curves import SensorCurve, curve_of
from ublet.core.heat.references import resolution_c
from ublet.core.level.mesh.trials import GridParameters, grid_of
from ublet.core.level.reach import reach_of, senses
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.geometry import axis_steps_per_mm, extruder_steps_per_mm, steps_per_turn
from ublet.core.run import TrialFailed
from ublet.core.settings import Value, flatten
from ublet.core.shake.frame import Mode
from ublet.core.shake.shaper_trials import modes_known
from ublet.core.shake.shapers import live_impulses, residual
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.bed_map import bed_map
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.graph import graph

LEAST_ROWS, LEAST_COLUMNS = 6, 44
FULL_SCALE = 4095
"""Counts of a usual ADC of 12 bits."""

DRAWN_C = (0.0, 300.0)
DRAWN_HZ = (10.0, 120.0)
DAMPING = 0.06
"""Damping ratio of a mode for which a shaper's curve is drawn where none was measured."""

PartDrawer = Callable[[Session, MachineFile, MachineFile, int, int], Text]
"""Draws a part of a machine: as the file has it, as the draft would, columns, rows."""


def part_picture(session: Session, path: str, width: int, height: int) -> Text:
    """The part at a path, before and after the edits of the draft; empty where there is nothing to draw, or no room."""
    before = session.document.machine
    after = session.draft.checked.machine or before
    drawer = _drawer(path, after)
    if drawer is None or height < LEAST_ROWS or width < LEAST_COLUMNS:
        return Text()
    return drawer(session, before, after, width, height)


def _drawer(path: str, machine: MachineFile) -> PartDrawer | None:
    """What draws the part at a path."""
    root, _, rest = path.partition(".")
    name = rest.partition(".")[0]
    if root == "axes" and ".shaper" in path and name in ("x", "y"):
        return partial(_shaper, name)
    if root == "axes" and name in ("x", "y", "z"):
        return partial(_axis, name)
    if root == "sensors" and name in machine.sensors:
        return partial(_sensor, name)
    if root == "heaters" and name in machine.heaters:
        return partial(_heater, name)
    if root == "extruder" and machine.extruder is not None:
        return _extruder
    if root in ("bed", "mesh", "probe", "lifts"):
        return _bed
    return None


# axes and drives


def _axis(axis: str, session: Session, before: MachineFile, after: MachineFile, width: int, height: int) -> Text:
    """Travel, end and bed to scale; the drive with the steps that its numbers make."""
    text = Text(no_wrap=True)
    text.append(f"{axis.upper()}: travel, end and bed to scale\n", Ink.dim)
    shown = _versions(before, after, getattr(before.axes, axis) == getattr(after.axes, axis))
    lows = [getattr(machine.axes, axis).minimum_mm for _, machine, _ in shown]
    highs = [getattr(machine.axes, axis).maximum_mm for _, machine, _ in shown]
    bed = {"x": after.bed.width_mm, "y": after.bed.depth_mm, "z": 0.0}[axis]
    low, high = min(*lows, 0.0), max(*highs, bed)
    columns = min(width - 30, 100)

    def at(mm: float) -> int:
        return round((mm - low) / (high - low) * (columns - 1))

    for words, machine, ink in shown:
        part = getattr(machine.axes, axis)
        row = [" "] * columns
        for column in range(at(part.minimum_mm), at(part.maximum_mm) + 1):
            row[column] = "─"
        row[at(part.minimum_mm)], row[at(part.maximum_mm)] = "├", "┤"
        end = part.homing.end
        if end != "probe":
            row[at(part.maximum_mm if end == "high" else part.minimum_mm)] = "◆"
        text.append(f"{words:<8}", Ink.dim)
        text.append("".join(row), ink)
        text.append(f"  {part.minimum_mm:g} to {part.maximum_mm:g} mm\n", ink)
    if bed:
        text.append(f"{'bed':<8}{' ' * at(0.0)}", Ink.dim)
        text.append("━" * max(1, at(bed) - at(0.0) + 1), Ink.proposal)
        text.append(f"  0 to {bed:g} mm\n", Ink.dim)
    by_probe = getattr(after.axes, axis).homing.end == "probe"
    text.append("it homes by its probe\n" if by_probe else "◆ where it homes\n", Ink.dim)
    for words, machine, ink in shown:
        text.append_text(_drive(axis, machine, words, ink))
    return text


def _versions(before: MachineFile, after: MachineFile, same: bool) -> list[tuple[str, MachineFile, str]]:
    """The file's and the edited one, each with its word and ink; only the first where the part is the same in both."""
    if same:
        return [("", before, f"bold {Ink.text}")]
    return [("file", before, Ink.dim), ("edited", after, f"bold {Ink.focus}")]


def _drive(axis: str, machine: MachineFile, words: str, ink: str) -> Text:
    """The steps per mm that the drive's numbers make, and what is declared as measured."""
    part = getattr(machine.axes, axis)
    text = Text(no_wrap=True)
    if not part.motors:
        return text
    motor = next(iter(part.motors.values()))
    turn, made = steps_per_turn(motor.step_angle_deg, motor.microsteps), axis_steps_per_mm(part, motor)
    gear = f" x {part.gear_ratio:g}" if part.gear_ratio != 1 else ""
    belt = f"({part.pulley_teeth} teeth x {part.belt_pitch_mm:g} mm)"
    travel = belt if part.drive == "belt" else f"{part.screw_lead_mm:g} mm a turn"
    text.append(f"{words:<8}{part.drive}: {turn:g} steps a turn{gear} / {travel} = ", Ink.dim)
    text.append(f"{made:g} steps/mm", ink)
    if part.steps_per_mm is not None:
        off = 100 * (part.steps_per_mm / made - 1)
        text.append(f"; measured {part.steps_per_mm:g}, {off:+.2f} %", Ink.text)
    run_up = part.maximum_feed_mm_s**2 / (2 * part.acceleration_mm_s2)
    text.append(f"\n{'':<8}{part.maximum_feed_mm_s:g} mm/s are reached after {run_up:.1f} mm\n", Ink.dim)
    return text


def _extruder(session: Session, before: MachineFile, after: MachineFile, width: int, height: int) -> Text:
    """The drive with the steps that its numbers make; how far filament goes to the nozzle."""
    text = Text("the extruder's drive\n", Ink.dim, no_wrap=True)
    for words, machine, ink in _versions(before, after, before.extruder == after.extruder):
        extruder = machine.extruder
        if extruder is None:
            continue
        turn = steps_per_turn(extruder.motor.step_angle_deg, extruder.motor.microsteps)
        sum_words = f"{turn:g} steps a turn x {extruder.gear_ratio:g} / (π x {extruder.hob_mm:g} mm) = "
        text.append(f"{words:<8}{sum_words}", Ink.dim)
        text.append(f"{extruder_steps_per_mm(extruder):.2f} steps/mm", ink)
        if extruder.steps_per_mm is not None:
            off = 100 * (extruder.steps_per_mm / extruder_steps_per_mm(extruder) - 1)
            text.append(f"; measured {extruder.steps_per_mm:g}, {off:+.2f} %", Ink.text)
        tube = f"through a tube of {extruder.tube_mm:g} mm" if extruder.tube_mm else "right into the hotend"
        text.append(f"\n{'':<8}{tube}; drawn back by {extruder.retract_mm:g} mm\n", Ink.dim)
    return text


# sensors and heaters


def _curve(machine: MachineFile, name: str) -> SensorCurve | None:
    sensor = machine.sensors.get(name)
    if sensor is None:
        return None
    try:
        return curve_of(flatten(sensor.model_dump()))
    except ValueError:
        return None


def _sensor(name: str, session: Session, before: MachineFile, after: MachineFile, width: int, height: int) -> Text:
    """Resolution over temperature, and at the temperatures of the materials."""
    cells = Cells(width, height)
    curves = [
        (curve, ink)
        for curve, ink in ((_curve(before, name), Ink.dim), (_curve(after, name), f"bold {Ink.focus}"))
        if curve is not None
    ]
    if before.sensors.get(name) == after.sensors.get(name):
        curves = curves[-1:]
    if not curves:
        return Text("this curve cannot be drawn: what its kind needs is missing", Ink.stop)
    celsius = np.linspace(*DRAWN_C, 90)
    steps = [[_resolution(curve, at) for at in celsius.tolist()] for curve, _ in curves]
    most = min(2.0, max(max(row) for row in steps))
    side = max(40, width - 44)
    drawn = graph(cells, 0, 0, (side, height), DRAWN_C, (0.0, most), ("°C for one count of 12 bits", "°C"))
    for (_, ink), own in zip(curves, steps, strict=True):
        drawn.line(celsius.tolist(), np.minimum(own, most).tolist(), ink)
    cells.put(side + 2, 0, "resolution where you print", Ink.dim)
    wanted = {heater.part for heater in after.heaters.values() if heater.sensor == name}
    row = 1
    for material, values in after.materials.items():
        for part, at in (("hotend", values.nozzle_c), ("bed", values.bed_c)):
            if part in wanted and row < height:
                shown = "  ".join(f"{_resolution(curve, at):.2f}" for curve, _ in curves)
                cells.put(side + 2, row, f"{material:<10}{at:>5g} °C", Ink.text)
                cells.put(side + 21, row, f"{shown} °C", f"bold {Ink.focus}")
                row += 1
    return cells.text()


def _resolution(curve: SensorCurve, celsius: float) -> float:
    try:
        return min(9.0, resolution_c(curve, celsius, FULL_SCALE))
    except (ValueError, ZeroDivisionError, OverflowError):
        return 9.0


def _heater(name: str, session: Session, before: MachineFile, after: MachineFile, width: int, height: int) -> Text:
    """The climb that was recorded last, and the rise that the guard requires."""
    cells = Cells(width, height)
    guards = after.heaters[name].guards
    rise = f"{guards.rise_c:g} °C in {guards.rise_window_s:g} s at full power"
    drift = f"{guards.drift_c:g} °C of drift for {guards.drift_window_s:g} s"
    cells.put(0, 0, f"guards: a rise of {rise}; {drift}", Ink.text)
    trial = "bed-control" if after.heaters[name].part == "bed" else "hotend-control"
    entry = session.ledger.latest(trial, subject={"heater": name})
    series = session.ledger.streams(entry.id).get("relay") if entry is not None else None
    if series is None or "temperature_c" not in series.columns or len(series.rows) < 3:
        cells.put(0, 2, "no climb is recorded yet: tune this heater, and it is drawn here against its guard", Ink.dim)
        return cells.text()
    time_s, celsius = series.column("time_s"), series.column("temperature_c")
    top = int(np.argmax(celsius >= celsius.max() - 2)) + 1
    time_s, celsius = time_s[:top] - time_s[0], celsius[:top]
    high = float(celsius.max()) + 10
    size, across = (min(width, 110), height - 2), (0.0, max(1.0, float(time_s[-1])))
    drawn = graph(cells, 0, 2, size, across, (float(celsius[0]) - 5, high), ("°C while it heated up", "s"))
    drawn.line(time_s.tolist(), celsius.tolist(), f"bold {Ink.focus}")
    for machine, ink in ((before, Ink.dim), (after, Ink.stop)):
        rule = machine.heaters[name].guards if name in machine.heaters else guards
        needed = np.minimum(celsius[0] + rule.rise_c / rule.rise_window_s * time_s, high)
        drawn.line(time_s.tolist(), needed.tolist(), ink)
    cells.put(12, 2 + 1, "the guard trips below this slope", Ink.stop)
    return cells.text()


# bed and shaper


def _bed(session: Session, before: MachineFile, after: MachineFile, width: int, height: int) -> Text:
    """The bed from above with screws, lifts, what the probe reaches, and the points of the mesh."""
    cells = Cells(width, height)
    bed, z = after.bed, after.axes.z
    pivots = {
        name: (motor.pivot_x_mm, motor.pivot_y_mm)
        for name, motor in z.motors.items()
        if motor.pivot_x_mm is not None and motor.pivot_y_mm is not None
    }
    drawn = bed_map(cells, bed, pivots.values(), min(width - 40, 90), height)
    lines = [(f"bed {bed.width_mm:g} x {bed.depth_mm:g} mm", Ink.text)]
    if senses(after):
        try:
            reach, xs, ys = grid_of(after, GridParameters()) if after.mesh is not None else (reach_of(after), (), ())
            upper, lower = drawn.cell((reach.x[0], reach.y[1])), drawn.cell((reach.x[1], reach.y[0]))
            cells.box(upper[0], upper[1], lower[0], lower[1], Ink.quiet, "┄┆┌┐└┘")
            lines.append(("┄ what the probe reaches", Ink.dim))
            for y in ys:
                for x in xs:
                    drawn.mark((x, y), "·", f"bold {Ink.focus}")
            if xs:
                lines.append((f"· mesh of {len(xs)} x {len(ys)}", Ink.dim))
        except TrialFailed as missing:
            lines.append((f"✗ {missing}"[: max(0, width - 44)], Ink.stop))
    for screw in bed.screws.values():
        drawn.mark((screw.x_mm, screw.y_mm), "●", f"bold {Ink.proposal}")
    for place in pivots.values():
        drawn.mark(place, "▲", f"bold {Ink.good}")
    if bed.screws:
        lines.append((f"● {len(bed.screws)} screws", Ink.dim))
    if pivots:
        lines.append((f"▲ {len(pivots)} lead screws", Ink.dim))
    if before.bed != after.bed:
        lines.append((f"file: {before.bed.width_mm:g} x {before.bed.depth_mm:g} mm", Ink.quiet))
    for row, (words, ink) in enumerate(lines):
        cells.put(min(width - 40, 90) + 2, row + 1, words, ink)
    return cells.text()


def _shaper(axis: str, session: Session, before: MachineFile, after: MachineFile, width: int, height: int) -> Text:
    """What the shaper leaves of a mode at each frequency, and the modes that were found last."""
    cells = Cells(width, height)

    modes = modes_known(session.proven).get(axis, ())
    hz = np.linspace(*DRAWN_HZ, 160)
    caption = (f"residual vibration of {axis.upper()}, %", "Hz")
    drawn = graph(cells, 0, 0, (min(width - 34, 100), height), DRAWN_HZ, (0.0, 100.0), caption)
    row = 1
    left = min(width - 34, 100) + 2
    same = getattr(before.axes, axis).shaper == getattr(after.axes, axis).shaper
    for words, machine, ink in _versions(before, after, same):
        values: Mapping[str, Value] = flatten(machine.model_dump())
        impulses = live_impulses(values.get, axis)
        if impulses is None:
            cells.put(left, row, f"{words or 'as declared'}: not shaped", Ink.dim)
        else:
            percent = [100 * residual(impulses, [Mode(float(f), DAMPING, 1.0)]) for f in hz]
            drawn.line(hz.tolist(), percent, ink)
            cells.put(left, row, f"{words or 'as declared'}: {1000 * impulses.duration_s:.1f} ms long", ink)
            if modes:
                cells.put(left, row + 1, f"  leaves {100 * residual(impulses, modes):.1f} % of the frame", ink)
        row += 2
    for mode in modes:
        drawn.mark(mode.frequency_hz, 2.0, "▲", f"bold {Ink.proposal}")
    words = "▲ modes that were found last" if modes else "how it rings is not measured yet"
    cells.put(left, row + 1, words, Ink.dim)
    return cells.text()
