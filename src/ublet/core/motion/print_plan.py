"""A print of one's own, checked and timed for a machine before anything moves: layers, limits, melt, mesh, caps."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import overload

import numpy as np
from numpy.typing import NDArray

from ublet.core.arrays import Floats
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.caps import Caps
from ublet.core.motion.many_lines import corner_speeds, many_lines, seconds_of
from ublet.core.motion.print_text import LineProblem, OwnWord, PrintAction, PrintReader, PrintText
from ublet.core.motion.program import Dwell, Program, Push, Segment, Timed, Timetable, To
from ublet.core.units import show

LAYER_MM = 0.04
"""Lines that are laid higher or lower than this above a layer's first begin another layer, mm."""

LAID_MM = 0.05
"""Shorter moves than this lay no line of their own, mm."""

HOT: Mapping[str, str] = {"nozzle": "nozzle", "nozzle and wait": "nozzle", "bed": "bed", "bed and wait": "bed"}
"""The part that an action heats."""


@dataclass(frozen=True)
class PrintLayer:
    """One layer: its first move, its height, mm, and how long it takes, s."""

    first: int
    z_mm: float
    seconds: float


@dataclass(frozen=True)
class MeltLimits:
    """What a material needs and can take: °C below which it is not pushed; mm³/s that melt of it (None: not known)."""

    material: str
    least_c: float
    largest_flow_mm3_s: float | None
    nozzle_c: float


@dataclass(frozen=True)
class PrintPlan:
    """A print for a machine. problems: of reading and of checking, by line; advice: what does not keep it from being
    run. seconds and begins_s: of each move. first_c: nozzle temperature at its first line of filament by its own words,
    None: it sets none.
    """

    text: PrintText
    start_mm: tuple[float, float, float]
    seconds: Floats
    begins_s: Floats
    layers: tuple[PrintLayer, ...]
    problems: tuple[LineProblem, ...]
    advice: tuple[LineProblem, ...]
    capped: Mapping[str, int]
    filament_mm: float
    largest_flow_mm3_s: float
    span_mm: Mapping[str, tuple[float, float]] = field(default_factory=dict)

    @property
    def fits(self) -> bool:
        """Whether nothing keeps it from being run."""
        return not self.problems and len(self.text.moves) > 0

    @property
    def duration_s(self) -> float:
        """How long it takes, s; waiting for temperatures not counted."""
        return float(self.seconds.sum())

    def layer_at(self, move: int) -> int:
        """The number of the layer, from 0, that a move belongs to; -1 before the first."""
        firsts = [layer.first for layer in self.layers]
        return int(np.searchsorted(firsts, move, side="right")) - 1


def reader_for(machine: MachineFile, start: Sequence[float]) -> PrintReader:
    """A reader that knows the machine file's own words."""
    text = machine.program
    own = [OwnWord(word.begins, word.does, word.letter, word.factor) for word in text.words.values()]
    counts = {"as the axes": None, "from zero": False, "from the last": True}[text.filament_counts]
    return PrintReader(own, text.filament, text.dwell_unit_s, start, counts)


def plan_of(text: PrintText, machine: MachineFile, caps: Caps, start: Sequence[float], melt: MeltLimits) -> PrintPlan:
    """Check and time a text for a machine that stands at a place, mm, with the caps of its live settings."""
    moves = text.moves
    travel = moves.travel_mm(start)
    travel[moves.dwells] = 0.0
    lines = many_lines(travel, moves.feed_mm_s.astype(np.float64), caps)
    seconds = seconds_of(lines, corner_speeds(lines, caps)) if len(moves) else np.zeros(0)
    seconds = np.where(moves.dwells, moves.feed_mm_s, seconds)
    laid = (travel[:, 3] > 0) & (np.hypot(travel[:, 0], travel[:, 1]) > LAID_MM)
    area = math.pi * (machine.extruder.filament_mm if machine.extruder is not None else 1.75) ** 2 / 4
    with np.errstate(divide="ignore", invalid="ignore"):
        flow = np.where(laid, travel[:, 3] * area * lines.top_mm_s / np.maximum(lines.length_mm, 1e-9), 0.0)
    problems = [*text.problems]
    problems += _outside(text, machine)
    problems += _too_fast(text, flow, melt)
    problems += _too_cold(text, travel, melt)
    if machine.extruder is None and np.any(travel[:, 3]):
        first = int(np.flatnonzero(travel[:, 3])[0])
        problems.append(LineProblem(int(moves.line[first]), "filament is pushed, and no extruder is declared"))
    if not len(moves):
        problems.append(LineProblem(1, "no move stands in it"))
    begins = np.concatenate([[0.0], np.cumsum(seconds)[:-1]]) if len(moves) else np.zeros(0)
    spans = {
        axis: _span(moves.end_mm[moved, at])
        for at, axis in enumerate("xyz")
        if (moved := np.abs(travel[:, at]) > 1e-6).any()
    }
    return PrintPlan(
        text,
        (float(start[0]), float(start[1]), float(start[2])),
        seconds,
        begins,
        _layers(moves.end_mm[:, 2], laid, seconds),
        tuple(sorted(problems, key=lambda problem: problem.line)),
        (*_off_the_mesh(text, laid, machine), *_counted_wrongly(text, travel, laid)),
        lines.capped,
        float(travel[:, 3].sum()),
        float(flow.max(initial=0.0)),
        spans,
    )


