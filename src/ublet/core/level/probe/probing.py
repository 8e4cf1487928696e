"""Touching the bed with the probe: over a place, down, up, as often as asked; whatever goes wrong is named."""

from __future__ import annotations

import math
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, field, replace

from ublet.core.arrays import Point
from ublet.core.bench import Bench
from ublet.core.capabilities import Capability
from ublet.core.level.mesh.live import unfollowed
from ublet.core.level.reach import ProbeArea, must_reach, reach_of, senses
from ublet.core.level.warmth import SAME_C, WarmUp, warm_needs
from ublet.core.machine.level_parts import ProbeSettings
from ublet.core.machine.schema import MachineFile
from ublet.core.motion.homing_moves import home_unhomed, moving, number_of
from ublet.core.remedies import SOAK_FIRST, level_first
from ublet.core.remedy import ByHand, GoTo, StartAgain
from ublet.core.run import Stream, TrialFailed
from ublet.core.trial import Need

RELEASE_MM = 2.0
"""Between two touches of a place Z goes up by so much: the trigger must let go, mm."""

LIFT_MM_S = 10.0
A_POINT_S, AGAIN_S = 2.4, 0.5
"""Besides its ways a point takes so long over the line, and each further touch of it, s."""

FRESH_S = 0.25
"""An input's state is not older than this, s."""

TOUCHES = Stream("touches", ("x_mm", "y_mm", "height_mm"), ("mm", "mm", "mm"))
"""Every touch: where over the bed, and the bed's height over Z = 0."""


@dataclass(frozen=True)
class TouchSettings:
    """How a place is touched: speed down, speed between places, height between places, touches at each, largest
    range of these; whether a pin goes up and down for each touch.
    """

    mm_s: float
    travel_mm_s: float
    lift_mm: float
    samples: int
    tolerance_mm: float
    redeploys: bool = False


