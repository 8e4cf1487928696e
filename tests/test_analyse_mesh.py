"""``ublet analyse mesh`` as a user calls it: figures, screws, another mesh, files that are none."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from tests.commands import ublet
from ublet.session.library import machine_path


def table(path: Path, bump_mm: float = 0.0, shift_mm: float = 0.0) -> Path:
    lines = ["x_mm,y_mm,z_mm", "# probed cold"]
    random = np.random.default_rng(1)
    for x in (20, 80, 140, 200, 260):
        for y in (20, 75, 130, 185, 240):
            z = 0.001 * (x - 140) + 0.02 * ((y - 130) / 110) ** 2 + shift_mm + random.normal(0, 0.002)
            lines.append(f"{x},{y},{z + bump_mm * (x == 80 and y == 185):.4f}")
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return path


def test_figures_screws_and_what_differs(tmp_path: Path) -> None:
    now, before = table(tmp_path / "now.csv", shift_mm=0.06), table(tmp_path / "before.csv")
    wren = str(machine_path("wren-180"))
    done = ublet(
        "analyse", "mesh", str(now), "--machine", wren, "--against", str(before), "--spread", "0.002", "--json"
    )
    report = json.loads(done.stdout)
    assert (report["columns"], report["rows"], report["holes"], report["outliers"]) == (5, 5, [], [])
    assert report["tilt_x_mm"] == pytest.approx(0.24, abs=0.005) and report["warp_range_mm"] < 0.04
    assert {each["direction"] for each in report["screws"]} <= {"clockwise", "counter-clockwise"}
    assert [each["turns"] for each in report["screws"]].count(0.0) >= 1
    assert report["against"]["verdict"] == "shift" and report["against"]["shift_mm"] == pytest.approx(0.06, abs=1e-6)
    shown = ublet("analyse", "mesh", str(now), "--against", str(before)).stdout
    assert "a new Z offset" in shown and "rises to the right" in shown


def test_a_wrong_point_is_left_out_and_the_figure_is_drawn(tmp_path: Path) -> None:
    file = table(tmp_path / "bump.csv", bump_mm=0.3)
    svg = tmp_path / "m.svg"
    report = json.loads(ublet("analyse", "mesh", str(file), "--json", "--svg", str(svg)).stdout)
    assert report["outliers"] == [[80.0, 185.0]] and report["range_mm"] < 0.3 and report["warp_range_mm"] < 0.05
    assert svg.read_text(encoding="utf-8").count("<path") > 50


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("x_mm,y_mm,z_mm\n1,1,0\n2,1,0\n3,1,0\n", "one row"),
        ("x_mm,y_mm,z_mm\n1,1,0\n2,1,high\n", "high"),
        ("x_mm,y_mm,height\n1,1,0\n2,1,0\n", "z_mm"),
        ("", "empty"),
    ],
)
def test_what_is_no_mesh_is_refused_with_a_sentence(text: str, words: str, tmp_path: Path) -> None:
    file = tmp_path / "m.csv"
    file.write_text(text, encoding="utf-8")
    done = ublet("analyse", "mesh", str(file))
    assert done.returncode == 2 and words in done.stderr and "Traceback" not in done.stderr
