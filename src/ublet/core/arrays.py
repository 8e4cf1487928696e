"""Arrays of numbers, as types."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
"""Numbers of any shape; each docstring says which."""
