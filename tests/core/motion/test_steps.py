"""Steps per millimetre: readings and their uncertainty, typical ratios, when to leave it."""

from __future__ import annotations

import math

import numpy as np
import pytest

from ublet.core.motion.measuring import INSTRUMENTS, Instrument, length_of
from ublet.core.motion.steps import AxisDrive, differing, judge_steps, other_parts, typical_part

BELT = AxisDrive("belt", 16, 1.8, teeth=20)
SCREW = AxisDrive("screw", 16, 1.8, lead_mm=8)


def test_one_reading_has_the_uncertainty_of_its_instrument() -> None:
    length = length_of([100.02], "callipers")
    assert length.uncertainty_mm == pytest.approx(math.sqrt(0.03**2 / 3 + 0.03**2 / 3)) and not length.stutters
    with pytest.raises(ValueError, match="no readings"):
        length_of([], "rule")


@pytest.mark.parametrize("instrument", ["rule", "callipers", "dial-gauge"])
@pytest.mark.parametrize("count", [1, 2, 3, 10, 20])
def test_two_uncertainties_cover_the_truth_however_often_it_is_read(instrument: Instrument, count: int) -> None:
    """An instrument with a scale of its own that is off, read by somebody, on a machine that scatters a little."""
    random, errors = np.random.default_rng(count), INSTRUMENTS[instrument]
    inside = alone = 0
    for _ in range(2000):
        scale = random.uniform(-errors.common_mm, errors.common_mm)
        machine = random.normal(0, 0.3 * errors.placing_mm, count)
        read = 100 + scale + machine + random.uniform(-errors.placing_mm, errors.placing_mm, count)
        length = length_of(read.tolist(), instrument)
        inside += abs(length.mean_mm - 100) <= 2 * length.uncertainty_mm
        alone += abs(length.mean_mm - 100) <= 2 * length.placing_u_mm
    assert inside / 2000 >= 0.93
    if count >= 10:
        assert alone / 2000 < 0.75, "what is common to all readings does not average out"


def test_scatter_beyond_the_instrument_widens_and_is_named() -> None:
    loose = length_of([99.0, 100.1, 101.2], "callipers")
    assert loose.uncertainty_mm == pytest.approx(1.1 / math.sqrt(3), rel=0.01) and loose.stutters
    judged = judge_steps(80, 80, 100, loose, BELT)
    assert judged.kind == "stutters" and judged.proposed is None and "loose pulley" in judged.words


@pytest.mark.parametrize(
    ("drive", "ratio", "part"),
    [
        (BELT, 2.0, "the driver makes 8 microsteps, not 16"),
        (BELT, 0.5, "the driver makes 32 microsteps, not 16 or the motor has a full step of 0.9°"),
        (BELT, 0.8, "the pulley has 16 teeth, not 20"),
        (BELT, 1.2, "the pulley has 24 teeth, not 20"),
        (SCREW, 0.5, "the screw has a lead of 4 mm, not 8"),
        (SCREW, 0.25, "the screw has a lead of 2 mm, not 8"),
        (SCREW, 1.25, "the screw has a lead of 10 mm, not 8"),
        (AxisDrive("screw", 256, 0.9, lead_mm=8), 0.5, "the screw has a lead of 4 mm, not 8"),
    ],
)
def test_a_typical_ratio_names_the_part_and_gives_the_exact_value(drive: AxisDrive, ratio: float, part: str) -> None:
    for misread in (0.997, 1.0, 1.004):
        found = typical_part(ratio * misread, drive)
        assert found is not None and found[0].startswith(part) and found[1] == pytest.approx(ratio)
    judged = judge_steps(80, 80, 100, length_of([100 * ratio + 0.02, 100 * ratio - 0.03], "callipers"), drive)
    assert judged.kind == "typical" and judged.proposed == pytest.approx(80 / ratio)


def test_no_part_is_blamed_for_an_odd_ratio() -> None:
    assert typical_part(0.93, BELT) is None and typical_part(1.07, SCREW) is None


@pytest.mark.parametrize(
    ("now", "geometry", "measured", "kind", "proposed"),
    [
        (80, 80, 100.03, "good", None),  # inside the error: leave it
        (80, 80, 100.30, "off", 80 * 100 / 100.30),
        (80.4, 80, 100.50, "off", 80),  # the geometry fits, what is on the board does not
        (80.02, 80, 100.01, "good", None),
        (80, 80, 0.3, "still", None),
    ],
)
def test_what_is_proposed(now: float, geometry: float, measured: float, kind: str, proposed: float | None) -> None:
    judged = judge_steps(now, geometry, 100, length_of([measured] * 3, "callipers"), BELT)
    assert judged.kind == kind
    assert judged.proposed == (pytest.approx(proposed) if proposed else None)
    assert judged.good is (kind == "good")


def test_an_error_of_reading_alone_never_changes_a_setting() -> None:
    random = np.random.default_rng(3)
    for _ in range(500):
        readings = (100 + random.uniform(-0.03, 0.03) + random.uniform(-0.03, 0.03, 3)).tolist()
        assert judge_steps(80, 80, 100, length_of(readings, "callipers"), BELT).good


def test_motors_of_one_axis_are_compared() -> None:
    alike = {name: length_of([50.01, 49.98], "callipers") for name in ("z.left", "z.right")}
    assert differing(alike) == ()
    assert differing({**alike, "z.back": length_of([25.0, 25.02], "callipers")}) == ("z.back",)


def test_other_parts_are_what_geometry_says_of_them() -> None:
    parts = dict(other_parts(80, BELT))
    assert parts["16 teeth"] == 100 and parts["0.9° motor"] == 160 and parts["32 microsteps"] == 160
    assert dict(other_parts(400, SCREW))["lead 4 mm"] == 800
