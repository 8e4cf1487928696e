"""The nozzle put onto a gauge in the middle of the bed by the builder, whether Z knows where it stands or not."""

from __future__ import annotations

from typing import Any

from ublet.core.bench import Bench
from ublet.core.motion.homing_moves import home_unhomed
from ublet.core.observations import LowerOntoGauge
from ublet.core.questions import Jog
from ublet.core.remedy import StartAgain
from ublet.core.run import Progress, TrialFailed
from ublet.core.settings import setting

STEPS_MM = (10.0, 1.0, 0.1, 0.05, 0.01)
UP_MM, TRAVEL_MM_S, LIFT_MM_S = 5.0, 60.0, 5.0


def gauge_setting() -> Any:
    """The thickness of the gauge as a parameter of a trial."""
    return setting(
        "Thickness of the gauge (paper is about 0.1); 0: as declared.",
        zero="as declared",
        unit="mm",
        low=0,
        high=2,
        default=0.0,
    )


async def onto_gauge(bench: Bench, gauge_mm: float, mm_s: float) -> None:
    """X and Y homed, the nozzle over the middle of the bed, lowered until a gauge drags below it.

    Z is not homed for it, since what it homes with may stand anywhere; then nothing guards its way but the builder.

    Raises:
        TrialFailed: the builder stops.
    """
    bench.motion.clear_at_the_end(UP_MM)
    bed = bench.machine.bed
    await home_unhomed(bench, ("x", "y"))
    bench.progress(Progress("onto the gauge", 0.1, None, "the nozzle comes down by your keys"))
    if bench.motion.position("z") is None:
        await bench.motion.move("z", UP_MM, LIFT_MM_S)
    await bench.motion.go({"x": bed.width_mm / 2, "y": bed.depth_mm / 2}, TRAVEL_MM_S)
    asked = Jog(
        f"Lay the gauge ({gauge_mm:g} mm) below the nozzle and lower Z until it just drags. Nothing but you stops the "
        "nozzle: large steps far up, 0.05 mm near the gauge.",
        ("it drags", "stop here"),
        LowerOntoGauge(gauge_mm),
        axes=("z",),
        steps=STEPS_MM,
        homed=False,
    )
    if (await bench.builder.jog(asked, mm_s)).answer != "it drags":
        raise TrialFailed("Stopped before the nozzle stood on the gauge: nothing was changed.", StartAgain())
