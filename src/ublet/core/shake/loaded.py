"""A bed that moves swept once more with a load on it: by how much what is printed will move the frequency."""

from __future__ import annotations

from collections.abc import Sequence

from ublet.core.acts import LoadBed
from ublet.core.bench import Bench
from ublet.core.questions import Confirm
from ublet.core.run import Finding, TrialResult, about
from ublet.core.shake.frame import Mode
from ublet.core.shake.repeats import modes_in
from ublet.core.shake.shaking import hands_off
from ublet.core.shake.spectra import averaged
from ublet.core.shake.sweep_response import FREQUENCY_RESPONSE, rows_of
from ublet.core.shake.sweeping import SweepParameters, amiss_of, swept

LAID, EMPTY = "it lies there", "leave it empty"
LOADED = "loaded"


async def swept_loaded(
    bench: Bench, aim: SweepParameters, kg: float, axis: str, empty: Sequence[Mode], fractions: tuple[float, float]
) -> tuple[tuple[Finding, ...], list[str]]:
    """Have so many kilograms laid on the bed, sweep again, and have them taken off; what was found, and a sentence.

    empty: how it rings without. Nothing is found where the builder leaves it empty.
    """
    lay = Confirm(
        f"Lay {kg:g} kg on the middle of the bed, where a print stands, and tape it down: it must not slip. "
        "The sensor stays where it is. The sweep then begins by itself.",
        (LAID, EMPTY),
        LoadBed(kg),
    )
    off = Confirm("Take the load off the bed.", ("done",), LoadBed(0.0))
    async with bench.builder.by_hand(lay, off) as answer:
        if answer != LAID:
            return (), []
        await hands_off(bench, aim.hands_off_s)
        response, repeats, _, _ = await swept(bench, aim, axis, fractions, aim.repeats, f", with {kg:g} kg on the bed")
    bands = averaged(repeats)
    if bad := await bench.compute(amiss_of, response, bands, axis):
        return (), [f"With {kg:g} kg on the bed nothing could be measured: {' '.join(bad)}"]
    bench.record.rows(FREQUENCY_RESPONSE.name, rows_of(bands), f"{axis} {LOADED}")
    fit, _ = await modes_in(bench, repeats, bands)
    modes = fit.modes
    main, without = modes[0], empty[0]
    lower = 1 - main.frequency_hz / without.frequency_hz
    finding = Finding(
        LOADED, main.frequency_hz, main.frequency_u, "Hz", tolerance=0.02 * main.frequency_hz, words="loaded, it rings"
    )
    return about({"axis": axis}, (finding,)), [
        f"With {kg:g} kg on the bed {axis.upper()} rings at {main.frequency_hz:.1f} Hz, {100 * abs(lower):.1f} % "
        f"{'lower' if lower > 0 else 'higher'}: its shaper will allow for that."
    ]


def loaded_drift(result: TrialResult | None, axis: str) -> float:
    """By what share a load that was tried moves the frequency of an axis; 0 where none was."""
    if result is None:
        return 0.0
    loaded, empty = result.finding(LOADED, axis=axis), result.finding("frequency", axis=axis, mode="main")
    return abs(1 - loaded.value / empty.value) if loaded is not None and empty is not None else 0.0
