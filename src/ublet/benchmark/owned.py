"""Machines as builders own them, drawn from docs/scenario.md alone: nothing here knows what a trial can estimate.

Beds stand on two to four lifts and on three or four screws of which one may be slack or all of them twisted; Z homes at
a speed of its own; hobs bite unevenly; belts, masses and a loose part ring close together or far apart, and guides rub.
"""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

TERN, WREN = "tern-280", "wren-180"

PIVOTS = {
    2: {"left": (-18.0, 130.0), "right": (298.0, 130.0)},
    3: {"left": (-18.0, 30.0), "right": (298.0, 30.0), "back": (140.0, 282.0)},
    4: {"left-front": (-15.0, -10.0), "right-front": (295.0, -10.0)}
    | {"right-back": (295.0, 270.0), "left-back": (-15.0, 270.0)},
}
SCREWS = {
    3: {"left": (14.0, 24.0), "right": (266.0, 24.0), "back": (140.0, 246.0)},
    4: {"left-front": (14.0, 22.0), "right-front": (262.0, 22.0)}
    | {"right-back": (262.0, 240.0), "left-back": (14.0, 240.0)},
}
Z_SOCKETS = ("M3", "M4", "M5", "M7")
WAYS = (("x", "y", "z"), ("y", "z", "x"), ("z", "x", "y"), ("-x", "-y", "z"), ("y", "-x", "z"), ("z", "-x", "-y"))
"""Right-handed ways to mount a sensor: the machine's axes along which its X, Y and Z point."""

LIFT_FAULTS = ("", "ring", "backwards", "exchanged", "")
HOB_FAULTS = ("", "half", "double", "gear", "slips", "blocked", "current", "spool", "")
MOUNT_FAULTS = ("", "", "loose")

Sampler = Callable[[float, float], float]


