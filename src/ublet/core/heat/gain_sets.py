"""Several sets of gains for one heater: which is used at a target, and what each is predicted to do there.

The board chooses by the same code; ``docs/protocol.md`` writes it down.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

from ublet.core.heat.demands import Demands
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import PidGains
from ublet.core.heat.prediction import PredictedStep, predict_step
from ublet.core.heat.report import step_situation
from ublet.core.heat.step import StepMeasure
from ublet.core.run import TrialFailed
from ublet.core.settings import Value

SettingReader = Callable[[str], Value]


def gains_root(heater: str, target_c: float, sets: Iterable[str], read: SettingReader) -> str:
    """The settings path that ``kp``, ``ki`` and ``kd`` stand below for a target.

    Of the sets with ``used`` whose ``at_c`` is no further from the target than ``within_c`` the nearest (the first by
    name of two equally near); else the heater's own. read gives the live value of a path, None where there is none.
    """
    near = []
    for name in sorted(sets):
        root = f"heaters.{heater}.gains.{name}"
        at, within = read(f"{root}.at_c"), read(f"{root}.within_c")
        if read(f"{root}.used") is True and isinstance(at, (int, float)) and isinstance(within, (int, float)):
            distance = abs(target_c - at)
            if distance <= within:
                near.append((distance, root))
    return min(near, key=lambda gain_set: gain_set[0])[1] if near else f"heaters.{heater}"


def gains_below(root: str, read: SettingReader) -> PidGains:
    """The gains that stand below a path."""
    kp, ki, kd = (read(f"{root}.{key}") for key in ("kp", "ki", "kd"))
    return PidGains(*(float(value) if isinstance(value, (int, float)) else 0.0 for value in (kp, ki, kd)))


@dataclass(frozen=True)
class GainsAt:
    """Gains and the temperature that they were found at, °C (None: not known)."""

    gains: PidGains
    at_c: float | None = None


@dataclass(frozen=True)
class Served:
    """What each set is predicted to do at each target (None: the heater does not reach it).

    all: the sets that are good enough at every target that is reached, the best first: by their worst overshoot.
    """

    targets_c: tuple[float, ...]
    steps: Mapping[str, tuple[PredictedStep | None, ...]]
    all: tuple[str, ...]

    def measure(self, name: str, target: int) -> StepMeasure | None:
        """What a set does at the target of that number."""
        step = self.steps[name][target]
        return step.measure if step is not None else None


def nearest(models: Mapping[float, HeaterModel], target_c: float) -> HeaterModel:
    """The model that was found nearest to a target: a hotter block loses more, so that its gain is smaller."""
    return models[min(models, key=lambda at: abs(at - target_c))]


def serve(
    sets: Mapping[str, GainsAt],
    models: Mapping[float, HeaterModel],
    targets_c: Sequence[float],
    limit: float,
    demands: Demands,
) -> Served:
    """Predict a step from the room for every set at every target, without noise.

    models: by the temperature that each was found at.

    Raises:
        ValueError: no model.
    """
    if not models:
        raise ValueError("no model of this heater has been found yet")
    steps: dict[str, tuple[PredictedStep | None, ...]] = {}
    for name, gain_set in sets.items():
        row: list[PredictedStep | None] = []
        for target in targets_c:
            model = nearest(models, target)
            try:
                situation = step_situation(model, target, model.ambient_c, 0.0, None, limit, demands)
            except TrialFailed:
                row.append(None)
                continue
            row.append(predict_step(model, gain_set.gains, situation))
        steps[name] = tuple(row)
    good = [name for name, row in steps.items() if all(s is None or good_enough(s.measure, demands) for s in row)]
    good.sort(key=lambda name: max((s.measure.overshoot_c for s in steps[name] if s is not None), default=0.0))
    return Served(tuple(targets_c), steps, tuple(good))


def good_enough(measure: StepMeasure, demands: Demands) -> bool:
    """Whether a step keeps the demands."""
    small = measure.overshoot_c < demands.overshoot_c and measure.ripple_c < demands.ripple_c
    return small and measure.settle_s is not None
