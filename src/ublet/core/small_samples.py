"""What a few repeats may claim: the uncertainty of their deviation, and how much wider an interval they ask for."""

from __future__ import annotations

import math


def deviation_u(deviation: float, freedom: int) -> float:
    """Standard uncertainty of a standard deviation with so many degrees of freedom.

    Two of them reach to where the true deviation still gives so little in 2.3 % of cases: the quantile of chi squared
    by Wilson and Hilferty (1931).
    """
    ninth = 2 / (9 * freedom)
    low = max(0.05, 1 - ninth - 2 * math.sqrt(ninth)) ** 3
    return deviation * (1 / math.sqrt(low) - 1) / 2


SURE = 2.0
"""A deviation counts as larger than another beyond this many standard errors of their ratio."""


def no_larger(reference: float, other: float, freedoms: tuple[int, int]) -> bool:
    """Whether a standard deviation is no larger than a reference, as far as can be decided: by the ratio of their
    variances, whose logarithm has the standard error ``sqrt(2/f1 + 2/f2)`` for f degrees of freedom (Bartlett & Kendall
    1946).
    """
    error = math.sqrt(sum(2 / max(1, freedom) for freedom in freedoms))
    return 2 * math.log(max(other, 1e-9) / max(reference, 1e-9)) <= SURE * error


FEW_FREEDOMS = (math.inf, 6.99, 2.26, 1.65, 1.43)
"""The same exactly for 1 to 4 degrees of freedom, where the expansion is not good enough."""


def student(freedom: int) -> float:
    """How much wider than a normal one an interval must be that claims 95 % from so few degrees of freedom: Student's t
    over the normal quantile (expansion by Cornish and Fisher 1937; Abramowitz & Stegun 26.7.5).
    """
    if freedom < len(FEW_FREEDOMS):
        return FEW_FREEDOMS[max(1, freedom)]
    z, n = 2.0, float(freedom)
    wide = z + (z**3 + z) / (4 * n) + (5 * z**5 + 16 * z**3 + 3 * z) / (96 * n**2)
    wide += (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / (384 * n**3)
    return wide / z
