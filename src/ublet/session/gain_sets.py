"""The sets of gains that are known for a heater: its own, those of the machine file, and those found by trials."""

from __future__ import annotations

import asyncio
from dataclasses import asdict

from ublet.core.heat.demands import demands_of, material_targets
from ublet.core.heat.gain_sets import GainsAt, Served, gains_below, serve
from ublet.core.heat.model import HeaterModel
from ublet.core.heat.pid import PidGains
from ublet.core.heat.report import model_from
from ublet.core.run import Option, Proposal, TrialFailed
from ublet.core.settings import Value, number_or
from ublet.session.heaters import room_now
from ublet.session.session import Session

OWN = "its own"
"""The gains that the heater has for every target that no set is used for."""

MOST_FOUND = 4
"""Number of the newest trials that are searched, one for each temperature."""


def known_sets(session: Session, heater: str, trial: str) -> tuple[dict[str, GainsAt], dict[float, HeaterModel]]:
    """Sets of gains by name, and models by the temperature that they were found at."""
    machine = session.document.machine
    room = room_now(session, heater) or 23.0
    sets = {OWN: GainsAt(gains_below(f"heaters.{heater}", session.live))}
    for label, gain in machine.heaters[heater].gains.items():
        root = f"heaters.{heater}.gains.{label}"
        on_board = session.live(f"{root}.kp") is not None
        gains = gains_below(root, session.live) if on_board else PidGains(gain.kp, gain.ki, gain.kd)
        sets[label] = GainsAt(gains, gain.at_c)
    models: dict[float, HeaterModel] = {}
    for entry in session.ledger.runs(trial, "proven", {"heater": heater}):
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
    wanted = {*material_targets(machine, heater).values(), *models}
    limit = number_or(session.live(f"heaters.{heater}.power_limit"), 1.0)
    targets = tuple(sorted(celsius for celsius in wanted if celsius > 0))
    return await asyncio.to_thread(serve, sets, models, targets, limit, demands_of(machine, heater))


def used_at(session: Session, heater: str, target_c: float) -> str:
    """The name of the set that the board uses for a target; ``OWN`` when it is the heater's own gains."""
    root = session.gains_root(heater, target_c)
    return root.removeprefix(f"heaters.{heater}.gains.") if ".gains." in root else OWN


def note_set(session: Session, heater: str, at_c: float, option: Option) -> str:
    """Note an option's gains in the draft of the machine file, labelled with where they were found; returns the label.

    They are used for their temperature when the heater's own gains are others.
    """
    machine, gains = session.document.machine, _gains(option)
    material = next((name for name, celsius in material_targets(machine, heater).items() if celsius == at_c), None)
    label = f"at-{at_c:g}".replace(".", "-")
    root = f"heaters.{heater}.gains.{label}"
    values: dict[str, Value] = {f"{root}.at_c": at_c, f"{root}.fan": 0.0}
    values.update({f"{root}.{key}": value for key, value in asdict(gains).items()})
    values[f"{root}.used"] = gains != gains_below(f"heaters.{heater}", session.live)
    if material is not None:
        values[f"{root}.material"] = material
    session.draft.set_all(values)
    return label


async def switch_set(session: Session, heater: str, label: str) -> str:
    """Let the board use a set of the machine file near its temperature, or no longer; returns what was done, in words.

    Live where the board has the set, to be saved; else in the draft of the file.

    Raises:
        ValueError: the machine file has no such set. LinkLost, BoardRefused: nothing was changed.
    """
    declared = session.document.machine.heaters[heater].gains.get(label)
    if declared is None:
        raise ValueError(f"“{label}” is no set of the machine file: n on the bench notes chosen gains as one")
    path = f"heaters.{heater}.gains.{label}.used"
    now = session.live(path)
    if now is None:
        session.draft.set_all({path: not declared.used})
        state = "no longer used" if declared.used else "used"
        return f"“{label}” is {state} once the machine file is written (ctrl+s) and on the board"
    effect = f"near {declared.at_c:g} °C"
    await session.keep(Option(label, "", (Proposal(path, now, not now, "", effect),), {}), None)
    return f"“{label}” is {'no longer used' if now else f'used {effect}'}: live, not yet saved"


def _gains(option: Option) -> PidGains:
    kp, ki, kd = (float(option.figures.get(key) or 0.0) for key in ("kp", "ki", "kd"))
    return PidGains(kp, ki, kd)
