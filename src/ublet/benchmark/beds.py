"""Levelling on machines made up at random: how near each trial of the leg Level comes, and whether its claims cover."""

from __future__ import annotations

import tempfile
import tomllib
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

PIVOTS: Mapping[int, dict[str, tuple[float, float]]] = {
    2: {"left": (-18, 130), "right": (298, 130)},
    3: {"left": (-18, 30), "right": (298, 30), "back": (140, 282)},
    4: {"left-front": (-15, -10), "right-front": (295, -10), "right-back": (295, 270), "left-back": (-15, 270)},
}
SCREWS = {"left-front": (20, 20), "right-front": (260, 20), "right-back": (260, 240), "left-back": (20, 240)}
MOTORS = ("M3", "M4", "M5", "M7")
EXCHANGED = 4
"""One machine of so many has two lifts on each other's drivers."""

KINDS = ("pin", "inductive")
HALF = 0.5


def made_up(folder: Path, seed: int, lifts: int, kind: str = "") -> tuple[Path, tuple[str, str] | None]:
    """The scenario of a made-up machine, and the two lifts that are exchanged on it (None: none are). kind: of its
    probe; empty: a pin or an inductive one in turn.

    Its physics comes from the world's own parameters, drawn here, and from nothing that a trial computes.
    """
    import tomlkit

    from ublet.session.library import DATA

    random = np.random.default_rng([seed, lifts])

    def uniform(low: float, high: float) -> float:
        return round(float(random.uniform(low, high)), 5)

    machine = tomllib.loads((DATA / "machines" / "tern-280.toml").read_text(encoding="utf-8"))
    truth = tomllib.loads((DATA / "scenarios" / "tern-280.toml").read_text(encoding="utf-8"))
    pivots, kind = PIVOTS[lifts], kind or KINDS[seed % len(KINDS)]
    names = tuple(pivots)
    machine["board"]["model"] = truth["scenario"]["board"] = "rowan-8"
    z = machine["axes"]["z"]
    z["homing"].pop("preheat_nozzle_c")
    z["motors"] = {
        name: {"socket": socket, "microsteps": 16, "pivot_x_mm": float(x), "pivot_y_mm": float(y)}
        for socket, (name, (x, y)) in zip(MOTORS, pivots.items(), strict=False)
    }
    machine["bed"]["screws"] = {name: {"x_mm": x, "y_mm": y, "pitch_mm": 0.6} for name, (x, y) in SCREWS.items()}
    machine["lifts"]["tolerance_mm"] = 0.01
    machine["probe"].pop("part")
    machine["probe"].update(kind=kind, offset_x_mm=uniform(-40, -10), offset_y_mm=uniform(-25, 25))
    z["homing"].update(over_x_mm=140 - machine["probe"]["offset_x_mm"], over_y_mm=130 - machine["probe"]["offset_y_mm"])
    if kind != "pin":
        machine["probe"].pop("servo_socket")
    for table in ("image", "stored", "fan_plugs", "motors", "accelerometer"):
        truth.pop(table, None)
    exchanged = None
    roles = dict(zip(names, names, strict=True))
    if seed % EXCHANGED == EXCHANGED - 1:
        one, two = (str(name) for name in random.choice(names, 2, replace=False))
        roles[one], roles[two] = two, one
        exchanged = (one, two)
    truth["motors"] = {
        socket: {"role": f"z.{roles[name]}", "turn_mm": 4.0, "efficiency": 0.4}
        for socket, name in zip(MOTORS, names, strict=False)
    }
    truth["switches"] = {
        "x": {"socket": "I1", "normally_closed": True, "axis": "x", "side": "low", "at_mm": -4},
        "y": {"socket": "I2", "normally_closed": True, "axis": "y", "side": "high", "at_mm": 262},
        "probe": {
            **{"socket": "I3", "normally_closed": False, "axis": "z", "side": "low"},
            **{"at_mm": uniform(1.0, 2.5), "spread_mm": uniform(0.002, 0.008)},
        },
    }
    if kind == "nozzle":
        _by_hand(machine, truth, uniform)
    truth["carriages"] = {"x": {"play_mm": 0.02}, "y": {"play_mm": 0.02}, "z": {"mass_kg": 3.0, "weight_n": 26.0}}
    truth["bed"] = _bed(uniform, pivots)
    truth["probe"] = {
        "offset_x_mm": machine["probe"]["offset_x_mm"] + uniform(-2, 2),
        "offset_y_mm": machine["probe"]["offset_y_mm"] + uniform(-2, 2),
        **{"shakes_s": uniform(0, 0.001), "pin_mm": uniform(0, 0.003)},
        **{"delay_s": uniform(0, 0.003), "lean_mm": uniform(0, 3), "drift_mm_k": uniform(0, 0.001)},
        "metal": [{"mm": uniform(0, 0.02), "along_x": uniform(1, 4), "along_y": uniform(1, 4)}] * (kind == "inductive"),
    }
    if kind == "coil":
        machine["probe"]["coil"] = {"drive_ma": 0.4}
        truth["switches"]["probe"]["spread_mm"] = uniform(0.0005, 0.002)
        truth["probe"].update(shakes_s=uniform(0, 0.0004), pin_mm=0.0, lean_mm=0.0)
        truth["coil"] = _coil(uniform)
    truth["nozzle"] = {"grows_mm_k": uniform(0.0001, 0.0006), "drop_mm": uniform(0, 0.1)}
    truth["scenario"]["machine_file"] = f"bed-{lifts}-{seed}.toml"
    (folder / f"bed-{lifts}-{seed}.toml").write_text(tomlkit.dumps(machine), encoding="utf-8")
    path = folder / f"truth-{lifts}-{seed}.toml"
    path.write_text(tomlkit.dumps(truth), encoding="utf-8")
    return path, exchanged