def _span(values: NDArray[np.float32]) -> tuple[float, float]:
    return round(float(values.min()), 4), round(float(values.max()), 4)


def _said(text: PrintText, where: NDArray[np.bool_], words: str) -> list[LineProblem]:
    """A problem at the first of the moves that have it, with how many have."""
    at = np.flatnonzero(where)
    if not len(at):
        return []
    lines = np.unique(text.moves.line[at])
    more = f" ({len(lines):,} lines like it, the last is {int(lines[-1])})" if len(lines) > 1 else ""
    return [LineProblem(int(lines[0]), f"{words}{more}", len(lines))]


def _outside(text: PrintText, machine: MachineFile) -> list[LineProblem]:
    problems = []
    for at, axis in enumerate("xyz"):
        declared = getattr(machine.axes, axis)
        low, high = declared.minimum_mm, declared.maximum_mm
        values = text.moves.end_mm[:, at]
        for beyond, bound in ((values < low - 1e-3, "below"), (values > high + 1e-3, "above")):
            if beyond.any():
                first = float(values[np.flatnonzero(beyond)[0]])
                words = f"{axis.upper()} {show(first, 'mm')} is {bound} its limits, {low:g} to {high:g} mm"
                problems += _said(text, beyond, words)
    return problems


def _too_fast(text: PrintText, flow: Floats, melt: MeltLimits) -> list[LineProblem]:
    most = melt.largest_flow_mm3_s
    if most is None:
        return []
    beyond = flow > most * 1.001
    first = float(flow[np.flatnonzero(beyond)[0]]) if beyond.any() else 0.0
    words = f"{first:.1f} mm³/s are pushed: {melt.material} melts {most:g} at the most (largest_flow_mm3_s)"
    return _said(text, beyond, words)


def _too_cold(text: PrintText, travel: Floats, melt: MeltLimits) -> list[LineProblem]:
    """Filament that is pushed while the nozzle is set colder than the material needs."""
    pushes = travel[:, 3] > 0
    if not pushes.any():
        return []
    celsius = np.full(len(pushes), melt.nozzle_c)
    for action in text.actions:
        if HOT.get(action.does) == "nozzle":
            celsius[action.move :] = action.value
    cold = pushes & (celsius < melt.least_c)
    first = float(celsius[np.flatnonzero(cold)[0]]) if cold.any() else 0.0
    return _said(text, cold, f"filament at {first:g} °C: {melt.material} is pushed from {melt.least_c:g} °C on")


def _off_the_mesh(text: PrintText, laid: NDArray[np.bool_], machine: MachineFile) -> list[LineProblem]:
    """Lines beyond the live mesh while it still acts: the bed's height is not known there."""
    mesh = machine.mesh
    if mesh is None or not mesh.heights_mm or not mesh.follows:
        return []
    end = text.moves.end_mm
    low = end[:, 2] < mesh.fade_mm if mesh.fade_mm else np.ones(len(end), dtype=bool)
    beyond = (end[:, 0] < mesh.from_x_mm) | (end[:, 0] > mesh.to_x_mm)
    beyond |= (end[:, 1] < mesh.from_y_mm) | (end[:, 1] > mesh.to_y_mm)
    words = (
        f"beyond the mesh (X {mesh.from_x_mm:g} to {mesh.to_x_mm:g}, Y {mesh.from_y_mm:g} to {mesh.to_y_mm:g} mm): "
        "its edge is held there"
    )
    return _said(text, laid & low & beyond, words)


