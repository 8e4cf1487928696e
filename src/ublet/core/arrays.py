"""Arrays of numbers, as types."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Complex = NDArray[np.complex128]
Floats = NDArray[np.float64]
"""Numbers of any shape; each docstring says which."""

Point = tuple[float, float]
"""A point of the bed or of a plane: x and y, mm."""
