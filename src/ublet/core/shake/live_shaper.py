"""The shaper that is live on a board: a named train, or one of its own."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ublet.core.settings import Value
from ublet.core.shake.shapers import NAMED, Train, named

KEYS = ("kind", "frequency_hz", "damping", "train")
"""Settings of a shaper, below ``axes.AXIS.shaper``."""

NONE, OWN = "none", "own"


SUM_OFF = 1e-3
"""Shares sum to one within this; else an axis would not arrive."""


def shaper_path(axis: str, key: str) -> str:
    """The path of a shaper's setting."""
    return f"axes.{axis}.shaper.{key}"


def live_train(read: Callable[[str], Value], axis: str) -> Train | None:
    """The train of an axis, from settings by their paths; None: motion is not shaped."""
    kind, hz, damping, own = (read(shaper_path(axis, key)) for key in KEYS)
    if kind == OWN and isinstance(own, tuple) and own:
        rows = np.array(own, dtype=np.float64)
        if rows.ndim != 2 or rows.shape[1] != 2 or rows[0, 0] != 0 or np.any(np.diff(rows[:, 0]) <= 0):
            return None  # no train: it would move the axis by something else than it is told
        return Train(rows[:, 0], rows[:, 1]) if abs(float(rows[:, 1].sum()) - 1) < SUM_OFF else None
    if kind not in NAMED or not isinstance(hz, (int, float)) or not isinstance(damping, (int, float)) or hz <= 0:
        return None
    return named(str(kind), float(hz), float(damping))
