"""A cube's lengths against planted scales, shrinkage and skew; posts, and the shortest retraction that is clean."""

from __future__ import annotations

import math

import numpy as np
import pytest

from tests.conftest import tern
from ublet.core.extrude.cube import SIDES, cube_program, judge_cube
from ublet.core.extrude.cube_trials import PieceBefore, lengths_shown
from ublet.core.extrude.retraction import (
    CLEAN,
    GAPS,
    STRINGS,
    RetractionParameters,
    pairs_of,
    posts_program,
    shortest_clean,
)
from ublet.core.motion.program import Push
from ublet.core.observations import DIAGONALS
from ublet.core.remedy import GoTo
from ublet.core.run import TrialFailed

SIZE = 40.0


def lengths(
    scales: tuple[float, float, float] = (1.0, 1.0, 1.0), skew_deg: float = 0.0, seed: int | None = None
) -> dict[str, list[float]]:
    """What callipers read, three times each, on a cube of these scales."""
    x, y, z = (SIZE * scale for scale in scales)
    lean = y * math.tan(math.radians(skew_deg))
    exact = {"x": x, "y": y, "z": z}
    exact |= {DIAGONALS[0]: math.hypot(x + lean, y), DIAGONALS[1]: math.hypot(x - lean, y)}
    if seed is None:
        return {name: [mm] * 3 for name, mm in exact.items()}
    random = np.random.default_rng(seed)
    common = random.uniform(-0.03, 0.03)
    return {
        name: [mm + common + wall + random.uniform(-0.03, 0.03) for _ in range(3)]
        for name, mm in exact.items()
        for wall in [0.02 * random.standard_normal()]
    }


def test_a_right_cube_shows_nothing() -> None:
    judged = judge_cube(SIZE, lengths())
    assert not judged.odd and not judged.skewed and not judged.shrunk


def test_what_all_axes_have_in_common_is_the_material() -> None:
    judged = judge_cube(SIZE, lengths((0.996, 0.996, 0.996)))
    assert judged.shrunk and judged.shrinks.value == pytest.approx(0.004) and not judged.odd


def test_an_axis_that_differs_on_a_shrinking_print_is_told_from_it() -> None:
    judged = judge_cube(SIZE, lengths((0.996 * 19 / 20, 0.996, 0.996)))
    assert judged.odd == "x" and judged.odd_by.value == pytest.approx(-0.0498, abs=1e-4)
    assert judged.shrinks.value == pytest.approx(0.004), "the odd one takes no part in it"


@pytest.mark.parametrize("skew", [-0.4, 0.25])
def test_skew_comes_from_both_diagonals_and_keeps_its_sign(skew: float) -> None:
    judged = judge_cube(SIZE, lengths((0.998, 1.001, 1.0), skew))
    assert judged.skew_deg.value == pytest.approx(skew, abs=0.005) and judged.skewed


def test_over_many_cubes_skew_is_covered_and_good_ones_are_not_accused() -> None:
    covered, accused = [], 0
    for seed in range(200):
        skew = float(np.random.default_rng(seed).uniform(-0.4, 0.4))
        judged = judge_cube(SIZE, lengths(skew_deg=skew, seed=seed))
        covered.append(abs(judged.skew_deg.value - skew) <= 2 * judged.skew_deg.uncertainty)
        good = judge_cube(SIZE, lengths(seed=seed + 1000))
        accused += bool(good.odd)
    assert 0.9 <= np.mean(covered) <= 0.995 and accused <= 4


def test_a_cube_is_as_large_as_its_lines_stand_out_and_one_too_large_is_refused() -> None:
    program = cube_program(tern(), 30.0)
    ends = [end for end in program.ends({"x": 0.0, "y": 0.0, "z": 10.0}) if end["y"] > 100.0]
    assert max(end["x"] for end in ends) - min(end["x"] for end in ends) == pytest.approx(30.0 - 0.45)
    assert len([place for place in program.places if place.startswith("layer")]) == 120
    with pytest.raises(TrialFailed, match="does not fit"):
        cube_program(tern(), 500.0)


def test_posts_are_drawn_back_by_their_own_length_and_get_all_of_it_back() -> None:
    pairs = pairs_of(tern(), RetractionParameters())
    assert [pair.length_mm for pair in pairs] == pytest.approx([0.2 * number for number in range(1, 11)])
    program = posts_program(tern(), pairs, 4)
    for pair in pairs:
        pushes = [s.filament for s in program.segments if isinstance(s, Push) and abs(s.filament) == pair.length_mm]
        assert sum(pushes) <= 1e-9 and len(pushes) >= 16
    assert set(SIDES) == {"x", "y", "z"}


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"first": 2.0, "last": 1.0}, "must be above"),
        ({"first": 1.0, "last": 9.0, "step": 1.0}, "too long"),
        ({"first": 1.0, "last": 1.2, "step": 0.2}, "makes 2 pairs"),
    ],
)
def test_posts_that_cannot_be_are_refused_with_the_reason(changes: dict[str, float], words: str) -> None:
    with pytest.raises(TrialFailed, match=words) as failed:
        pairs_of(tern(), RetractionParameters(**changes))  # type: ignore[arg-type]
    assert failed.value.remedies


def test_the_shortest_clean_one_begins_the_run_of_clean_ones() -> None:
    values = [0.2, 0.4, 0.6, 0.8, 1.0]
    found = shortest_clean(values, [STRINGS, CLEAN, STRINGS, CLEAN, GAPS])
    assert found is not None and found.value == 0.8 and found.at_end == 0
    first = shortest_clean(values, [CLEAN, CLEAN, CLEAN, GAPS, GAPS])
    assert first is not None and first.value == 0.2 and first.at_end == -1
    assert shortest_clean(values, [STRINGS] * 5) is None


@pytest.mark.parametrize(("scale", "first_layer"), [(1.008, True), (1.94, False)])
def test_only_what_a_first_layer_can_make_is_put_down_to_it(scale: float, first_layer: bool) -> None:
    judged = judge_cube(SIZE, lengths((1.0, 1.0, scale)))
    shown = lengths_shown(tern(), PieceBefore("pla", None, 0.0), judged, ragged=True)
    assert judged.odd == "z" and ("first layer" in " ".join(shown.words)) == first_layer
    assert any(isinstance(way, GoTo) for way in shown.remedies) != first_layer
