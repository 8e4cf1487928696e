"""The whole route in one run: here its beginning on both demonstrations; `ublet bench --part route` walks all of it."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from typer.testing import CliRunner

from ublet.cli import app
from ublet.session.commissioning import commission
from ublet.session.library import DEMOS, scenario_named, scenario_path
from ublet.world.frame import Ring
from ublet.world.heat import Plant
from ublet.world.quality import Warmth, residual


@pytest.mark.parametrize("kind", DEMOS)
def test_the_beginning_is_walked_mended_and_named_beside_the_truth(kind: str, tmp_path: Path) -> None:
    phases: list[tuple[str, float]] = []
    machine = tmp_path / f"{DEMOS[kind]}.toml"
    report = commission(
        scenario_path(DEMOS[kind]), 1, lambda p: phases.append((p.phase, p.fraction)), machine, until="travel limits"
    )
    assert report["outcome"] == "failed" and "travel limits" in {words.partition(":")[0] for words in report["open"]}
    rows = {row["trial"]: row for row in report["stations"]}
    assert [row["outcome"] for row in report["stations"]] == ["proven"] * len(rows)
    assert list(rows)[:2] == ["inputs-by-hand", "heaters-paired"] and list(rows)[-1] == "homing"
    spread = next(finding for finding in rows["homing"]["findings"] if finding["id"] == "spread.x")
    assert spread["truth"] > 0 and math.isclose(spread["error"], spread["value"] - spread["truth"])
    assert set(spread) == {"id", "subject", "value", "uncertainty", "unit", "truth", "error"}
    mended = {change["setting"] for change in report["mended"] if "setting" in change}
    planted = {"endstops.x.socket", "fans.board.socket", "axes.y.motors.b.reversed"}
    assert planted <= mended if kind == "tern" else mended == set()
    assert set(report["quality"]) >= {"gap_p95_mm", "residual_x", "extrusion_error", "hotend_overshoot_c"}
    assert phases[0][0] == "write to board" and all(0 <= fraction <= 1 for _, fraction in phases)
    assert machine.with_suffix(".ledger").exists() and report["machine_s"] > 60
    again = commission(scenario_path(DEMOS[kind]), 1, lambda p: None, until="travel limits")
    assert _without_times(again) == _without_times(report), "deterministic for a seed"


@pytest.mark.parametrize("name", ["heron", "crane"])
def test_machines_that_no_demonstration_shows_are_walked_too(name: str) -> None:
    """`ublet commission --scenario NAME` walks all of their route."""
    scenario = scenario_named(name)
    assert scenario is not None and scenario_named(scenario.stem) == scenario and scenario_named("hero") is None
    report = commission(scenario, 2, lambda p: None, until="homing")
    rows = {row["trial"]: row["outcome"] for row in report["stations"]}
    assert set(rows.values()) == {"proven"} and "directions" in rows
    mended = {change.get("setting") for change in report["mended"]}
    assert ("axes.y.motors.y.reversed" in mended) == (name == "heron")
    assert ("fans.part.socket" in mended) == (name == "crane")


def _without_times(report: dict[str, Any]) -> Any:
    return json.loads(json.dumps({key: value for key, value in report.items() if key != "wall_s"}))


def test_the_command_prints_what_was_found_and_ends_with_its_code(tmp_path: Path) -> None:
    runner = CliRunner()
    out = tmp_path / "report.txt"
    words = ["commission", "--scenario", "wren", "--until", "fans", "--machine", str(tmp_path / "w.toml")]
    done = runner.invoke(app, [*words, "--report", str(out)])
    assert done.exit_code == 1 and "Wren 180: failed" in done.stdout and "inputs by hand" in done.stdout
    assert "● inputs by hand" in out.read_text(encoding="utf-8")
    again = runner.invoke(app, words)
    assert again.exit_code == 2 and "is there: name another --machine" in again.stderr
    for wrong, said in ((["--until", "fnas"], "no such station"), (["--report", "x.doc"], ".pdf, .svg, .txt or .json")):
        refused = runner.invoke(app, ["commission", "--scenario", "wren", *wrong])
        assert refused.exit_code == 2 and said in refused.stderr
    assert runner.invoke(app, ["commission"]).exit_code == 2


def test_what_rings_on_behind_a_step_is_the_share_that_its_impulses_leave() -> None:
    ring = Ring(40.0, 0.0, 1.0)
    assert residual([ring], [(0.0, 1.0)]) == pytest.approx(1.0)
    assert residual([ring], [(0.0, 0.5), (1 / 80, 0.5)]) == pytest.approx(0.0, abs=1e-9), "half a period apart"
    both = [ring, Ring(80.0, 0.0, 1.0)]
    assert residual(both, [(0.0, 0.5), (1 / 80, 0.5)]) == pytest.approx(0.5), "a whole period of the other one"
    assert residual([], [(0.0, 1.0)]) is None


class StandIn:
    """A world with one block, whose warmth is given."""

    def __init__(self) -> None:
        self.time_s = 0.0
        self.plants = {"hotend": Plant.__new__(Plant)}


def test_overshoot_and_ripple_are_those_of_the_block() -> None:
    world = StandIn()
    warmth = Warmth(world, {"hotend": "hotend"})  # type: ignore[arg-type]
    for second in range(400):
        world.time_s = float(second)
        settled = 200 + 3 * math.exp(-((second - 60) ** 2) / 200) if second > 50 else 20 + 3.6 * second
        world.plants["hotend"].block_c = settled + (0.2 * np.sin(second) if second > 200 else 0.0)
        warmth.look({"hotend": 200.0})
    assert warmth.overshoot_c("hotend") == pytest.approx(3.0, abs=0.05)
    assert warmth.ripple_c("hotend") == pytest.approx(0.2, abs=0.01)
    assert warmth.overshoot_c("bed") is None and warmth.ripple_c("bed") is None
