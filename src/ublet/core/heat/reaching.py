"""Waiting until something has become as warm as it should be."""

from __future__ import annotations

from ublet.core.bench import Bench
from ublet.core.run import Progress, TrialFailed

CLOSE_C = 2.0
"""So near to its target a heater counts as there, °C."""

LONGEST_S = 1800.0


async def reach(
    bench: Bench, heater: str, celsius: float, share: float, settles_s: float = 0.0, settling: str = ""
) -> None:
    """Heat, and wait until it has been there for so long, s. share: of the whole trial; settling: what is told
    meanwhile.

    Raises:
        TrialFailed: it does not get there.
    """
    await bench.heat.warm(heater, celsius)
    since = there = bench.clock.now_s()
    async for sample in bench.heat.samples(heater):
        now, near = sample.time_s, abs(sample.celsius - celsius) <= CLOSE_C
        there = there if near else now
        if near and now - there >= settles_s:
            return
        if now - since > LONGEST_S:
            raise TrialFailed(f"The {heater} did not hold {celsius:g} °C within {LONGEST_S / 60:g} minutes.")
        told = settling if near else f"{sample.celsius:.0f} of {celsius:g} °C"
        bench.progress(Progress(f"{heater} heats", share, None, told))
