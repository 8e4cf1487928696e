"""What a frame looks like that wants a hand before a shaper, and what does not follow the excitation, in words."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ublet.core.arrays import Floats
from ublet.core.shake.frame import Mode
from ublet.core.shake.spectra import Bands
from ublet.core.shake.sweep import Sweep

CLIPPED_FRACTION = 0.001
"""Number of readings at the very ends from which they are clipped."""

BELOW_FRACTION = 0.3
"""A mode of such a share at such a frequency is the frame on its feet."""

LOW_HZ = 12.0
LEAST_COHERENCE = 0.5


def at_ends(values: Floats) -> float:
    """Share of readings that stand at their very ends."""
    return float(np.mean((values == values.max()) | (values == values.min())))


def response_words(bands: Bands) -> list[str]:
    """What was measured besides the sweep."""
    lines_words = [f"a line at {hz:g} Hz does not follow the sweep: a fan, or mains" for hz in bands.lines]
    power = float(np.median(bands.coherence))
    if power < LEAST_COHERENCE:
        lines_words.append(f"coherence below {power:.2f} in half of the sweep: quieten the machine, sweep harder")
    return lines_words


def symptoms(axis: str, modes: Sequence[Mode], sweep: Sweep | None) -> list[str]:
    """What a frame looks like that wants a hand before a shaper."""
    sentences: list[str] = []
    main = modes[0]
    if main.frequency_hz < 40 and main.damping_ratio > 0.12:
        sentences.append(
            f"{axis}: low and broad, {main.frequency_hz:.0f} Hz, damping {main.damping_ratio:.2f}: a loose belt or part"
        )
    for one in modes:
        for other in modes:
            if (
                one.frequency_hz < other.frequency_hz < 1.2 * one.frequency_hz
                and min(one.modal_share, other.modal_share) > 0.2
            ):
                sentences.append(
                    f"{axis}: two peaks close to one another, {one.frequency_hz:.0f} and {other.frequency_hz:.0f} Hz: "
                    "belts of different tension, or a part that shakes along"
                )
    low = min(modes, key=lambda mode: mode.frequency_hz)
    if low.frequency_hz < LOW_HZ and low.modal_share > BELOW_FRACTION:
        sentences.append(
            f"{axis}: {100 * low.modal_share:.0f} % at {low.frequency_hz:.0f} Hz: the frame moves on its feet; set "
            "it firm"
        )
    if sweep is not None:
        for mode in modes:
            if not sweep.from_hz < mode.frequency_hz < sweep.to_hz:
                sentences.append(f"{axis}: a mode at {mode.frequency_hz:.0f} Hz lies outside the sweep: sweep further")
    return sentences