class Owned:
    """A machine that somebody may own: its scenario's path, which machine it is like, and what is wrong with it.

    leg: what it is for, "level", "extrude" or "shake"; only there is something planted that the leg must name.
    lifts, hob, mount: the fault planted there ("": none). moved: the lifts that are plugged elsewhere or run backwards.
    """

    def __init__(self, folder: Path, number: int, leg: str) -> None:
        import tomlkit

        from ublet.session.library import DATA

        self.number = number
        self._random = np.random.default_rng([number, 2026])
        self.stem = WREN if number % 3 == 2 else TERN
        self.probed = self.stem == TERN
        self.lifts = LIFT_FAULTS[number // 3 % len(LIFT_FAULTS)] if leg == "level" and self.probed else ""
        self.hob = HOB_FAULTS[(number + number // 9) % len(HOB_FAULTS)] if leg == "extrude" else ""
        self.mount = MOUNT_FAULTS[number // 2 % len(MOUNT_FAULTS)] if leg == "shake" else ""
        self.moved: tuple[str, ...] = ()
        self.machine = tomllib.loads((DATA / "machines" / f"{self.stem}.toml").read_text(encoding="utf-8"))
        self.truth = tomllib.loads((DATA / "scenarios" / f"{self.stem}.toml").read_text(encoding="utf-8"))
        for table in ("image", "stored", "fan_plugs"):
            self.truth.pop(table, None)
        (self._tern if self.probed else self._wren)(self._draw)
        self._hob(self._draw)
        self._rings(self._draw)
        name = f"owned-{number}"
        self.truth["scenario"].update(machine_file=f"{name}.machine.toml", ambient_c=self._draw(16, 29))
        (folder / f"{name}.machine.toml").write_text(tomlkit.dumps(self.machine), encoding="utf-8")
        self.path = folder / f"{name}.toml"
        self.path.write_text(tomlkit.dumps(self.truth), encoding="utf-8")

    def _draw(self, low: float, high: float) -> float:
        return round(float(self._random.uniform(low, high)), 5)

    def _pick(self, *values: Any) -> Any:
        return values[int(self._random.integers(len(values)))]

    def _tern(self, draw: Sampler) -> None:
        lifts = 3 if self.lifts in ("ring", "backwards") else self._pick(2, 3, 4)
        screws = self._pick(3, 4)
        kind = self._pick("pin", "inductive")
        machine, truth = self.machine, self.truth
        machine["board"]["model"] = truth["scenario"]["board"] = "rowan-8"
        z, probe = machine["axes"]["z"], machine["probe"]
        z["homing"].pop("preheat_nozzle_c")
        pivots = PIVOTS[lifts]
        common = {"run_a": 0.9, "idle_a": 0.6, "microsteps": 16}
        z["motors"] = {
            name: {"socket": socket, **common, "pivot_x_mm": x, "pivot_y_mm": y}
            for socket, (name, (x, y)) in zip(Z_SOCKETS, pivots.items(), strict=False)
        }
        machine["bed"]["screws"] = {
            name: {"x_mm": x + draw(-6, 6), "y_mm": y + draw(-6, 6), "pitch_mm": self._pick(0.4, 0.5, 0.7)}
            for name, (x, y) in SCREWS[screws].items()
        }
        offset = (self._pick(-1, 1) * draw(16, 44), draw(-22, 22))
        part = probe.pop("part")
        probe.update(
            **{"kind": kind, "offset_x_mm": offset[0], "offset_y_mm": offset[1]},
            **{"approach_mm_s": self._pick(2.0, 3.0, 5.0, 8.0), "samples": self._pick(1, 2, 3)},
            part={"name": part["name"], "offset_x_mm": offset[0] + draw(-1, 1), "offset_y_mm": offset[1] + draw(-1, 1)},
        )
        if kind == "inductive":
            for key in ("servo_socket", "deploy_s", "stow_s"):
                probe.pop(key)
        z["homing"].update(
            **{"over_x_mm": round(140 - offset[0], 2), "over_y_mm": round(130 - offset[1], 2)},
            slow_mm_s=self._pick(1.0, 1.5, 3.0),
        )
        machine["lifts"]["tolerance_mm"] = self._pick(0.01, 0.02, 0.03)
        machine["mesh"].update(
            **{"columns": self._pick(3, 5, 7), "rows": self._pick(3, 5, 7)},
            **{
                "margin_mm": round(max(5.0, *self._beyond(offset)) + draw(1, 12), 1),
                "between": self._pick("bicubic", "bilinear"),
            },
        )
        self._plugged(pivots, draw)
        truth["switches"] = {
            "x": {**_switch("I1", True, "x", "low", -4), "spread_mm": draw(0.002, 0.015)},
            "y": {**_switch("I2", True, "y", "high", 262), "spread_mm": draw(0.002, 0.015)},
            "probe": {**_switch("I3", False, "z", "low", draw(0.8, 2.6)), "spread_mm": draw(0.001, 0.008)},
        }
        probe["offset_z_mm"] = round(-truth["switches"]["probe"]["at_mm"] + draw(-0.2, 0.2), 3)
        truth["probe"] = {
            **{"offset_x_mm": offset[0] + draw(-1.5, 1.5), "offset_y_mm": offset[1] + draw(-1.5, 1.5)},
            **{"delay_s": draw(0, 0.0032), "lean_mm": draw(-3, 3), "drift_mm_k": draw(-0.001, 0.001)},
            **{"shakes_s": draw(0, 0.001), "pin_mm": draw(0, 0.003) if kind == "pin" else 0.0},
            **{"stowed_mm": draw(1.2, 3.0), "warms_s": draw(200, 600)},
            "metal": [self._wave(draw, 0.02)] if kind == "inductive" else [],
        }
        truth["bed"] = {
            **self._plate(draw, machine["bed"]["screws"], 0.5),
            "follows_twist": draw(0.5, 1.0),
            "lifts": {
                name: {
                    **{"off_mm": draw(-1, 1), "play_mm": draw(0.002, 0.02)},
                    **{"pivot_x_mm": x + draw(-4, 4), "pivot_y_mm": y + draw(-4, 4)},
                }
                for name, (x, y) in pivots.items()
            },
        }
        truth["carriages"]["y"].pop("low_mm", None)
        truth["carriages"]["x"]["play_mm"], truth["carriages"]["y"]["play_mm"] = draw(0, 0.03), draw(0, 0.03)

    def _beyond(self, offset: tuple[float, float]) -> list[float]:
        """How much of the bed's width and depth the probe does not reach, at each of its four sides, mm."""
        bed, axes = self.machine["bed"], self.machine["axes"]
        sides = (("x", bed["width_mm"], offset[0]), ("y", bed["depth_mm"], offset[1]))
        lows = [axes[axis]["minimum_mm"] + by for axis, _, by in sides]
        return lows + [size - axes[axis]["maximum_mm"] - by for axis, size, by in sides]

    def _plugged(self, pivots: dict[str, tuple[float, float]], draw: Sampler) -> None:
        """The lifts' motors with what is wrong with them, beside sound motors of X and Y."""
        names = list(pivots)
        roles = list(names)
        if self.lifts == "ring":
            roles = self._pick([names[1], names[2], names[0]], [names[2], names[0], names[1]])
            self.moved = tuple(names)
        if self.lifts == "exchanged":
            one, two = (int(index) for index in self._random.choice(len(names), 2, replace=False))
            roles[one], roles[two] = roles[two], roles[one]
            self.moved = (names[one], names[two])
        lead = 4 * (1 + draw(-0.002, 0.002))
        self.truth["motors"] = {
            "M1": {"role": "x.a", "knee_turns_s": 13, "turn_mm": 40 * (1 + draw(-0.002, 0.002))},
            "M2": {"role": "y.b", "knee_turns_s": 13, "turn_mm": 40 * (1 + draw(-0.002, 0.002))},
            **{
                socket: {"role": f"z.{role}", "turn_mm": lead, "efficiency": 0.4}
                for socket, role in zip(Z_SOCKETS, roles, strict=False)
            },
        }
        if self.lifts == "backwards":
            back = int(self._random.integers(len(names)))
            self.truth["motors"][Z_SOCKETS[back]]["reversed"] = True
            self.moved = (names[back],)

    def _wren(self, draw: Sampler) -> None:
        machine, truth = self.machine, self.truth
        for screw in machine["bed"]["screws"].values():
            screw.update(x_mm=screw["x_mm"] + draw(-5, 5), y_mm=screw["y_mm"] + draw(-5, 5))
            screw["pitch_mm"] = self._pick(0.5, 0.7, 0.8)
        machine["mesh"].update(columns=self._pick(3, 4, 5), rows=self._pick(3, 4, 5))
        truth["switches"]["z"].update(at_mm=draw(-1.5, -0.8), spread_mm=draw(0.002, 0.012))
        truth["bed"] = self._plate(draw, machine["bed"]["screws"], 0.45)
        truth["motors"].pop("MD")

    def _plate(self, draw: Sampler, screws: dict[str, Any], off_mm: float) -> dict[str, Any]:
        """A bowed, wavy plate on screws that stand anyhow; one machine of four has a spring that is hardly pressed."""
        slack = self._pick(*screws) if self._random.uniform() < 0.25 else ""
        return {
            **{"bow_mm": draw(-0.18, 0.18), "bow_mm_k": draw(-0.0002, 0.0038), "rise_mm_k": draw(0, 0.0012)},
            **{"frame_s": draw(250, 1000), "neighbours": draw(0.06, 0.2)},
            "waves": [self._wave(draw, 0.06) for _ in range(self._pick(0, 1, 2))],
            "screws": {
                name: {
                    **{"off_mm": draw(-off_mm, off_mm), "solid_mm": 9},
                    "spring_mm": draw(0.2, 0.6) if name == slack else draw(1.8, 5),
                }
                for name in screws
            },
        }

    def _wave(self, draw: Sampler, most_mm: float) -> dict[str, float]:
        return {
            **{"mm": draw(0, most_mm), "along_x": draw(0.4, 3.3), "along_y": draw(0.4, 3.3)},
            **{"phase_x": draw(-3, 3), "phase_y": draw(-3, 3)},
        }

    def _hob(self, draw: Sampler) -> None:
        """An extruder with what is wrong with it; its steps per mm may be off by 3 % in any case."""
        direct, fault = self.stem == TERN, self.hob
        socket, turn = ("M6", 11.52) if direct else ("MD", 33.3)
        turn *= 1 + draw(-0.03, 0.03)
        turn *= {"gear": 3.0 if direct else 1 / 3}.get(fault, 1.0)
        torque = draw(0.12, 0.2) * (1 if direct else 2) * (3 if fault == "gear" and direct else 1)
        resistance = draw(6, 11)
        if fault == "current":
            torque *= 0.25 if direct else 0.7
            self.truth["stored"] = {"extruder": {"motor": {"run_a": 0.12 if direct else 0.1}}}
        self.truth["motors"][socket] = {
            **{"role": "extruder", "turn_mm": round(turn, 4), "torque_nm_a": round(torque, 5), "least_a": 0.05},
            "microsteps": {"half": 32, "double": 8}.get(fault, 0),
        }
        self.truth["extruder"] = {
            "grip_n": draw(1.0, 1.15) * resistance if fault == "slips" else draw(42, 70),
            "slip_power": draw(5, 7) if fault == "slips" else draw(2.5, 4),
            **{"bite_share": draw(0.0005, 0.004), "resistance_n": resistance, "thinning": draw(0.4, 0.65)},
            **{"softens_share_k": draw(0.008, 0.016), "melts_mm_s": draw(6, 9), "spring_n_mm": draw(8, 50)},
            "blocked": draw(30, 60) if fault == "blocked" else 0.0,
            "spool_mm": draw(280, 560) if fault == "spool" else 50_000.0,
        }

    def _rings(self, draw: Sampler) -> None:
        """Masses, belts and a loose part: on every other machine that part shakes near the head's own frequency."""
        corexy = self.stem == TERN
        masses = {"x": draw(0.3, 0.8), "y": draw(0.5, 1.3)}
        hz = {"x": draw(28, 75), "y": draw(26, 65)}
        tensions = {axis: (2 * np.pi * hz[axis]) ** 2 * masses[axis] / 1000 for axis in "xy"}
        if corexy:
            tensions["x"] = (tensions["x"] + tensions["y"]) / 4
            tensions["y"] = tensions["x"] * draw(0.75, 1.3)
        for axis in "xy":
            self.truth["carriages"].setdefault(axis, {})["mass_kg"] = masses[axis]
        near = hz["x"] * (1 + self._pick(-1, 1) * draw(0.03, 0.14))
        self.truth["frame"] = {
            **{"belt_x_n_mm": round(float(tensions["x"]), 4), "belt_y_n_mm": round(float(tensions["y"]), 4)},
            **{"guide_x": draw(0.025, 0.1), "guide_y": draw(0.025, 0.1), "nearer": draw(0.05, 0.2)},
            **{"base_kg": draw(14, 36) if corexy else draw(6, 30), "feet_hz": draw(5, 14)},
            **{"feet_damping": draw(0.05, 0.15), "part_kg": self._pick(0.0, draw(0.015, 0.05))},
            **{"part_hz": self._pick(round(float(near), 3), draw(70, 110)), "part_damping": draw(0.02, 0.08)},
            **{"slip_n": draw(0, 0.25), "slip_mm_s": draw(18, 32)},
        }
        reads = self._pick(*WAYS)
        self.truth["accelerometer"] = {
            **dict(zip(("reads_x", "reads_y", "reads_z"), reads, strict=True)),
            **{"noise_m_s2": draw(0.08, 0.3), "clock_error": draw(-0.015, 0.015), "lean_deg": draw(-5, 5)},
            **{f"offset_{axis}_m_s2": draw(-0.4, 0.4) for axis in "xyz"},
            **{"overflows_s": self._pick(0.0, draw(0, 0.5)), "cable_share": self._pick(0.0, draw(0, 0.008))},
            "loose": draw(0.4, 0.9) if self.mount == "loose" else 0.0,
        }


def _switch(socket: str, closed: bool, axis: str, side: str, at_mm: float) -> dict[str, Any]:
    return {"socket": socket, "normally_closed": closed, "axis": axis, "side": side, "at_mm": at_mm}
