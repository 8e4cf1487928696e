"""The whole leg Level on machines made up at random, from its lifts to a first layer that was printed twice: the true
gap over the bed, what was claimed, and how soon a wrong offset is good.
"""

from __future__ import annotations

import shutil
import tempfile
import tomllib
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ublet.benchmark.beds import made_up
from ublet.core.catalogue import TRIALS
from ublet.core.level.mesh.first_layer import LayerShape, places_of
from ublet.core.level.mesh.first_layer_trials import JUDGED
from ublet.core.level.mesh.live import live_mesh
from ublet.core.level.probe.offset_trials import offset_live, offset_setting
from ublet.core.run import Option, Proposal, TrialResult
from ublet.firmware.clock import run_virtually
from ublet.session.headless import Looking, on_scenario
from ublet.session.session import Session
from ublet.world.scenario import load_scenario

WARM = {"nozzle_c": 210.0, "bed_c": 60.0}
TrialSequence = Sequence[tuple[str, dict[str, Any]]]

PROBED: TrialSequence = (
    ("lead-screws", {}),
    ("bed-corners", {}),
    ("z-offset", WARM),
    ("bed-mesh", {**WARM, "columns": 7, "rows": 7}),
    ("first-layer", {}),
    ("first-layer", {}),
)
BY_HAND: TrialSequence = (("bed-corners-by-hand", {}), ("z-offset", WARM), ("bed-mesh-by-hand", WARM), *PROBED[-2:])
OFF_MM, WITHIN_MM = 0.15, 0.02
GOOD_MM = 0.03
FINE = 41
SMOOTH = 1.2
"""Waves over the bed of a bent plate, at the most."""


@dataclass(frozen=True)
class LayerStage:
    """A trial of the leg that has ended, and what is known of its truth."""

    name: str
    result: TrialResult
    truth: dict[str, float]


def layers(machines: int) -> dict[str, Any]:
    """The leg on so many machines of each kind, and a first layer that begins 0.15 mm off."""
    return {
        **{kind: _of_kind(kind, machines) for kind in ("pin", "inductive", "nozzle")},
        "wrong_offset": wrong_offsets(machines),
    }


def _of_kind(kind: str, machines: int) -> dict[str, Any]:
    off, covered, proven, printed = [], [], [], []
    for seed in range(machines):
        with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
            scenario = smooth(made_up(Path(name), seed, 3, kind)[0], seed)
            steps, gap = leg(scenario, seed, BY_HAND if kind == "nozzle" else PROBED)
        off.append(gap)
        for step in (step for step in steps if step.name == "first-layer"):
            left = step.result.finding("left")
            if left is not None and left.uncertainty:
                covered.append(abs(left.value - step.truth["left"]) <= 2 * left.uncertainty)
        proven.append(steps[-1].result.outcome == "proven")
        printed.append(abs(steps[-1].truth.get("left", np.nan)))
    return {
        "machines": machines,
        "gap_p95_mm": round(float(np.median(off)), 4),
        "within_0.02_mm": round(float(np.mean(np.array(off) <= WITHIN_MM)), 3),
        "left_covered": round(float(np.mean(covered)), 3),
        "left_p95_mm": round(float(np.nanpercentile(printed, 95)), 4),
        "proven": round(float(np.mean(proven)), 3),
    }


def smooth(scenario: Path, seed: int) -> Path:
    """The same machine with a bed that is bent rather than dented, by up to 0.4 mm, a probe that scatters by 3 µm, and
    no metal of uneven thickness, which no touch can show.
    """
    import tomlkit

    random = np.random.default_rng([seed, 97])
    truth = tomllib.loads(scenario.read_text(encoding="utf-8"))
    truth["bed"]["bow_mm"] = round(float(random.uniform(-0.15, 0.15)), 4)
    truth["bed"]["waves"] = [
        {
            **{key: round(float(random.uniform(0.2, SMOOTH)), 3) for key in ("along_x", "along_y")},
            **{key: round(float(random.uniform(0, 6)), 3) for key in ("phase_x", "phase_y")},
            "mm": round(float(random.uniform(0, 0.06)), 4),
        }
        for _ in range(2)
    ]
    if "probe" in truth["switches"]:
        truth["switches"]["probe"]["spread_mm"] = 0.003
        truth["probe"]["metal"] = []
    scenario.write_text(tomlkit.dumps(truth), encoding="utf-8")
    return scenario