def _bed(uniform: Callable[[float, float], float], pivots: Mapping[str, tuple[float, float]]) -> dict[str, Any]:
    waves = [
        {
            **{"mm": uniform(0, 0.05), "along_x": uniform(0.5, 3), "along_y": uniform(0.5, 3)},
            **{"phase_x": uniform(0, 6), "phase_y": uniform(0, 6)},
        }
        for _ in range(3)
    ]
    return {
        **{"bow_mm": uniform(-0.15, 0.15), "bow_mm_k": uniform(0, 0.003), "rise_mm_k": uniform(0, 0.001)},
        **{"neighbours": uniform(0.05, 0.2), "follows_twist": uniform(0.6, 1.0), "waves": waves},
        "lifts": {
            name: {
                **{"off_mm": uniform(-0.9, 0.9), "play_mm": uniform(0, 0.01)},
                **{"pivot_x_mm": x + uniform(-3, 3), "pivot_y_mm": y + uniform(-3, 3)},
            }
            for name, (x, y) in pivots.items()
        },
        "screws": {name: {"off_mm": uniform(-0.5, 0.5), "spring_mm": 4.0} for name in SCREWS},
    }


def _coil(uniform: Callable[[float, float], float]) -> dict[str, Any]:
    outer = uniform(5.5, 9)
    return {
        **{"inner_mm": uniform(1.5, 3.5), "outer_mm": outer, "turns": int(uniform(8, 15))},
        **{"circuit_pf": round(3000 * (8 / outer) * uniform(0.8, 1.1), 1), "mirror": uniform(0.2, 0.4)},
        **{"skin_mm": uniform(0.03, 0.15), "copper_ppm_k": uniform(5, 40), "circuit_ppm_k": uniform(-120, 120)},
        **{"circuit_ppm_k2": uniform(-0.6, 0.6), "grows_mm_k": uniform(0, 0.0008), "loud_v_ma": uniform(1.2, 4)},
        **{"lossy": uniform(0.8, 1.8), "noise_hz": uniform(20, 80), "late_s": uniform(0.001, 0.006)},
        **{"hangs_mm": uniform(0.8, 2.2), "warms_share": uniform(0.35, 0.55), "warms_s": uniform(150, 300)},
    }


def _by_hand(machine: dict[str, Any], truth: dict[str, Any], uniform: Callable[[float, float], float]) -> None:
    """No probe: Z homes to an endstop, and the nozzle is lowered by hand."""
    machine["probe"] = {"kind": "nozzle", "offset_x_mm": 0.0, "offset_y_mm": 0.0, "gauge_mm": 0.1}
    homing = machine["axes"]["z"]["homing"]
    homing.update(end="low", endstop="z")
    for key in ("over_x_mm", "over_y_mm"):
        homing.pop(key, None)
    machine["endstops"]["z"] = {"socket": "I3", "normally_closed": False}
    truth["switches"].pop("probe")
    truth["switches"]["z"] = {
        **{"socket": "I3", "normally_closed": False, "axis": "z", "side": "low"},
        **{"at_mm": uniform(-2.0, -1.2), "spread_mm": uniform(0.002, 0.01)},
    }


def beds(machines: int, kinds: tuple[int, ...] = (2, 3, 4)) -> dict[str, Any]:
    """Every trial of the leg on so many machines with 2, 3 and 4 lifts each; the truth is asked when each has ended."""
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        return {f"{lifts} lifts": _of_kind(Path(name), machines, lifts) for lifts in kinds}


def without_probe(machines: int) -> dict[str, Any]:
    """The leg by hand on so many machines that have no probe: lifts by the rule, corners and Z offset by the gauge."""
    tally = Tally()
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        for seed in range(machines):
            scenario, _ = made_up(Path(name), seed, 2 + seed % 3, "nozzle")
            by_rule = run_made_up("lead-screws-by-hand", [], scenario, seed)
            tally.take("lead screws by hand", by_rule, ("gaps_differ",), "gaps_differ", 1.5)
            tally.take("bed corners by hand", run_made_up("bed-corners-by-hand", [], scenario, seed), (), "", 0.0)
            tally.take("Z offset", run_made_up("z-offset", ["nozzle_c=205"], scenario, seed), ("offset",), "", 0.015)
    return {"machines": machines, **tally.report()}