@dataclass
class Probing:
    """Touches on one machine. highest: of what was touched so far, mm; warm: sensors that must stay as
    they were, °C.
    """

    bench: Bench
    reach: ProbeArea
    approach: TouchSettings
    trigger_mm: float
    deepest_mm: float
    kind: str
    highest: float = 0.0
    lowest: float = 0.0
    warm: Mapping[str, float] = field(default_factory=dict)
    _down: bool = False
    _over: Point | None = None
    _touched: float | None = None

    def moved(self, by_mm: float, repeats_mm: float) -> bool:
        """Whether a place that was touched again stands elsewhere: by more than its touches may differ, and more than a
        height that repeats so well (standard, mm) explains.
        """
        return abs(by_mm) > max(2 * self.approach.tolerance_mm, 5 * math.sqrt(2) * repeats_mm)

    async def height_at(self, place: Point) -> float:
        """The bed's height at a place, mm: the mean of its touches.

        Raises:
            TrialFailed: out of reach, nothing triggers, it triggers already, or the touches differ too much.
        """
        heights = await self.agreeing_at(place, self.approach.samples)
        return sum(heights) / len(heights)

    async def agreeing_at(self, place: Point, times: int) -> list[float]:
        """Touch a point ``times`` times, and once more where they do not agree; the bed's height each time, mm.

        Raises:
            TrialFailed: as :meth:`height_at`.
        """
        heights = await self.touches_at(place, times)
        allowed = self.approach.tolerance_mm * (1 + 0.15 * max(0, times - 2))  # more of them reach further apart
        if max(heights) - min(heights) <= allowed:
            return heights
        heights = sorted(heights + await self.touches_at(place, times + 1))  # most of them decide
        most = times + 1
        agree = min((heights[at : at + most] for at in range(times + 1)), key=lambda patch: patch[-1] - patch[0])
        if (spread := agree[-1] - agree[0]) <= allowed:
            return agree
        raise TrialFailed(
            f"At {self.reach.words(place)} {most} of {len(heights)} touches differ by {spread:.3f} mm at the least, "
            f"{allowed:g} are allowed (probe.tolerance_mm): look for a loose probe, a corner on a slack spring, "
            "plastic on the sheet; station “probe spread” measures it.",
            GoTo("probe spread", "how well the probe repeats"),
            ByHand("look for a loose probe, a slack spring, plastic on the sheet"),
        )

    async def touches_at(self, place: Point, times: int, stays: bool = False) -> list[float]:
        """Touch a point ``times`` times; the bed's height each time, mm. stays: it goes up no further than it must,
        since the same place is touched next.
        """
        must_reach(self.reach, place)
        if self._over != place:
            await self.over(place)
        heights: list[float] = []
        for _ in range(times):
            if self._touched is not None:
                await self._up(self.trigger_mm + self._touched + RELEASE_MM)
            heights.append(await self._touch(place))
            self._touched = heights[-1]
            self.bench.record.row(TOUCHES.name, (*place, heights[-1]))
        self.highest = max(self.highest, *heights)
        self.lowest = min(self.lowest, *heights)
        if not stays:
            await self._up(self.clear_mm)
            self._over = self._touched = None
        return heights

    @property
    def pin(self) -> bool:
        """Whether it has a pin that goes up and down."""
        return self.kind == "pin"

    @property
    def clear_mm(self) -> float:
        """Z between places, mm: above everything that was touched so far."""
        return self.trigger_mm + max(0.0, self.highest) + self.approach.lift_mm

    async def over(self, place: Point) -> None:
        """Lift, and put the probe over a place of the bed."""
        await self._up(self.clear_mm)
        x, y = self.reach.nozzle(place)
        await self.bench.motion.go({"x": x, "y": y}, self.approach.travel_mm_s)
        self._over = place

    async def park(self) -> None:
        """Up, and the pin too: hands come near."""
        await self._up(self.clear_mm)
        if self.pin and self._down:
            await self.bench.probe.pin(False)
            self._down = False

    async def _touch(self, place: Point) -> float:
        bench, approach = self.bench, self.approach
        self._must_be_warm()
        if self.pin and (approach.redeploys or not self._down):
            if self._down:
                await bench.probe.pin(False)
                await bench.clock.rest(number_of(bench, "probe.stow_s"))
            await bench.probe.pin(True)
            await bench.clock.rest(number_of(bench, "probe.deploy_s"))
            self._down = True
        await bench.clock.rest(FRESH_S)
        if bench.probe.inputs()["probe"].triggered:
            raise TrialFailed(
                f"The probe is triggered before it touches, at {self.reach.words(place)}: pin jammed or the wrong "
                "polarity, metal under it, or the bed stands higher than the lift between places.",
                GoTo("inputs by hand", "the probe's input and its polarity"),
                level_first(self.bench.machine),
            )
        floor = self.trigger_mm + self.lowest - self.deepest_mm
        z = await bench.probe.touch(floor, approach.mm_s)
        if z is None:
            raise TrialFailed(
                f"Nothing triggered at {self.reach.words(place)} down to Z {floor:.2f} mm, {self.deepest_mm:g} mm "
                "below where the bed should be (probe.deepest_mm): pin not down, no metal there, a loose plug, or the "
                "bed stands lower than that. The nozzle goes up again.",
                ByHand("let the pin down, plug the probe in, or bring metal below it"),
                level_first(self.bench.machine),
            )
        return z - self.trigger_mm

    def _must_be_warm(self) -> None:
        for sensor, began in self.warm.items():
            now = self.bench.heat.celsius(sensor)
            if now is None or abs(now - began) > SAME_C:
                shown = "does not read" if now is None else f"reads {now:.0f} °C, {began:.0f} at the start"
                raise TrialFailed(
                    f"The {sensor} sensor {shown}: heights of two temperatures cannot be compared.", SOAK_FIRST
                )

    async def _up(self, z_mm: float) -> None:
        here = self.bench.motion.position("z")
        if here is None:
            raise TrialFailed("Z is not homed any more: start again.", StartAgain())
        if here < z_mm - 1e-3:
            await self.bench.motion.go({"z": z_mm}, LIFT_MM_S)