def _counted_wrongly(text: PrintText, travel: Floats, laid: NDArray[np.bool_]) -> list[LineProblem]:
    """Filament that seems to be counted the other way: along laid lines it goes back as often as on."""
    filament, path = travel[:, 3], np.hypot(travel[:, 0], travel[:, 1]) > LAID_MM
    back, on = int(np.count_nonzero(path & (filament < 0))), int(np.count_nonzero(laid))
    if back < 20 or back < 0.25 * on:
        return []
    words = (
        f"along {back:,} lines the filament goes back: it may be counted from where it stands, not from zero "
        "(program.filament_counts)"
    )
    return [LineProblem(int(text.moves.line[np.flatnonzero(path & (filament < 0))[0]]), words, back)]


def _layers(z_mm: NDArray[np.float32], laid: NDArray[np.bool_], seconds: Floats) -> tuple[PrintLayer, ...]:
    """Layers by the heights at which lines are laid, in their order."""
    at = np.flatnonzero(laid)
    if not len(at):
        return ()
    heights = z_mm[at].astype(np.float64)
    changes = np.flatnonzero(np.abs(np.diff(heights)) > 1e-4) + 1
    firsts, now = [0], heights[0]
    for number in changes.tolist():
        if abs(heights[number] - now) >= LAYER_MM:
            firsts.append(number)
            now = heights[number]
    begins = [int(at[number]) for number in firsts]
    whole = np.concatenate([[0.0], np.cumsum(seconds)])
    ends = [*begins[1:], len(seconds)]
    return tuple(
        PrintLayer(begin, round(float(z_mm[begin]), 4), float(whole[end] - whole[begin]))
        for begin, end in zip(begins, ends, strict=True)
    )


# as a program that is run


class PrintSegments(Sequence[Segment]):
    """The moves of a print as segments, made when they are looked at."""

    def __init__(self, plan: PrintPlan) -> None:
        self._plan, self._moves = plan, plan.text.moves
        self._places = {
            layer.first: f"layer {number + 1} of {len(plan.layers)}" for number, layer in enumerate(plan.layers)
        }
        self._places.setdefault(0, "begin")
        for action in plan.text.actions:
            self._places.setdefault(min(action.move, len(self._moves) - 1), action_words(action))

    def __len__(self) -> int:
        return len(self._moves)

    @overload
    def __getitem__(self, at: int) -> Segment: ...

    @overload
    def __getitem__(self, at: slice) -> tuple[Segment, ...]: ...

    def __getitem__(self, at: int | slice) -> Segment | tuple[Segment, ...]:
        if isinstance(at, slice):
            return tuple(self._made(number) for number in range(*at.indices(len(self))))
        return self._made(at if at >= 0 else len(self) + at)

    def __iter__(self) -> Iterator[Segment]:
        return (self._made(number) for number in range(len(self)))

    def _made(self, number: int) -> Segment:
        if not 0 <= number < len(self):
            raise IndexError(number)
        moves, place = self._moves, self._places.get(number, "")
        feed, pushed = float(moves.feed_mm_s[number]), float(moves.filament_mm[number])
        if moves.dwells[number]:
            return Dwell(feed, place)
        before = moves.end_mm[number - 1] if number else np.array(self._plan.start_mm, dtype=np.float32)
        end = moves.end_mm[number]
        at = {axis: round(float(end[n]), 5) for n, axis in enumerate("xyz") if end[n] != before[n]}
        if at:
            return To(at, feed, round(pushed, 6), place)
        return Push(round(pushed, 6), feed, place) if pushed else Dwell(0.0, place)


class PrintTimes(Sequence[Timed]):
    """When each move begins and how long it takes."""

    def __init__(self, plan: PrintPlan) -> None:
        self._plan = plan

    def __len__(self) -> int:
        return len(self._plan.seconds)

    @overload
    def __getitem__(self, at: int) -> Timed: ...

    @overload
    def __getitem__(self, at: slice) -> tuple[Timed, ...]: ...

    def __getitem__(self, at: int | slice) -> Timed | tuple[Timed, ...]:
        if isinstance(at, slice):
            return tuple(self[number] for number in range(*at.indices(len(self))))
        plan = self._plan
        return Timed(float(plan.begins_s[at]), float(plan.seconds[at]), float(plan.text.moves.feed_mm_s[at]))