def _of_kind(folder: Path, machines: int, lifts: int) -> dict[str, Any]:
    tally = Tally()
    exchanged = named = 0
    quick: list[float] = []
    wider: list[float] = []
    for seed in range(machines):
        scenario, pair = made_up(folder, seed, lifts)
        level = run_made_up("lead-screws", [], scenario, seed, keep=True)
        if pair is not None:
            exchanged += 1
            named += _names(level, pair)
        probed(tally, scenario, seed, level, quick, wider)
    halved = round(float(np.mean(np.array(quick) <= HALF)), 3) if quick else None
    return {
        **{"machines": machines, "exchanged": exchanged, "exchanged_named": named, "time_halved": halved},
        **{"spread_ratio_median": round(float(np.median(wider)), 2) if wider else None, **tally.report()},
    }


def probed(
    tally: Tally, scenario: Path, seed: int, level: dict[str, Any], quick: list[float], wider: list[float]
) -> None:
    """Every trial of a machine with a probe, taken into the tally; level: the report of its lead screws."""
    last, kind = level.get("verify", level), "coil" if "[coil]" in scenario.read_text(encoding="utf-8") else ""
    kind = kind or KINDS[seed % len(KINDS)]
    tally.take(f"lead screws by {kind}", last, ("height", "range"), "range", 0.02)
    corners = run_made_up("bed-corners", [], scenario, seed)
    tally.take("bed corners", corners, ("rise_x", "rise_y"), "tilt", 0.03)
    height = run_made_up("probe-height", [], scenario, seed)
    tally.take("probe height", height, ("trigger", "clears"), "", 0.0)
    place = run_made_up("probe-place", [], scenario, seed)
    tally.take("probe place", place, ("probe_x", "probe_y"), "", 0.2)
    tally.take("Z offset", run_made_up("z-offset", ["nozzle_c=205"], scenario, seed), ("offset",), "", 0.015)
    tally.take("probe spread", run_made_up("probe-spread", [], scenario, seed), ("deviation",), "", 0.0)
    speed = run_made_up("probe-speed", [], scenario, seed)
    tally.take("probing speed", speed, (), "", 0.0)
    values = {finding["id"]: finding["value"] for finding in speed["findings"]}
    if speed["outcome"] == "proven":
        quick.append(values["time"] / values["time_slow"])
        wider.append(values["deviation"] / values["deviation_slow"])


def _names(report: Mapping[str, Any], pair: tuple[str, str]) -> bool:
    """Whether a run named the two lifts that are exchanged, or (of two) found no more than that either could be."""
    return all(name in str(report["why"]) for name in pair) and "verify" in report


def run_made_up(trial: str, sets: list[str], scenario: Path, seed: int, keep: bool = False) -> dict[str, Any]:
    """A trial on a made-up machine, answered by its scripted builder."""
    from ublet.session.headless import run_on_scenario
    from ublet.session.orders import order_for

    order = order_for(trial, sets, keep=keep, save=False)
    return run_on_scenario(order, scenario, None, seed, lambda progress: None).report


class Tally:
    """Counts, by trial: proven, claims that cover the truth, errors against a limit, rounds."""

    def __init__(self) -> None:
        self._of: dict[str, dict[str, list[float]]] = {}
        self.failed: list[str] = []

    def take(self, name: str, report: Mapping[str, Any], words: tuple[str, ...], settled: str, limit: float) -> None:
        """A run. words: findings that must cover; settled: the finding whose truth must end within the limit; without
        it every one of words must be as near to its truth.
        """
        mine = self._of.setdefault(name, {"proven": [], "covered": [], "within": [], "rounds": [], "error": []})
        mine["proven"].append(report["outcome"] == "proven")
        if report["outcome"] != "proven":
            self.failed.append(f"{name}: {report['why']}")
            return
        truth = report.get("truth", {})
        for finding in report["findings"]:
            what, id = finding["id"].partition(".")[0], finding["id"]
            if what == "rounds":
                mine["rounds"].append(finding["value"])
            if id not in truth:
                continue
            error = abs(finding["value"] - truth[id])
            if what in words and finding["uncertainty"]:
                mine["covered"].append(error <= 2 * finding["uncertainty"])
                mine["error"].append(error)
                if not settled and limit:
                    mine["within"].append(error <= limit)
            if what == settled:
                mine["within"].append(abs(truth[id]) <= limit)

    def report(self) -> dict[str, Any]:
        """By trial: shares, most rounds, and the 95th percentile of the errors."""
        figures: dict[str, Any] = {}
        for name, mine in self._of.items():
            figures[name] = {
                "proven": round(float(np.mean(mine["proven"])), 3),
                "covered": round(float(np.mean(mine["covered"])), 3) if mine["covered"] else None,
                "within_limit": round(float(np.mean(mine["within"])), 3) if mine["within"] else None,
                "error_p95": round(float(np.percentile(mine["error"], 95)), 4) if mine["error"] else None,
                "most_rounds": max(mine["rounds"], default=None),
                "claims": len(mine["covered"]),
            }
        return {**figures, "failed": self.failed}
