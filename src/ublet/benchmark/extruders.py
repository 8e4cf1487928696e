"""Extruders made up at random, with causes planted in them: whether those are named, and whether figures hold."""

from __future__ import annotations

import re
import shutil
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

BASES = ("tern-280", "wren-180")

NAMED = {
    "sound": "",
    "half": "microsteps",
    "double": "microsteps",
    "gear": "gear",
    "slips": "slips when pushed fast",
    "blocked": "partly blocked",
    "current": "too little current",
    "spool": "load more",
}
"""What is planted, and the words by which the trial must name it. A sound one may have steps per mm that are off."""

EVERY_SOUND = 3
"""Every third machine has nothing planted."""


def planted_in(number: int) -> str:
    """What is planted in a machine."""
    faults = list(NAMED)[1:]
    return "sound" if number % EVERY_SOUND == 0 else faults[(number - number // EVERY_SOUND - 1) % len(faults)]


def made_up_extruder(folder: Path, number: int) -> tuple[Path, str]:
    """The scenario of an extruder of its own on one of the demonstration's machines; and what is planted in it."""
    from ublet.session.library import DATA

    base, planted = BASES[number // 2 % 2], planted_in(number)
    random = np.random.default_rng([number, 5])
    shutil.copytree(DATA / "machines", folder / "machines", dirs_exist_ok=True)
    (folder / "scenarios").mkdir(parents=True, exist_ok=True)
    text = (DATA / "scenarios" / f"{base}.toml").read_text(encoding="utf-8")
    socket, turn = ("M6", 11.52) if base == "tern-280" else ("MD", 33.3)
    text = re.sub(rf"\[motors\.{socket}\].*?(?=\n\[|\Z)", "", text, flags=re.DOTALL)
    text = re.sub(r"\[extruder\].*?(?=\n\[|\Z)", "", text, flags=re.DOTALL)
    turn *= 1 + random.uniform(-0.03, 0.03)
    turn *= {"gear": 3.0 if base == "tern-280" else 1 / 3}.get(planted, 1.0)
    micro = {"half": 32, "double": 8}.get(planted, 0)
    torque = random.uniform(0.12, 0.2) * (1.0 if base == "tern-280" else 2.0)
    torque *= 3.0 if planted == "gear" and base == "tern-280" else 1.0
    resistance = random.uniform(6.0, 11.0)
    grip = random.uniform(1.0, 1.15) * resistance if planted == "slips" else random.uniform(45.0, 70.0)
    extruder = {
        "grip_n": grip,
        "slip_power": random.uniform(2.5, 4.0) if planted != "slips" else random.uniform(5.0, 7.0),
        "bite_share": random.uniform(0.0005, 0.003),
        "resistance_n": resistance,
        "thinning": random.uniform(0.4, 0.65),
        "softens_share_k": random.uniform(0.008, 0.016),
        "melts_mm_s": random.uniform(6.0, 9.0),
        "blocked": random.uniform(30.0, 60.0) if planted == "blocked" else 0.0,
        "spring_n_mm": random.uniform(8.0, 50.0),
        "spool_mm": random.uniform(280.0, 560.0) if planted == "spool" else 50_000.0,
    }
    text += f'\n[motors.{socket}]\nrole = "extruder"\nturn_mm = {turn:.4f}\nmicrosteps = {micro}\n'
    text += f"torque_nm_a = {torque:.4f}\nleast_a = 0.05\n\n[extruder]\n"
    text += "".join(f"{key} = {value:.5g}\n" for key, value in extruder.items())
    if planted == "current":
        gear_mm = "0.1" if base == "wren-180" else "0.12"
        text = text.replace(
            f"torque_nm_a = {torque:.4f}", f"torque_nm_a = {torque * (0.25 if base == 'tern-280' else 0.7):.4f}"
        )
        text += f"\n[stored.extruder.motor]\nrun_a = {gear_mm}\n"
    path = folder / "scenarios" / f"extruder-{number}.toml"
    path.write_text(text, encoding="utf-8")
    return path, planted


def extruders(machines: int) -> dict[str, Any]:
    """Each machine's trial, without a mend: what is planted must be named, and nothing else; truths within 2u."""
    from ublet.session.headless import run_on_scenario
    from ublet.session.orders import order_for

    inside: dict[str, list[bool]] = {}
    unnamed, invented = [], []
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        for number in range(machines):
            scenario, planted = made_up_extruder(Path(name), number)
            order = order_for("extruder-steps", [], keep=False, save=False)
            report = run_on_scenario(order, scenario, None, number, lambda progress: None).report
            why = report["why"]
            if NAMED[planted] not in why:
                unnamed.append(f"{number} {planted}: {why}")
            others = {words for words in NAMED.values() if words} - {NAMED[planted]}
            invented += [f"{number} {planted}: {why}" for words in others if words in why]
            for finding in report["findings"]:
                true = report["truth"].get(finding["id"])
                if true is not None and finding["uncertainty"]:
                    inside.setdefault(finding["id"], []).append(
                        abs(finding["value"] - true) <= 2 * finding["uncertainty"]
                    )
    return {
        "machines": machines,
        "unnamed": unnamed,
        "invented": invented,
        "within_2u": {
            of_finding: {"share": round(float(np.mean(hits)), 3), "of": len(hits)}
            for of_finding, hits in inside.items()
        },
        "limits": [0.9, 0.99],
    }
