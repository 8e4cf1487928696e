"""What bounds a heater's temperature."""

from __future__ import annotations

import pytest

from tests.conftest import machine_text, tern
from ublet.core.heat.curves import Platinum, Thermistor
from ublet.core.heat.part_limits import SENSOR, lowest_limit, part_limits, sensor_range
from ublet.core.heat.references import resolution_c
from ublet.core.machine.check import check_text
from ublet.session.library import boards


def test_the_lowest_part_bounds_the_maximum() -> None:
    assert lowest_limit(285, {"throat": 240.0, "sensor": 290.0}) == (240.0, "throat")
    assert lowest_limit(230, {"throat": 240.0}) == (230, "") and lowest_limit(230, {}) == (230, "")


def test_declared_parts_sheets_and_the_sensors_range_are_looked_at() -> None:
    hotend, bed = part_limits(tern(), "hotend"), part_limits(tern(), "bed")
    assert hotend["throat"] == 320 and set(bed) == {"mat", "smooth sheet", "grained sheet", SENSOR}
    assert lowest_limit(400, bed) == (min(bed.values()), "grained sheet")


def test_a_sensor_tells_no_more_than_its_rails_and_its_counts_allow() -> None:
    hot = Thermistor(100_000, 4267, 4700)
    limit = sensor_range(hot, 12)
    assert resolution_c(hot, limit, 4095) <= 3 < resolution_c(hot, limit + 10, 4095) or hot.ratio(limit + 5) < 0.008
    assert 300 < limit < 500 and sensor_range(hot, 8) < limit
    assert sensor_range(Platinum(100, 4700), 12) == 0, "under a large pull-up it is too coarse everywhere"
    assert sensor_range(Thermistor(10_000, 3435, 4700), 12) < sensor_range(hot, 12)


@pytest.mark.parametrize(
    ("before", "after", "words"),
    [
        ("maximum_c = 285", "maximum_c = 300", "at most 290 °C, the limit of its sensor"),
        ("maximum_c = 120\nkp", "maximum_c = 121\nkp", "at most 120 °C, the limit of its grained sheet"),
        ("beta_k = 4267", "beta_k = 6000", "range of its sensor: above that it cannot be measured"),
    ],
)
def test_a_maximum_above_what_a_part_stands_is_an_error(before: str, after: str, words: str) -> None:
    assert before in machine_text()
    problems = check_text(machine_text().replace(before, after, 1), boards()).errors
    assert [problem for problem in problems if words in problem.allowed and problem.key.endswith("maximum_c")]
