"""Contradictions between the parts of a machine: sockets, references, ends, reach, limits, rates, room."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

from ublet.core.machine.boards import Boards
from ublet.core.machine.checked import CheckContext
from ublet.core.machine.cross_heat import (
    display_checked,
    heaters_checked,
    materials_checked,
    sensors_checked,
    supply_checked,
)
from ublet.core.machine.image import module_plan
from ublet.core.machine.level_parts import rim_out_of_reach
from ublet.core.machine.problem import KeyLines, Problem, nearest
from ublet.core.machine.schema import SETTINGS, Axis, MachineFile
from ublet.core.motion.geometry import axis_steps_per_mm
from ublet.core.settings import flatten
from ublet.core.units import show

GEOMETRY_FRACTION = 0.02
"""Measured steps further than this from the geometry are more than a measurement corrects."""


def cross_check(machine: MachineFile, lines: KeyLines, boards: Boards) -> list[Problem]:
    """Every contradiction between parts, unsorted."""
    checked = CheckContext(machine, lines, boards.get(machine.board.model), flatten(machine.model_dump()))
    problems: list[Problem] = []
    if checked.board is None:
        near = nearest(machine.board.model, list(boards))
        mend = f"Did you mean “{near[0]}”?" if near else "Write one of the known boards, or describe yours in a file."
        left_out = getattr(boards, "broken", {}).values()  # perhaps it is in a file that cannot be used
        mend = " ".join([mend, *(f"Left out: {words}" for words in left_out)])
        problems.append(
            checked.problem("board.model", repr(machine.board.model), ", ".join(sorted(boards)) or "none known", mend)
        )
    for check in CHECKS:
        problems += check(checked)
    return problems


def _sockets(c: CheckContext) -> Iterator[Problem]:
    """Every socket exists on the board, is of the right kind, and serves one part."""
    taken: dict[str, str] = {}
    for path, value in c.values.items():
        declared = SETTINGS.find(path)
        if declared is None or not declared.socket or not isinstance(value, str):
            continue
        if c.board is not None and value not in c.board.of_kind(declared.socket):
            known = ", ".join(c.board.of_kind(declared.socket)) or f"none: it has no {declared.socket} sockets"
            yield c.problem(
                path,
                repr(value),
                f"{known} ({declared.socket} sockets of {c.board.name})",
                "Name the socket as it is printed on the board.",
            )
        if value in taken:
            other = taken[value]
            yield c.problem(
                path,
                f"{value!r}, which {other} (line {c.line(other)}) uses too",
                "a socket of its own",
                "Two parts cannot share a socket; move one of them.",
            )
        taken.setdefault(value, path)


def _references(c: CheckContext) -> Iterator[Problem]:
    """Every name of another part is declared; sensors and endstops serve one part."""
    users: dict[tuple[str, str], str] = {}
    for path, value in c.values.items():
        declared = SETTINGS.find(path)
        if declared is None or not declared.part or not isinstance(value, str):
            continue
        named = getattr(c.machine, declared.part)
        if value not in named:
            known = ", ".join(named) or "none declared"
            yield c.problem(
                path,
                repr(value),
                f"a declared {declared.part.removesuffix('s')} ({known})",
                f"Declare [{declared.part}.{value}], or name another.",
            )
        elif declared.part in ("sensors", "endstops"):
            other = users.setdefault((declared.part, value), path)
            if other != path:
                yield c.problem(
                    path,
                    f"{value!r}, which {other} (line {c.line(other)}) uses",
                    f"a{'n' if declared.part[0] in 'aeiou' else ''} {declared.part.removesuffix('s')} of its own",
                    "Each needs its own; declare another one.",
                )


def _drivers(c: CheckContext) -> Iterator[Problem]:
    """A driver that never leaves its quiet mode never gives its full force."""
    for name, axis in c.axes():
        for motor, part in axis.motors.items():
            if part.quiet_to_mm_s > axis.maximum_feed_mm_s:
                path = f"axes.{name}.motors.{motor}.quiet_to_mm_s"
                yield c.problem(
                    path,
                    f"{part.quiet_to_mm_s:g} mm/s, above the largest feed of {axis.maximum_feed_mm_s:g}",
                    f"up to {axis.maximum_feed_mm_s:g} mm/s",
                    "It would always run quietly, with less force: lower it, or find the limits again (speed limits).",
                    "warning",
                )


def _axes(c: CheckContext) -> Iterator[Problem]:
    """Travel, motors, steps and step rate of each axis."""
    for name, axis in c.axes():
        root = f"axes.{name}"
        if axis.maximum_mm <= axis.minimum_mm:
            yield c.problem(
                f"{root}.maximum_mm",
                f"{axis.maximum_mm:g} mm, with minimum_mm = {axis.minimum_mm:g} (line {c.line(f'{root}.minimum_mm')})",
                f"more than {axis.minimum_mm:g} mm",
                "The highest position must lie above the lowest.",
            )
        most = c.machine.machine.layout.most_motors(name)
        if not 1 <= len(axis.motors) <= most:
            yield c.problem(
                f"{root}.motors",
                f"{len(axis.motors)} motors",
                f"1 to {most}" if most > 1 else f"1 on a {c.machine.machine.kinematics} machine",
                f"Declare [{root}.motors.NAME] for each motor.",
            )
            continue
        steps = {motor: axis_steps_per_mm(axis, part) for motor, part in axis.motors.items()}
        first = next(iter(steps))
        for motor, value in steps.items():
            if abs(value / steps[first] - 1) > 1e-9:
                other = f"{root}.motors.{first}"
                yield c.problem(
                    f"{root}.motors.{motor}.microsteps",
                    f"{show(value, 'steps/mm')} by its geometry",
                    f"{show(steps[first], 'steps/mm')} as {other} (line {c.line(other)})",
                    "The motors of one axis must make the same steps: mend microsteps or step angle.",
                )
        if axis.steps_per_mm is not None and abs(axis.steps_per_mm / steps[first] - 1) > GEOMETRY_FRACTION:
            yield c.problem(
                f"{root}.steps_per_mm",
                f"{show(axis.steps_per_mm, 'steps/mm')}, {100 * (axis.steps_per_mm / steps[first] - 1):+.0f} % off",
                f"near {show(steps[first], 'steps/mm')}, which the geometry gives",
                "Check pitch, teeth, lead and microsteps; a measurement corrects less than that.",
                "warning",
            )
        rate = axis.maximum_feed_mm_s * (axis.steps_per_mm or steps[first])
        if c.board and rate > c.board.steps_per_s:
            fits = c.board.steps_per_s / (axis.steps_per_mm or steps[first])
            yield c.problem(
                f"{root}.maximum_feed_mm_s",
                f"{axis.maximum_feed_mm_s:g} mm/s, {rate:,.0f} steps/s",
                f"at most {show(fits, 'mm/s', 3)}: {c.board.name} makes {c.board.steps_per_s:,.0f} steps/s",
                "Lower the feed rate or the microsteps.",
            )
    if shared := c.machine.machine.layout.shared:
        axes = dict(c.axes())
        across, along = (
            axis_steps_per_mm(axis, next(iter(axis.motors.values()))) if axis.motors else 0.0
            for axis in (axes[name] for name in shared)
        )
        if across and along and abs(across / along - 1) > GEOMETRY_FRACTION:
            x, y = (name.upper() for name in shared)
            yield c.problem(
                f"axes.{shared[1]}.drive",
                f"{show(along, 'steps/mm')} for {y}, {show(across, 'steps/mm')} for {x}",
                "the same for both: both motors move both axes",
                "Mend pitch, teeth or microsteps.",
            )


def _own_endstops(c: CheckContext, name: str, axis: Axis) -> Iterator[Problem]:
    """Endstops of single motors: only lifts have them, all of them or none, and the axis none besides."""
    own = [motor for motor, part in axis.motors.items() if part.endstop is not None]
    if not own:
        return
    root = f"axes.{name}.motors"
    if name != "z" or len(axis.motors) < 2:
        mend = "Name it at the axis's homing instead."
        yield c.problem(f"{root}.{own[0]}.endstop", "an endstop of its own", "none: only lifts of Z have one", mend)
    elif len(own) < len(axis.motors):
        missing = next(motor for motor in axis.motors if motor not in own)
        yield c.problem(
            f"{root}.{missing}.endstop",
            "nothing",
            "one of its own, as the others have",
            "Declare it, or remove theirs.",
        )
    elif axis.homing.endstop is not None or axis.homing.end == "probe":
        yield c.problem(
            f"axes.{name}.homing.endstop",
            "another end besides those of the lifts",
            "none, and end = low or high",
            "Leave it out: each lift goes to its own.",
        )


def _homing(c: CheckContext) -> Iterator[Problem]:
    """Each axis homes to an end that has an endstop, in an order that works."""
    for name, axis in c.axes():
        root, homing = f"axes.{name}.homing", axis.homing
        if homing.end == "probe":
            if name != "z":
                yield c.problem(f"{root}.end", "'probe'", "low or high", "Only Z homes with the probe.")
            elif c.machine.probe is None or c.machine.probe.kind == "nozzle":
                yield c.problem(
                    f"{root}.end",
                    "'probe'",
                    "a declared [probe] that senses by itself",
                    "Declare it, or home to an end.",
                )
            elif homing.order <= max(c.machine.axes.x.homing.order, c.machine.axes.y.homing.order):
                yield c.problem(
                    f"{root}.order",
                    f"{homing.order}",
                    "after X and Y",
                    "The probe must stand over the bed before Z homes.",
                )
        elif not axis.has_end:
            yield c.problem(
                f"{root}.endstop", "nothing", f"the endstop at its {homing.end} end", "Declare one and name it here."
            )
        yield from _own_endstops(c, name, axis)
        if homing.slow_mm_s > homing.fast_mm_s:
            yield c.problem(
                f"{root}.slow_mm_s",
                f"{homing.slow_mm_s:g} mm/s",
                f"at most fast_mm_s = {homing.fast_mm_s:g} (line {c.line(f'{root}.fast_mm_s')})",
                "The second approach is the slower one.",
            )
        if homing.fast_mm_s > axis.maximum_feed_mm_s:
            yield c.problem(
                f"{root}.fast_mm_s",
                f"{homing.fast_mm_s:g} mm/s",
                f"at most the axis's feed rate, {axis.maximum_feed_mm_s:g} mm/s",
                "The feed rate would cap it silently: lower it.",
                "warning",
            )
    bed, homing = c.machine.bed, c.machine.axes.z.homing
    for key, size in (("over_x_mm", bed.width_mm), ("over_y_mm", bed.depth_mm)):
        value = getattr(homing, key)
        if value is not None and homing.end == "probe" and not 0 <= value <= size:
            yield c.problem(
                f"axes.z.homing.{key}", f"{value:g} mm", f"0 to {size:g} mm, over the bed", "Home Z over the bed."
            )


def _motors(c: CheckContext) -> Iterator[Problem]:
    """Driver currents that the sockets stand."""
    motors = [(f"axes.{name}.motors.{m}", motor) for name, axis in c.axes() for m, motor in axis.motors.items()]
    if c.machine.extruder:
        motors.append(("extruder.motor", c.machine.extruder.motor))
    for root, motor in motors:
        socket = c.board.sockets.get(motor.socket) if c.board else None
        if socket and socket.largest_a and motor.run_a > socket.largest_a:
            yield c.problem(
                f"{root}.run_a",
                f"{motor.run_a:g} A",
                f"at most {socket.largest_a:g} A, what driver socket {motor.socket} stands",
                "Lower the current, or use a stronger socket.",
            )
        if motor.idle_a > motor.run_a:
            yield c.problem(
                f"{root}.idle_a",
                f"{motor.idle_a:g} A",
                f"at most run_a, {motor.run_a:g} A",
                "Lower it, or raise run_a: holding needs no more than moving.",
            )


def _fans(c: CheckContext) -> Iterator[Problem]:
    for name, fan in c.machine.fans.items():
        if fan.follows == "heater" and fan.heater is None:
            yield c.problem(
                f"fans.{name}.heater", "nothing", "the heater that it follows", "Name it, or change what it follows."
            )


def _probe(c: CheckContext) -> Iterator[Problem]:
    """The probe has what its kind needs, and reaches the mesh."""
    probe, mesh, bed = c.machine.probe, c.machine.mesh, c.machine.bed
    if probe is not None:
        wanted = {"pin": ("socket", "servo_socket"), "inductive": ("socket",), "coil": ("socket",), "nozzle": ()}[
            probe.kind
        ]
        for key in wanted:
            if getattr(probe, key) is None:
                yield c.problem(f"probe.{key}", "nothing", f"its socket: kind {probe.kind} needs one", "Add it.")
        if probe.kind == "coil" and probe.coil is None:
            yield c.problem(
                "probe.coil", "nothing", "a table [probe.coil]: kind coil needs one", "Add it, empty at first."
            )
    if probe is not None and probe.offset_from == "part":
        named = f"by the part “{probe.part.name}”" if probe.part is not None else "by a part that is not declared"
        yield c.problem(
            "probe.offset_from",
            f"{named}, not measured: right within 1 mm",
            "measured",
            "Station probe place measures it; keep 1 mm more of the mesh's margin until then.",
            "warning",
        )
    if mesh is None:
        return
    offsets = (probe.offset_x_mm, probe.offset_y_mm) if probe and probe.kind != "nozzle" else (0.0, 0.0)
    for (name, axis), size, offset in zip(c.axes(), (bed.width_mm, bed.depth_mm), offsets, strict=False):
        low, high = mesh.margin_mm, size - mesh.margin_mm
        reach_low, reach_high = axis.minimum_mm + offset, axis.maximum_mm + offset
        if low >= high:
            yield c.problem("mesh.margin_mm", f"{low:g} mm", f"less than half of {size:g} mm", "Make it smaller.")
        elif low < reach_low - 1e-9 or high > reach_high + 1e-9:
            need = rim_out_of_reach(reach_low, reach_high, size)
            yield c.problem(
                "mesh.margin_mm",
                f"{low:g} mm: points from {low:g} to {high:g} mm along {name.upper()}",
                f"{reach_low:g} to {reach_high:g} mm, what the probe reaches (travel shifted by {offset:g})",
                f"Make the margin at least {need:g} mm, or correct travel or offset.",
            )


def _lifts(c: CheckContext) -> Iterator[Problem]:
    motors = c.machine.axes.z.motors
    if c.machine.lifts is None:
        return
    if len(motors) < 2:
        yield c.problem("lifts", "one Z motor", "two to four", "Levelling by lifts needs more motors: remove [lifts].")
    for name, motor in motors.items():
        if len(motors) > 1 and (motor.pivot_x_mm is None or motor.pivot_y_mm is None):
            yield c.problem(
                f"axes.z.motors.{name}.pivot_x_mm",
                "no pivot",
                "pivot_x_mm and pivot_y_mm of every lift, since [lifts] is declared",
                "Measure where this lift carries the bed.",
            )


def _room(c: CheckContext) -> Iterator[Problem]:
    """Whether the image fits, and what would free enough."""
    if c.board is None:
        return
    plan = module_plan(c.machine, c.board)
    for name in plan.unknown:
        yield c.problem("modules", f"module {name}", "the modules made for this board", "Leave out what needs it.")
    if plan.overflow_bytes and not plan.unknown:
        directions = plan.would_free(2)
        words = " or ".join(", ".join(module.name for module in direction) for direction in directions)
        yield c.problem(
            "board.model",
            f"an image of {plan.used_bytes:,} bytes",
            f"{plan.slot_bytes:,} bytes, a slot of {c.board.name}; it overflows by {plan.overflow_bytes:,}",
            f"Leave out {words}."
            if words
            else "Even without every optional module it does not fit: use a larger board.",
        )


LONGEST_SEQUENCE_S = 0.5
"""What a board spreads motion over, s."""

OVER_MM = 1.0
"""A mesh may reach so far over the bed's rim, mm."""


