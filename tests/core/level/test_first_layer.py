"""What patches tell of a first layer: by a builder who judges from a true gap, on beds that are off, tilted or bent."""

from __future__ import annotations

import numpy as np
import pytest

from ublet.core.level.mesh.first_layer import BARE, GOOD, HIGH, LOW, PatchVerdict, first_layer
from ublet.core.motion.patterns import Patch

CORNERS = (("left front", 20, 20), ("right front", 260, 20), ("right back", 260, 240), ("left back", 20, 240))
PATCHES = tuple(Patch(name, x, y, 20, 20) for name, x, y in (("middle", 140, 130), *CORNERS))


def judged(
    random: np.random.Generator, off: float, tilt: tuple[float, float], bent: float, window: float, finger: float
) -> list[PatchVerdict]:
    """A builder nudges while a patch is printed and feels it afterwards; nothing of it is the estimator's."""
    nudge, found = 0.0, []
    for number, patch in enumerate(PATCHES):
        u, v = (patch.x - 140) / 120, (patch.y - 130) / 110
        high = off + tilt[0] * u + tilt[1] * v + (bent if number % 2 else -bent) + random.normal(0, 0.008)
        for _ in range(6):
            seen = high + nudge + random.uniform(-0.03, 0.03)
            if abs(seen) > 0.06:
                nudge -= float(np.sign(seen)) * 0.05
            elif abs(seen) > 0.035:
                nudge -= float(np.sign(seen)) * 0.01
        felt = high + nudge + random.uniform(-finger, finger)
        found.append(PatchVerdict(patch, nudge, HIGH if felt > window else LOW if felt < -window else GOOD))
    return found


@pytest.mark.parametrize(("tilt_mm", "verdicts"), [(0.0, {"offset", "good"}), (0.09, {"tilt"}), (0.15, {"tilt"})])
def test_the_wanted_nudge_covers_the_truth_and_a_tilt_is_told_from_an_offset(
    tilt_mm: float, verdicts: set[str]
) -> None:
    random = np.random.default_rng(5)
    covered, right, errors = [], [], []
    rises = [0.0]
    for _ in range(20):
        off = float(random.normal(0, 0.15) if random.random() < 0.3 else random.normal(0, 0.01))
        way = random.uniform(0, 2 * np.pi)
        tilt = (tilt_mm * np.cos(way), tilt_mm * np.sin(way))
        found = first_layer(
            judged(random, off, tilt, 0.0, random.uniform(0.02, 0.04), random.uniform(0.01, 0.03)), 0.01
        )
        covered.append(abs(found.wanted_mm + off) <= 2 * found.wanted_u_mm)
        right.append(found.verdict in verdicts)
        errors.append(abs(found.wanted_mm + off))
        if found.plane is not None and tilt_mm:
            slope = found.plane.slope
            rises.append(float(np.hypot(slope[0] * 120 + tilt[0], slope[1] * 110 + tilt[1])))
    assert np.mean(covered) >= 0.9 and np.mean(right) >= 0.9, (np.mean(covered), np.mean(right))
    assert np.percentile(errors, 90) < 0.025 and np.median(rises) < 0.04


def test_a_bed_that_is_bent_is_to_be_probed_again() -> None:
    random = np.random.default_rng(3)
    found = [first_layer(judged(random, 0.0, (0.0, 0.0), 0.12, 0.03, 0.02), 0.01).verdict for _ in range(10)]
    assert found.count("shape") >= 9


def test_all_good_leaves_the_offset_and_bare_patches_tell_nothing() -> None:
    good = [PatchVerdict(patch, 0.0, GOOD) for patch in PATCHES]
    found = first_layer(good, 0.01)
    assert found.verdict == "good" and abs(found.wanted_mm) < 1e-6 and found.wanted_u_mm < 0.015
    bare = [*good[:4], PatchVerdict(PATCHES[4], 0.0, BARE)]
    assert first_layer(bare, 0.01).verdict == "good"
    with pytest.raises(ValueError, match="no patch"):
        first_layer([PatchVerdict(patch, 0.0, BARE) for patch in PATCHES], 0.01)


def test_patches_that_are_all_too_high_are_believed_against_a_touch_but_tell_little() -> None:
    high = [PatchVerdict(patch, 0.0, HIGH) for patch in PATCHES]
    for known in (0.01, None):
        found = first_layer(high, known)
        assert found.verdict == "offset" and found.wanted_mm < -0.1 and found.wanted_u_mm > 0.05
    once = [PatchVerdict(patch, -0.15, GOOD) for patch in PATCHES]
    assert first_layer([*high, *once], 0.01).wanted_mm == pytest.approx(-0.15, abs=0.03)
