"""Figures are drawn from the data, as SVG and PDF."""

from __future__ import annotations

from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest

from ublet.core.run import Series
from ublet.figures.heat import draw_heat
from ublet.session.export import write_csv

TIME = np.arange(0, 100, 0.1)
RECORD = Series(
    ("time_s", "duty", "temperature_c", "fan"),
    np.stack([TIME, (TIME < 80) * 1.0, np.minimum(23 + 2.4 * TIME, 215), 0 * TIME], 1),
)


def test_svg_holds_the_curves_and_pdf_is_a_pdf(tmp_path: Path) -> None:
    predicted = Series(("time_s", "duty", "temperature_c"), RECORD.rows[:, :3])
    draw_heat({"step": RECORD, "predicted": predicted}, "a title", 215.0, tmp_path / "a.svg")
    tree = ElementTree.parse(tmp_path / "a.svg")
    longest = max(len(path.get("d", "")) for path in tree.iter("{http://www.w3.org/2000/svg}path"))
    assert longest > 500
    draw_heat({"step": RECORD}, "a title", None, tmp_path / "a.pdf")
    assert (tmp_path / "a.pdf").read_bytes().startswith(b"%PDF-")


def test_what_cannot_be_drawn_says_why(tmp_path: Path) -> None:
    with pytest.raises(ValueError, match=r"\.svg or \.pdf"):
        draw_heat({"step": RECORD}, "", 215.0, tmp_path / "a.gif")
    with pytest.raises(ValueError, match="no record"):
        draw_heat({}, "", 215.0, tmp_path / "a.svg")
    with pytest.raises(OSError):
        draw_heat({"step": RECORD}, "", 215.0, tmp_path / "no" / "a.svg")


def test_csv_has_the_contract_s_columns(tmp_path: Path) -> None:
    write_csv(RECORD, tmp_path / "a.csv")
    lines = (tmp_path / "a.csv").read_text(encoding="utf-8").split()
    assert lines[0].startswith("time_s,duty,temperature_c")
    assert lines[1] == "0,1,23,0" and len(lines) == 1001