def _arrays(c: CheckContext) -> Iterator[Problem]:
    """Arrays agree with what is declared beside them."""
    mesh = c.machine.mesh
    if mesh is not None and mesh.heights_mm:
        bed = c.machine.bed
        ends = (("X", mesh.from_x_mm, mesh.to_x_mm, bed.width_mm), ("Y", mesh.from_y_mm, mesh.to_y_mm, bed.depth_mm))
        for axis, low, high, size in ends:
            if low == high == 0:
                continue  # heights without their places: nothing follows them
            if not -OVER_MM <= low < high <= size + OVER_MM:
                yield c.problem(
                    f"mesh.to_{axis.lower()}_mm",
                    f"a mesh from {axis} {low:g} to {high:g} mm",
                    f"within the bed, 0 to {size:g} mm, the end after the beginning",
                    "It is of another bed: measure the mesh again, or leave the heights out.",
                )
    for name in ("x", "y", "z"):
        train = getattr(c.machine.axes, name).shaper.train
        if not train:
            continue
        path = f"axes.{name}.shaper.train"
        times, fractions = zip(*train, strict=True) if len(train[0]) == 2 else ((), ())
        if not times:
            yield c.problem(path, f"{len(train[0])} numbers an impulse", "2: time and share", "Leave it out.")
        elif times[0] != 0 or any(b <= a for a, b in pairwise(times)):
            yield c.problem(path, "times that do not rise from 0", "0, then each later than the last", "Leave it out.")
        elif abs(sum(fractions) - 1) > 1e-6:
            yield c.problem(path, f"shares that sum to {sum(fractions):.6g}", "a sum of 1", "Leave it out.")
        elif times[-1] >= LONGEST_SEQUENCE_S:
            yield c.problem(
                path, f"a train of {times[-1]:g} s", f"shorter than {LONGEST_SEQUENCE_S:g} s", "Leave it out."
            )


CHECKS = (
    _sockets,
    _references,
    sensors_checked,
    heaters_checked,
    supply_checked,
    materials_checked,
    display_checked,
    _axes,
    _drivers,
    _homing,
    _motors,
    _fans,
    _probe,
    _lifts,
    _room,
    _arrays,
)
"""All checks between parts."""
