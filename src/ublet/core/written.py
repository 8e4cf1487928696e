"""A value as it would stand in a machine file: what people read was found, in their words and not in
Python's.
"""

from __future__ import annotations

import math


def written(value: object) -> str:
    """The value as TOML writes it; a table or a list by its name, and nothing for none.

    >>> written(True), written(None), written([1])
    ('true', 'nothing', 'a list')
    """
    if value is None:
        return "nothing"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float) and not math.isfinite(value):
        return "no number" if math.isnan(value) else "a number without end"
    if isinstance(value, dict):
        return "a table"
    if isinstance(value, (list, tuple)):
        return "a list"
    if isinstance(value, (str, int, float)):
        return repr(value)
    return f"“{value}”"
