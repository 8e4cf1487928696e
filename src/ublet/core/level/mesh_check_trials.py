"""The trial of the station *bed mesh* that asks whether the live mesh still holds: five touches."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ublet.core.bench import Bench
from ublet.core.level.live_mesh import HEIGHTS, live_mesh
from ublet.core.level.mesh import Mesh
from ublet.core.level.mesh_compare import Compared, compare
from ublet.core.level.probing import TOUCHES, approach_of, probe_needs, probing, probing_uses
from ublet.core.level.reach import NO_PROBE, senses
from ublet.core.level.scatter import PLACE_MM, pooled_u_mm
from ublet.core.level.warmth import PrintingWarmth, conditions, warm_up, warm_words
from ublet.core.machine.schema import MachineFile
from ublet.core.run import Finding, Progress, TrialFailed, TrialResult
from ublet.core.settings import setting
from ublet.core.trial import Need, TrialSpec

SAMPLES = 3


class CheckParameters(PrintingWarmth):
    """How often each of the five places is touched."""

    samples: int = setting("Touches at each of the five places.", low=2, high=10, default=SAMPLES)


async def mesh_check(bench: Bench, aim: CheckParameters) -> TrialResult:
    """Four corners of the mesh and its middle, against the live mesh: it holds, it is shifted, tilted, or another
    shape.
    """
    live = live_mesh(bench.settings.live)
    if live is None:
        raise TrialFailed("No mesh is live on the board: probe one first, and keep it. Nothing moved.")
    bench.fact("surface")
    _, warm = await warm_up(bench, aim)
    columns, rows = (0, live.columns // 2, live.columns - 1), (0, live.rows // 2, live.rows - 1)
    heights = np.full((3, 3), np.nan)
    series: list[list[float]] = []
    five = ((0, 0), (2, 0), (1, 1), (0, 2), (2, 2))
    async with probing(bench, approach_of(bench, aim.samples), 0.0, warm) as probe:
        for number, (column, row) in enumerate(five):
            bench.progress(Progress(f"place {number + 1}", number / len(five), None, f"of {len(five)}"))
            place = (float(live.x[columns[column]]), float(live.y[rows[row]]))
            touches = await probe.agreeing_at(place, aim.samples)
            series.append(touches)
            heights[row, column] = sum(touches) / len(touches)
        kind = probe.kind
    touched = Mesh(live.x[list(columns)], live.y[list(rows)], heights)
    repeats = pooled_u_mm(series) / math.sqrt(aim.samples)
    spread = math.hypot(repeats, PLACE_MM.get(kind, max(PLACE_MM.values())))
    return _concluded(bench, compare(touched, live, spread))


def _concluded(bench: Bench, found: Compared) -> TrialResult:
    sigma = found.spread_mm * math.sqrt(2)
    findings = (
        Finding("shift", found.shift_mm, sigma / math.sqrt(found.points), "mm", words="shifted by"),
        Finding("tilt_x", found.tilt_x_mm, sigma, "mm", words="more rise to the right"),
        Finding("tilt_y", found.tilt_y_mm, sigma, "mm", words="more rise to the back"),
        Finding("shape", found.shape_rms_mm, None, "mm", words="left by a plane, RMS"),
    )
    holds = found.verdict == "same"
    why = f"The live mesh {found.words}." if holds else f"The live mesh no longer holds: {found.words}."
    return TrialResult("proven" if holds else "failed", why, conditions(bench), findings)


def _needs(machine: MachineFile, aim: CheckParameters, read: Callable[[str], float | None]) -> tuple[Need, ...]:
    return probe_needs(machine, aim, read)


def _announce(machine: MachineFile, aim: CheckParameters) -> str:
    return (
        f"Homes what is not homed, then touches the corners of the live mesh and its middle, {aim.samples} times "
        f"each, and holds them against it ({HEIGHTS}). {warm_words(machine, aim)}"
    )


def _figure(result: TrialResult) -> str:
    return "still holds" if result.outcome == "proven" else ""


TRIALS: tuple[TrialSpec, ...] = (
    TrialSpec(
        "mesh-check",
        "bed mesh",
        "Whether the live mesh still holds: five touches tell same, shift, tilt and shape apart.",
        CheckParameters,
        mesh_check,
        (TOUCHES,),
        _announce,
        _needs,
        figure=_figure,
        idle=lambda machine: "asked whenever you want to know" if senses(machine) else NO_PROBE,
        uses=lambda machine: (*probing_uses(machine), "mesh"),
    ),
)
