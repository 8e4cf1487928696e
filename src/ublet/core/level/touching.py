"""The Z offset from touches with a gauge: formulas, signs, uncertainty."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from ublet.core.level.scatter import deviation_of, scatter_beyond

FEEL_MM, FEEL_COMMON_MM = 0.012, 0.006
"""The drag of a gauge is felt within this anew each time, and within this the same every time; half-widths, mm."""

GAUGE_MM = 0.006
"""The gauge's own thickness is known within this, half-width, mm."""

DROP_MM, DROP_U_MM = 0.05, 0.03
"""A drop of plastic hangs at a cold nozzle and drags first: about so much too far, and its standard uncertainty, mm."""

HOT_C = 130.0
"""From here on a nozzle counts as hot: what hangs at it gives way."""


@dataclass(frozen=True)
class Touch:
    """One touch. trigger_mm: Z at which the probe triggered at that place of the bed, 0 where there is none;
    touched_mm: Z at which the gauge dragged below the nozzle.
    """

    trigger_mm: float
    touched_mm: float


@dataclass(frozen=True)
class Offset:
    """The Z offset, its standard uncertainty and the touches' deviation, mm."""

    mm: float
    uncertainty_mm: float
    deviation_mm: float


def offset_of(touches: Sequence[Touch], gauge_mm: float, step_mm: float, hot: bool, former_mm: float = 0.0) -> Offset:
    """``offset = touch height - gauge - trigger height`` (handbook, section 5: the trigger height is how far above the
    bed the nozzle stands when the probe triggers, and the offset is its negative); more negative is nearer.

    At a cold nozzle a drop hangs that drags first; the mean one is taken off.

    Without a probe the offset is counted from ``former_mm``, the one with which Z was homed, and triggers are 0.

    u: what is new at each touch (feel, the last step, the machine's scatter) over n, and what is common to all.

    Raises:
        ValueError: no touches.
    """
    count = len(touches)
    if not count:
        raise ValueError("no touches")
    within = step_mm / 2  # it is lowered until it drags: that began somewhere in the last step
    each = [former_mm + touch.touched_mm + within - gauge_mm - touch.trigger_mm for touch in touches]
    mean = sum(each) / count - (0.0 if hot else DROP_MM)
    deviation = deviation_of(each)
    known = math.sqrt(FEEL_MM**2 / 3 + step_mm**2 / 12)
    new = scatter_beyond(known, deviation, count) / math.sqrt(count)
    common = math.sqrt((FEEL_COMMON_MM**2 + GAUGE_MM**2) / 3)
    return Offset(mean, math.hypot(new, common, 0.0 if hot else DROP_U_MM), deviation)


def side_words(change_mm: float) -> str:
    """What a change of the offset does: ``0.120 mm nearer to the bed``."""
    if abs(change_mm) < 5e-4:
        return "as near as before"
    return f"{abs(change_mm):.3f} mm {'nearer to' if change_mm < 0 else 'further from'} the bed"