def approach_of(bench: Bench, samples: int = 0) -> TouchSettings:
    """As it is declared; samples: other than declared."""
    return TouchSettings(
        number_of(bench, "probe.approach_mm_s"),
        number_of(bench, "probe.travel_mm_s"),
        number_of(bench, "probe.lift_mm"),
        samples or round(number_of(bench, "probe.samples")),
        number_of(bench, "probe.tolerance_mm"),
    )


def declared_approach(probe: ProbeSettings, samples: int = 0) -> TouchSettings:
    """As the machine file has it; samples: other than declared."""
    return TouchSettings(
        probe.approach_mm_s, probe.travel_mm_s, probe.lift_mm, samples or probe.samples, probe.tolerance_mm
    )


def grid_s(approach: TouchSettings, xs: Sequence[float], ys: Sequence[float]) -> float:
    """About how long touching a whole grid takes, s: ways, touches, and a point's own time."""
    way = (xs[-1] - xs[0]) * len(ys) + (ys[-1] - ys[0])
    again = (approach.samples - 1) * (2 / approach.mm_s + AGAIN_S)
    touch = approach.lift_mm / approach.mm_s + approach.lift_mm / LIFT_MM_S + again
    return way / approach.travel_mm_s + len(xs) * len(ys) * (touch + A_POINT_S)


def homing_approach(bench: Bench, samples: int = 0) -> TouchSettings:
    """As it is declared, but at the speed at which Z homes: a probe that triggers late goes on by speed times delay, so
    that only touches at that speed agree with where Z is called 0.
    """
    return replace(approach_of(bench, samples), mm_s=number_of(bench, "axes.z.homing.slow_mm_s"))


def probe_of(machine: MachineFile) -> ProbeSettings:
    """The declared probe that senses by itself.

    Raises:
        TrialFailed: there is none.
    """
    probe = machine.probe
    if probe is None or not senses(machine):
        raise TrialFailed(
            "This machine has no probe that senses by itself: it is levelled by hand.",
            GoTo("bed corners", "levelling by hand", "bed-corners-by-hand"),
        )
    return probe


def probing_uses(machine: MachineFile) -> tuple[Capability, ...]:
    """What touching the bed uses: a pin goes up and down, too."""
    pin = machine.probe is not None and machine.probe.kind == "pin"
    return moving("programs", *(("probe",) if pin else ()))(machine)


def probe_needs(machine: MachineFile, aim: WarmUp, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    """What touching the bed as warm as that needs: a probe that senses it, and reaches it."""
    try:
        probe = probe_of(machine)
        reach_of(machine)
    except TrialFailed as missing:
        return (Need(str(missing), False),)
    return (Need(f"probe: {probe.kind}", True), *warm_needs(machine, aim, read))


@asynccontextmanager
async def probing(
    bench: Bench,
    approach: TouchSettings | None = None,
    deepest_mm: float = 0.0,
    warm: Mapping[str, float] | None = None,
) -> AsyncIterator[Probing]:
    """Everything homed, touches allowed below Z's lower limit while the block goes on; whatever ends it, the nozzle
    goes up and the pin too.

    deepest_mm: more than is declared, where the bed may stand further off.
    """
    machine = bench.machine
    probe = probe_of(machine)
    approach = approach or approach_of(bench)
    bench.motion.clear_at_the_end(approach.lift_mm)
    await home_unhomed(bench, ("x", "y", "z"))
    with bench.aside():  # heights count from where it triggers, whatever that is called
        trigger = -number_of(bench, "probe.offset_z_mm")
    deepest = max(probe.deepest_mm, deepest_mm)
    going = Probing(bench, reach_of(machine), approach, trigger, deepest, probe.kind, warm=dict(warm or {}))
    async with bench.settings.borrowed({"axes.z.soft_limits": False, **unfollowed(bench)}):
        yield going
        await going._up(going.clear_mm)
    if probe.kind == "pin":
        await bench.probe.pin(False)
