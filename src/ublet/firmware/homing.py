"""Homing as the board does it: fast approach until the switch triggers, back off, slow approach."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass

MARGIN_MM = 10.0
"""So much beyond the axis's length it seeks its end, then gives up, mm."""


@dataclass(frozen=True)
class HomingPlan:
    """How one axis homes: way towards its end (-1 or 1), distances in mm, speeds in mm/s, and the end's position."""

    axis: str
    way: int
    length_mm: float
    fast_mm_s: float
    slow_mm_s: float
    back_off_mm: float
    end_mm: float


@dataclass(frozen=True)
class Approach:
    """A piece of a homing: signed length, speed, and whether it ends when the switch triggers."""

    mm: float
    speed_mm_s: float
    until_triggered: bool


Course = Generator[Approach, bool, str]
"""Yields pieces, is told whether each ended at the switch, and returns why the end was not found; empty: it was."""


def homing_course(plan: HomingPlan, triggered: Callable[[], bool]) -> Course:
    """One axis on its way to its end."""
    if triggered():
        yield Approach(-plan.way * 2 * plan.back_off_mm, plan.slow_mm_s, False)
        if triggered():
            return "its switch reads triggered and stays so: polarity, a broken wire, or a mixed-up plug"
    seek = plan.length_mm + MARGIN_MM
    if not (yield Approach(plan.way * seek, plan.fast_mm_s, True)):
        return (
            f"no switch triggered in {seek:g} mm: it runs the wrong way, its switch does not answer, its motor turns "
            "and the axis stays behind (too little current, something binds, a loose pulley), or it moves less than it "
            "is told (steps per mm, lead of the screw)"
        )
    yield Approach(-plan.way * plan.back_off_mm, plan.fast_mm_s, False)
    if triggered():
        return f"its switch stays triggered {plan.back_off_mm:g} mm away from the end: back off further"
    if not (yield Approach(plan.way * 2 * plan.back_off_mm, plan.slow_mm_s, True)):
        return "it triggered at the fast approach and not at the slow one"
    return ""
