"""Charts: dots where the curve is, ticks that are round, nothing erased."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from ublet.core.run import Series
from ublet.tui.frame.pulse import trace
from ublet.tui.frame.theme import PALETTES
from ublet.tui.heat.charts import cycles, heat_up, reached_at, steps
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.chart import ticks
from ublet.tui.instruments.dots import BLANK, polyline_cells


def array(*values: float) -> np.ndarray:
    return np.array(values, dtype=np.float64)


def test_a_level_line_fills_its_row_of_dots() -> None:
    cells = polyline_cells(array(0, 3.5), array(0.5, 0.5), 4, 2)
    assert cells == {(x, 0): BLANK + 0x04 + 0x20 for x in range(4)}


def test_a_diagonal_touches_the_cells_between_its_ends() -> None:
    cells = polyline_cells(array(0, 3.9), array(0, 3.9), 4, 4)
    assert set(cells) == {(n, n) for n in range(4)}


def test_one_point_is_one_dot() -> None:
    assert polyline_cells(array(1.5), array(1.75), 4, 4) == {(1, 1): BLANK + 0x80}


@given(st.lists(st.tuples(st.floats(-20, 60), st.floats(-20, 60)), max_size=30))
def test_nothing_is_drawn_outside(points: list[tuple[float, float]]) -> None:
    x, y = array(*(p[0] for p in points)), array(*(p[1] for p in points))
    for (column, row), code in polyline_cells(x, y, 40, 12).items():
        assert 0 <= column < 40 and 0 <= row < 12 and BLANK < code <= BLANK + 0xFF


def test_where_curves_cross_the_dots_of_both_stay() -> None:
    cells = Cells(8, 3)
    cells.put(4, 1, "x", "red")
    cells.add_dots(3, 1, BLANK + 0x01, "red")
    cells.add_dots(3, 1, BLANK + 0x80, "blue")
    cells.add_dots(4, 1, BLANK + 0x02, "blue")
    cells.add_dots(8, 1, BLANK + 0x02, "blue")
    assert cells.line(1).plain == f"   {chr(BLANK + 0x81)}{chr(BLANK + 0x02)}   "
    assert cells.line(1).spans[-1].style == "blue"


@given(st.floats(-1e3, 1e3), st.floats(0.5, 1e4), st.integers(2, 10))
def test_ticks_are_round_inside_and_not_too_many(low: float, span: float, most: int) -> None:
    found = ticks(low, low + span, most)
    assert len(found) <= most + 1
    assert all(low - 1e-6 * span <= tick <= low + span + 1e-6 * span for tick in found)
    gaps = np.diff(found)
    assert np.allclose(gaps, gaps[0], rtol=1e-6) if len(gaps) else True


def record(seconds: float) -> Series:
    time = np.arange(0, seconds, 0.1)
    celsius = np.where(time < 80, 23 + 2.4 * time, 215 + 3 * np.sin((time - 80) * 0.4))
    duty = np.where(time < 80, 1.0, (np.sin((time - 80) * 0.4) < 0) * 0.7)
    return Series(("time_s", "duty", "temperature_c", "fan"), np.stack([time, duty, celsius, 0 * time], 1))


def test_the_cycles_are_shown_large_and_counted() -> None:
    series = record(160)
    reached = reached_at(series, 215.0)
    assert reached is not None and abs(reached - 80) < 0.2
    picture = cycles(series, 215.0)
    low, high = picture.y_limits
    assert 205 < low < 212 and 218 < high < 225
    assert [mark.word for mark in picture.marks] == ["1", "2", "3", "4"]
    assert heat_up(series, 215.0).y_limits[0] == 0.0
    assert reached_at(record(40), 215.0) is None


def test_steps_show_the_highest_curve_climb() -> None:
    over = record(160)
    predicted = {"as found": over, "balanced": record(100)}
    picture = steps(predicted, None, "balanced", 215.0, 140.0)
    assert picture.y_limits[1] >= 218.0 and len(picture.curves) == 2
    assert picture.marks[0].word == "fan on"


def test_the_trace_shows_the_swing_and_keeps_noise_small() -> None:
    assert trace((), None).strip() == ""
    assert set(trace((23.0, 23.1, 22.9) * 20, None)) <= set("▄▅")
    rising = trace(tuple(float(n) for n in range(60)), None)
    assert rising[0] == "▁" and rising[-1] in "▇█"


def contrast(one: str, two: str) -> float:
    """WCAG 2.2 contrast ratio."""

    def luminance(colour: str) -> float:
        parts = [int(colour[n : n + 2], 16) / 255 for n in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    high, low = sorted((luminance(one), luminance(two)), reverse=True)
    return (high + 0.05) / (low + 0.05)


def test_words_can_be_read_in_both_themes() -> None:
    for palette in PALETTES.values():
        for ground in (palette.ground, palette.panel):
            assert contrast(palette.text, ground) > 7
            for colour in (palette.dim, palette.focus, palette.good, palette.stop, palette.proposal):
                assert contrast(colour, ground) > 3.9, (colour, ground)
            assert contrast(palette.quiet, ground) > 2.9
