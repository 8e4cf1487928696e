"""Limits of a CoreXY, over machines made up at random: whether they hold on both diagonals, and how near they come."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from ublet.benchmark.wired import FAULTS


def corexy(folder: Path, seed: int) -> Path:
    """The scenario of a made-up CoreXY: other masses, frictions, motors and currents' torque; its wiring is right."""
    from ublet.session.library import DATA

    random = np.random.default_rng(seed)
    shutil.copytree(DATA / "machines", folder / "machines", dirs_exist_ok=True)
    (folder / "scenarios").mkdir(parents=True, exist_ok=True)
    text = (DATA / "scenarios" / "tern-280.toml").read_text(encoding="utf-8")
    for fault, mended in FAULTS:
        text = text.replace(fault, mended)
    for motor in ("M1", "M2"):
        drawn = f"knee_turns_s = {random.uniform(8, 16):.2f}\ntorque_nm_a = {random.uniform(0.08, 0.16):.4f}\n"
        head, tail = text.split(f"[motors.{motor}]\n")
        text = f"{head}[motors.{motor}]\n{drawn}{tail.replace('knee_turns_s = 13', '', 1)}"
    for accelerations, low, high in (("0.42", 0.25, 0.7), ("0.78", 0.5, 1.2)):
        text = text.replace(f"mass_kg = {accelerations}", f"mass_kg = {random.uniform(low, high):.3f}")
    for forces, low, high in (("3.2", 1.5, 5.0), ("4.1", 2.0, 6.0)):
        text = text.replace(f"friction_n = {forces}", f"friction_n = {random.uniform(low, high):.2f}")
    path = folder / "scenarios" / f"corexy-{seed}.toml"
    path.write_text(text, encoding="utf-8")
    return path


def diagonals(machines: int) -> dict[str, Any]:
    """Each machine's limits found and kept, and found again; then the truth is asked.

    slips: machines of which a motor slips on a diagonal at the limits that are live at the end. off: by how much the
    found feed limit is off the true one (share), for those that have one within what was tried.
    """
    slips, off, failed = [], [], []
    with tempfile.TemporaryDirectory(prefix="ublet-bench-") as name:
        for seed in range(machines):
            scenario = corexy(Path(name), seed)
            spare, error, why = one_machine(scenario, seed)
            if why:
                failed.append(f"{seed}: {why}")
                continue
            if spare < 0:
                slips.append(seed)
            if error is not None:
                off.append(abs(error))
    return {
        "machines": machines,
        "slip_at_their_limits": slips,
        "failed": failed,
        "off_median": round(float(np.median(off)), 3) if off else None,
        "off_most": round(max(off), 3) if off else None,
        "limit_off": 0.15,
        "with_a_limit": len(off),
    }


def one_machine(scenario: Path, seed: int) -> tuple[float, float | None, str]:
    """The force, N, that is left on the worst diagonal at the limits that a trial keeps; the feed limit's relative
    error; and why there is neither.
    """
    from ublet.core.motion.counting import loss_directions
    from ublet.session.document import Document
    from ublet.session.headless import run_on_scenario
    from ublet.session.orders import order_for
    from ublet.world.assembly import assemble
    from ublet.world.scenario import load_scenario

    order = order_for("speed-limits", ["axis=x"], keep=True, save=False)
    report = run_on_scenario(order, scenario, None, seed, lambda progress: None).report
    truth = load_scenario(scenario)
    machine = Document(scenario.parent / truth.scenario.machine_file).machine
    declared = {axis: getattr(machine.axes, axis) for axis in ("x", "y")}
    live = {
        f"axes.{axis}.{key}": float(getattr(declared[axis], key))
        for axis in declared
        for key in ("maximum_feed_mm_s", "acceleration_mm_s2")
    }
    last = report.get("verify", report)
    for part in (report, last) if last is not report else (report,):
        if part.get("kept") or part is report:
            live.update({proposal["setting"]: proposal["after"] for proposal in part["proposals"]})
    if last["outcome"] != "proven":
        return 0.0, None, last["why"]
    mechanics = assemble(truth, machine)
    amps = min(motor.run_a for axis in declared.values() for motor in axis.motors.values())
    spare = min(
        mechanics.spare_n(
            {axis: way * live[f"axes.{axis}.maximum_feed_mm_s"] for axis, way in ways.items()},
            {axis: live[f"axes.{axis}.acceleration_mm_s2"] for axis in ways},
            amps,
        )
        for ways in loss_directions(machine, ("x", "y"))
    )
    limit = next((finding["value"] for finding in report["findings"] if finding["id"] == "feed_limit.x"), None)
    true = report["truth"].get("feed_limit.x")
    return spare, None if limit is None or not true else limit / true - 1, ""
