"""The sets of gains that are known for a heater: live, declared in the machine file, and found by trials."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping

from ublet.core.heat.demands import demands_of
from ublet.core.heat.gain_sets import GainsAt, Served, serve
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import Gains
from ublet.core.heat.report import model_from
from ublet.core.heat.start import room_from
from ublet.core.settings import Value
from ublet.core.trial import Option, TrialFailed
from ublet.session.session import Session

LIVE = "live now"
MOST_FOUND = 4
"""So many of the newest trials, one a temperature, are looked at."""


def known_sets(session: Session, heater: str, trial: str) -> tuple[dict[str, GainsAt], dict[float, HeaterModel]]:
    """Sets of gains by name, and models by the temperature that they were found at."""
    machine = session.document.machine
    room = room_from(machine, heater, lambda sensor: session.connection.channel(f"sensors.{sensor}")) or 23.0
    sets = {LIVE: GainsAt(session.live_gains(heater))}
    for label, each in machine.heaters[heater].gains.items():
        sets[f"{label} (file)"] = GainsAt(Gains(each.kp, each.ki, each.kd), each.at_c)
    models: dict[float, HeaterModel] = {}
    for entry in session.ledger.trials(trial, "proven"):
        at = entry.result.conditions.get("target_c")
        if entry.result.choice is None or not isinstance(at, (int, float)) or float(at) in models:
            continue
        try:
            models[float(at)] = model_from(entry.result, room)
        except TrialFailed:
            continue
        sets[f"tuned at {at:g}"] = GainsAt(_gains(entry.result.choice), float(at))
        if len(models) == MOST_FOUND:
            break
    return sets, models


async def served(session: Session, heater: str, trial: str) -> Served:
    """What every known set would do at the temperatures of all materials; predicted beside the event loop.

    Raises:
        ValueError: the heater was never tuned.
    """
    sets, models = known_sets(session, heater, trial)
    machine = session.document.machine
    hotend = machine.heaters[heater].part == "hotend"
    wanted = {each.nozzle_c if hotend else each.bed_c for each in machine.materials.values()} | set(models)
    limit = float(session.live(f"heaters.{heater}.power_limit") or 1.0)
    targets = tuple(sorted(celsius for celsius in wanted if celsius > 0))
    return await asyncio.to_thread(serve, sets, models, targets, limit, demands_of(machine, heater))


def label_live(session: Session, heater: str, at_c: float) -> str:
    """Note the live gains in the draft of the machine file, labelled with where they were found; returns the label."""
    machine, gains = session.document.machine, session.live_gains(heater)
    hotend = machine.heaters[heater].part == "hotend"
    material = next((n for n, m in machine.materials.items() if (m.nozzle_c if hotend else m.bed_c) == at_c), None)
    label = f"at-{at_c:g}".replace(".", "-")
    root = f"heaters.{heater}.gains.{label}"
    values: dict[str, Value] = {f"{root}.at_c": at_c, f"{root}.fan": 0.0}
    values.update({f"{root}.{key}": value for key, value in _as_values(gains).items()})
    if material is not None:
        values[f"{root}.material"] = material
    session.draft.set_all(values)
    return label


def _gains(option: Option) -> Gains:
    kp, ki, kd = (float(option.figures.get(key) or 0.0) for key in ("kp", "ki", "kd"))
    return Gains(kp, ki, kd)


def _as_values(gains: Gains) -> Mapping[str, float]:
    return {"kp": gains.kp, "ki": gains.ki, "kd": gains.kd}
