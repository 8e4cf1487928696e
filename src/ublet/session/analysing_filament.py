"""Analyses of recorded filament: pressure advance by widths, and the flow limit."""

from __future__ import annotations

import math
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.extrude.advance import SLOWING_FRACTION, NoZero, from_widths
from ublet.core.extrude.flow import SHORT, FlowStep, NotReached, flow_limit, speeds_words
from ublet.core.extrude.pushing import BITE_RATIO
from ublet.core.motion.measuring import INSTRUMENTS, Instrument
from ublet.core.recorded import RecordError, parse_table
from ublet.core.units import with_uncertainty

FilamentAnalysis = tuple[dict[str, Any], Callable[[Path], None]]
"""A report, and what draws its figure to a path."""

SOUND_FLOWS = 2
"""The slowest pushes that all others are compared with."""


def advance(text: str, file: Path, instrument: Instrument) -> FilamentAnalysis:
    """Report of width differences over pressure advance: the zero of a straight line through them.

    Raises:
        RecordError: it cannot be used.
    """
    table = parse_table(text, ("advance_s", "width_difference_mm"), str(file))
    values, differences = table.columns["advance_s"], table.columns["width_difference_mm"]
    reading_u = math.sqrt(2) * INSTRUMENTS[instrument].placing_mm / math.sqrt(3)
    if not np.all((values >= 0) & (values <= 3)):
        raise RecordError(f"{file}: advance_s must be from 0 to 3 s.")
    try:
        estimate = from_widths(values.tolist(), differences.tolist(), reading_u, SLOWING_FRACTION)
    except NoZero as error:
        raise RecordError(f"{file}: {error}.") from error
    why = f"the widths are alike at {with_uncertainty(estimate.advance_s, estimate.uncertainty_s)} s"
    if estimate.at_end:
        why += f", beyond the {'first' if estimate.at_end < 0 else 'last'} value that was measured"
    elif estimate.worth_finer:
        why += "; a finer bracket around it would narrow it"

    def draw(path: Path) -> None:
        from ublet.figures.filament import draw_advance

        draw_advance(values, differences, estimate.advance_s, estimate.uncertainty_s, file.name, path)

    return {
        "kind": "advance",
        "readings": table.rows,
        "advance_s": max(0.0, estimate.advance_s),
        "advance_u_s": estimate.uncertainty_s,
        "choice": f"{max(0.0, estimate.advance_s):.4g} s",
        "why": why,
        "notes": list(table.notes),
    }, draw


def flow(text: str, file: Path, instrument: Instrument) -> FilamentAnalysis:
    """Report of what went in over the flow: where 5 % falls short of the slowest pushes.

    Raises:
        RecordError: it cannot be used.
    """
    table = parse_table(text, ("flow_mm3_s", "commanded_mm", "measured_mm"), str(file))
    flows, commanded, measured = (table.columns[name] for name in ("flow_mm3_s", "commanded_mm", "measured_mm"))
    if not np.all((flows > 0) & (commanded > 0) & (measured >= 0)):
        raise RecordError(f"{file}: flows and commanded lengths must be above 0, measured ones from 0.")
    order = np.argsort(flows, kind="stable")
    flows, fed = flows[order], (measured / commanded)[order]
    sound = float(fed[: min(SOUND_FLOWS, max(1, len(fed) - 2))].mean())
    if sound <= 0:
        raise RecordError(f"{file}: at the slowest flow nothing went in.")
    reading = INSTRUMENTS[instrument].placing_mm * math.sqrt(2 / 3) / commanded[order]
    steps = [
        FlowStep(float(at), float(fraction / sound), float(math.hypot(u, BITE_RATIO)))
        for at, fraction, u in zip(flows, fed, reading, strict=True)
    ]
    try:
        limit = flow_limit(steps)
    except NotReached as error:
        raise RecordError(f"{file}: {error}.") from error
    fractions: Floats = fed / sound

    def draw(path: Path) -> None:
        from ublet.figures.filament import draw_flow

        draw_flow(flows, fractions, limit.flow_mm3_s, limit.uncertainty, SHORT, file.name, path)

    return {
        "kind": "flow",
        "readings": table.rows,
        "limit_mm3_s": limit.flow_mm3_s,
        "limit_u_mm3_s": limit.uncertainty,
        "proposed_mm3_s": limit.proposed_mm3_s,
        "choice": f"{limit.flow_mm3_s:.3g} mm³/s",
        "why": f"there 5 % falls short; with a margin {limit.proposed_mm3_s:g} mm³/s: "
        f"{speeds_words(limit.proposed_mm3_s)}",
        "notes": list(table.notes),
    }, draw