def wrong_offsets(machines: int) -> dict[str, Any]:
    """A first layer on a machine whose Z offset is 0.15 mm off, either way: after how many patches it is good."""
    patches = []
    for seed in range(machines):
        with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
            scenario = smooth(made_up(Path(name), seed, 3, "pin")[0], seed)
            wrong = OFF_MM if seed % 2 else -OFF_MM
            steps, _ = leg(scenario, seed, PROBED[:-1], wrong_mm=wrong)
        patches.append(steps[-1].truth["good_after"])
    return {
        "machines": machines,
        "good_within_4_patches": round(float(np.mean(np.array(patches) <= 4)), 3),
        "patches_median": float(np.median(patches)),
    }


def leg(scenario: Path, seed: int, steps: TrialSequence, wrong_mm: float = 0.0) -> tuple[list[LayerStage], float]:
    """Trials one after the other on one machine, what they propose kept; what 95 % of the bed that the mesh covers
    keeps of the wanted first layer then, mm. wrong_mm: put to the Z offset before the last one.
    """
    done: list[LayerStage] = []
    gap: list[float] = []

    async def walk(session: Session, watcher: Looking) -> None:
        changed = 0.0
        for number, (name, values) in enumerate(steps):
            spec = TRIALS[name]
            if wrong_mm and number == len(steps) - 1:
                machine = session.document.machine
                offset = offset_live(machine, session.live)
                wrong = Proposal(offset_setting(machine), offset, round(offset + wrong_mm, 3), "mm", "wrong on purpose")
                await session.keep(Option("wrong", "", (wrong,), {}), None)
            aim = spec.parameters(**values)
            entered = await session.run(spec, aim, watcher)
            result, truth = entered.ran.result, watcher.truth(spec, aim)
            if name == "first-layer":
                truth["good_after"] = _good_after(watcher, session)
                judged = session.ledger.streams(entered.number or 0).get(JUDGED.name)
                changed = -float(judged.column("nudge_mm")[0]) if judged is not None else 0.0
            if result.choice is not None and result.proposals:
                await session.keep(result.choice, entered.number)
                changed += result.choice.figures.get("change") or 0.0
            done.append(LayerStage(name, result, truth))
        gap.append(_gap_p95(session, watcher, changed))

    on_made_up(scenario, seed, walk)
    return done, gap[0]


def on_made_up(scenario: Path, seed: int, work: Callable[[Session, Looking], Awaitable[None]]) -> None:
    """Do something on a made-up machine, on a virtual clock, with its scripted builder looking on."""

    async def whole(folder: Path) -> None:
        source = scenario.parent / load_scenario(scenario).scenario.machine_file
        machine = folder / source.name
        shutil.copyfile(source, machine)
        async with on_scenario(scenario, machine, seed, lambda progress: None) as (session, watcher):
            await work(session, watcher)

    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        run_virtually(whole(Path(name)))


def _good_after(watcher: Looking, session: Session) -> float:
    """The first patch, counted from 1, whose last lines are good in truth; one more than there are where none is."""
    assert watcher.simulated is not None
    shape = LayerShape()
    places = places_of(session.document.machine, shape)
    for number, place in enumerate(places, start=1):
        looks = watcher.simulated.world.laid.patch(place.x, place.y, place.wide, place.deep, shape.width_mm)
        if looks is not None and abs(looks.gap_mm - shape.layer_mm) <= GOOD_MM:
            return float(number)
    return float(len(places) + 1)


def _gap_p95(session: Session, watcher: Looking, changed_mm: float) -> float:
    """The gap over the live mesh's area less what the layer is to be, its 95th percentile by magnitude, mm.

    What was printed last over the middle shows by how much all of it is off; the mesh and the true bed the rest.
    changed_mm: what was kept after that print, less what the nozzle was nudged by there.
    """
    assert watcher.simulated is not None
    world, shape = watcher.simulated.world, LayerShape()
    middle = places_of(session.document.machine, shape)[0]
    looks = world.laid.patch(middle.x, middle.y, middle.wide, middle.deep, shape.width_mm)
    mesh = live_mesh(session.live)
    if mesh is None or looks is None:
        return float("nan")
    world.bed.come_down()
    x, y = np.linspace(mesh.x[0], mesh.x[-1], FINE), np.linspace(mesh.y[0], mesh.y[-1], FINE)
    followed = mesh.over(x, y) - mesh.over([middle.x], [middle.y])[0, 0]
    bed = np.array([[world.bed.height(a, b) for a in x] for b in y]) - world.bed.height(middle.x, middle.y)
    return float(np.percentile(np.abs(looks.gap_mm - shape.layer_mm + changed_mm + followed - bed), 95))
