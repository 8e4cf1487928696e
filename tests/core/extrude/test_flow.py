"""The flow limit from shares that went in, against power laws and stalls of known place."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.extrude.flow import SHORT, FlowLimit, FlowStep, NotReached, flow_limit, gain_per_10_c, speeds_words


def steps_of(limit: float, power: float, noise: float = 0.0, seed: int = 0) -> list[FlowStep]:
    random = np.random.default_rng(seed)
    flows = 4.0 * 1.25 ** np.arange(12)
    shorts = SHORT * (flows / limit) ** power + noise * random.standard_normal(len(flows))
    kept = np.flatnonzero(shorts > 0.25)
    last = int(kept[0]) + 1 if len(kept) else len(flows)
    return [FlowStep(float(q), float(1 - s), max(noise, 1e-3)) for q, s in zip(flows[:last], shorts, strict=False)]


@pytest.mark.parametrize(("limit", "power"), [(9.0, 3.0), (14.3, 6.0), (21.0, 9.0)])
def test_the_crossing_of_a_power_law_is_found(limit: float, power: float) -> None:
    found = flow_limit(steps_of(limit, power))
    assert found.flow_mm3_s == pytest.approx(limit, rel=0.01) and not found.sudden


def test_two_uncertainties_cover_it_where_readings_err() -> None:
    inside = []
    for seed in range(60):
        found = flow_limit(steps_of(13.0, 5.0, 0.002, seed))
        inside.append(abs(found.flow_mm3_s - 13.0) <= 2 * found.uncertainty)
    assert np.mean(inside) >= 0.9


def test_a_motor_that_gives_out_at_once_lies_between_two_steps() -> None:
    found = flow_limit([FlowStep(8, 1.0, 0.002), FlowStep(10, 0.998, 0.002), FlowStep(12.5, 0.3, 0.002)])
    assert found.sudden and found.flow_mm3_s == pytest.approx(11.25) and 0.5 < found.uncertainty < 0.9


def test_no_limit_is_claimed_that_was_not_reached_or_lies_below_the_first_step() -> None:
    with pytest.raises(NotReached, match="nothing falls short"):
        flow_limit([FlowStep(4, 1.0, 0.002), FlowStep(8, 0.99, 0.002)])
    with pytest.raises(NotReached, match="already"):
        flow_limit([FlowStep(4, 0.9, 0.002), FlowStep(8, 0.8, 0.002)])


def test_what_is_proposed_keeps_a_margin_below_what_is_sure() -> None:
    limit = FlowLimit(12.0, 0.5)
    assert limit.proposed_mm3_s == pytest.approx(9.9)
    assert "mm/s at 0.45 x 0.2 mm" in speeds_words(limit.proposed_mm3_s)
    gain, error = gain_per_10_c(limit, FlowLimit(16.0, 0.5), 20.0)
    assert gain == pytest.approx(2.0) and error == pytest.approx(0.354, abs=0.001)
