"""Touches from a table: scatter, drift, outliers, and which speed is good enough."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from typer.testing import CliRunner

from ublet.cli import app
from ublet.core.level.scatter import analyse_touches
from ublet.core.recorded import RecordError
from ublet.session.analysing import analyse_file


def written(path: Path, heights: np.ndarray, speeds: np.ndarray | None = None) -> Path:
    rows = heights[:, None] if speeds is None else np.column_stack([heights, speeds])
    header = "z_mm" if speeds is None else "z_mm,speed_mm_s"
    np.savetxt(path, rows, delimiter=",", header=header, comments="")
    return path


def test_one_place_is_told_as_in_the_contract(tmp_path: Path) -> None:
    heights = np.random.default_rng(1).normal(1.5, 0.006, 30) + 0.002 * np.arange(30)
    heights[11] += 0.3
    done = CliRunner().invoke(app, ["analyse", "touches", str(written(tmp_path / "t.csv", heights)), "--json"])
    assert done.exit_code == 0
    report = json.loads(done.stdout)
    assert report["count"] == 30 and report["outliers"] == [11] and report["speeds"] == []
    assert report["deviation_mm"] == pytest.approx(0.006, abs=2 * report["deviation_u_mm"])
    assert report["drift_mm_per_touch"] == pytest.approx(0.002, abs=2 * report["drift_u_mm_per_touch"])
    assert report["recommended_speed_mm_s"] is None and report["range_mm"] < 0.1


def test_the_fastest_speed_that_is_not_worse_is_recommended(tmp_path: Path) -> None:
    random = np.random.default_rng(4)
    speeds = np.repeat([2.0, 5.0, 10.0, 20.0], 25)
    heights = random.normal(0.0, np.repeat([0.005, 0.005, 0.006, 0.03], 25))
    report, draw = analyse_file("touches", written(tmp_path / "t.csv", heights, speeds))
    assert report["recommended_speed_mm_s"] == 10.0 and report["deviation_mm"] is None
    assert [each["count"] for each in report["speeds"]] == [25] * 4
    draw(tmp_path / "t.svg")
    assert (tmp_path / "t.svg").stat().st_size > 1000
    plain = CliRunner().invoke(app, ["analyse", "touches", str(tmp_path / "t.csv")])
    assert "at 10 mm/s" in plain.stdout and "25 touches" in plain.stdout


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("z_mm\n1.0\n1.1\n", "at least three are needed"),
        ("height\n1.0\n1.1\n1.2\n", "z_mm missing"),
        ("z_mm,speed_mm_s\n1,0\n1,0\n1,0\n", "not above 0"),
        ("z_mm,speed_mm_s\n1,2\n1,2\n1,2\n1,9\n", "at 9 mm/s"),
        ("z_mm\n1.0\nbent\n1.2\n", "a number is needed"),
    ],
)
def test_a_table_that_does_not_tell_is_refused_with_the_reason(text: str, why: str, tmp_path: Path) -> None:
    path = tmp_path / "t.csv"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(RecordError, match=why):
        analyse_file("touches", path)


def test_false_alarms_of_a_speed_are_rare() -> None:
    random, worse = np.random.default_rng(6), 0
    speeds = np.repeat([2.0, 8.0], 20)
    for _ in range(400):
        worse += analyse_touches(random.normal(0, 0.006, 40), speeds).recommended_mm_s == 2.0
    assert worse / 400 < 0.06