@dataclass(frozen=True)
class PrintProgram(Program):
    """A print as a program: what a program is asked about all its segments is known beforehand."""

    pushed_mm: float = 0.0

    @property
    def filament_mm(self) -> float:
        """Filament that is pushed in all."""
        return self.pushed_mm

    @property
    def pushes(self) -> bool:
        """Whether any filament is moved."""
        return self.pushed_mm != 0.0

    @property
    def axes(self) -> tuple[str, ...]:
        """All of them."""
        return ("x", "y", "z")


def timetable_of(plan: PrintPlan, name: str) -> Timetable:
    """The print as a program with its times."""
    note = f"{len(plan.layers)} layers" if len(plan.layers) != 1 else "1 layer"
    program = PrintProgram(name, PrintSegments(plan), note, plan.filament_mm)
    return Timetable(program, PrintTimes(plan), plan.duration_s, plan.capped)


def action_words(action: PrintAction) -> str:
    """An action as the word of a place."""
    if action.does == "fan":
        return f"fan {100 * action.value:.0f} %"
    return f"{action.does} {action.value:g} °C" if action.does in HOT else action.does


RESUME_MM_S, PRIME_MM = 60.0, 1.0


class ResumedSegments(Sequence[Segment]):
    """The moves of a print from one on, behind a few that lead there."""

    def __init__(self, lead: Sequence[Segment], whole: PrintSegments, first: int) -> None:
        self._lead, self._whole, self._first = tuple(lead), whole, first

    def __len__(self) -> int:
        return len(self._lead) + len(self._whole) - self._first

    @overload
    def __getitem__(self, at: int) -> Segment: ...

    @overload
    def __getitem__(self, at: slice) -> tuple[Segment, ...]: ...

    def __getitem__(self, at: int | slice) -> Segment | tuple[Segment, ...]:
        if isinstance(at, slice):
            return tuple(self[number] for number in range(*at.indices(len(self))))
        return self._lead[at] if at < len(self._lead) else self._whole[at - len(self._lead) + self._first]


def resumed(plan: PrintPlan, first: int, lift_mm: float, drawn_mm: float) -> Timetable:
    """The print from a move on: over its beginning, down, the filament that was drawn back pushed again with a
    little more, then on. It takes no look at what stands on the bed: Z must know where it is.
    """
    end = plan.text.moves.end_mm[first - 1] if first else np.array(plan.start_mm)
    x, y, z = (round(float(mm), 4) for mm in end)
    lead: list[Segment] = [
        To({"z": z + lift_mm}, RESUME_MM_S, place="over the print"),
        To({"x": x, "y": y}, RESUME_MM_S),
        To({"z": z}, RESUME_MM_S / 4),
        Push(drawn_mm + PRIME_MM, 5.0),
    ]
    lead_s = 10.0
    seconds = float(plan.seconds[first:].sum()) + lead_s
    note = f"from move {first + 1:,} on"
    program = PrintProgram("print", ResumedSegments(lead, PrintSegments(plan), first), note, plan.filament_mm)
    times = [Timed(0.0, lead_s / len(lead))] * len(lead)
    return Timetable(program, ResumedTimes(times, plan, first, lead_s), seconds, plan.capped)


class ResumedTimes(Sequence[Timed]):
    """When the moves of a resumed print begin."""

    def __init__(self, lead: Sequence[Timed], plan: PrintPlan, first: int, lead_s: float) -> None:
        self._lead, self._whole, self._first = tuple(lead), PrintTimes(plan), first
        self._shift_s = lead_s - float(plan.begins_s[first])

    def __len__(self) -> int:
        return len(self._lead) + len(self._whole) - self._first

    @overload
    def __getitem__(self, at: int) -> Timed: ...

    @overload
    def __getitem__(self, at: slice) -> tuple[Timed, ...]: ...

    def __getitem__(self, at: int | slice) -> Timed | tuple[Timed, ...]:
        if isinstance(at, slice):
            return tuple(self[number] for number in range(*at.indices(len(self))))
        if at < len(self._lead):
            return self._lead[at]
        timed = self._whole[at - len(self._lead) + self._first]
        return Timed(timed.begins_s + self._shift_s, timed.seconds, timed.asked_mm_s)
