"""A made-up CoreXY is what its seed says, and its limits hold where one motor carries everything."""

from __future__ import annotations

from pathlib import Path

from ublet.benchmark.diagonals import corexy, one_machine
from ublet.world.scenario import load_scenario


def test_a_made_up_corexy_comes_back_by_its_seed_and_its_limits_hold_on_the_diagonals(tmp_path: Path) -> None:
    path, again, other = corexy(tmp_path, 4), corexy(tmp_path / "again", 4), corexy(tmp_path, 5)
    assert path.read_text(encoding="utf-8") == again.read_text(encoding="utf-8") != other.read_text(encoding="utf-8")
    motors = load_scenario(path).motors
    assert motors["M1"].torque_nm_a != motors["M2"].torque_nm_a and not motors["M2"].reversed
    spare, error, why = one_machine(path, 4)
    assert why == "" and spare > 0 and (error is None or abs(error) < 0.15)
