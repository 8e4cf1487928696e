"""Quantities as people type them ("0.13mm", "5thou", "1.5m/min") and as the app shows them."""

from __future__ import annotations

import math
import re

_TO_BASE: dict[str, dict[str, float]] = {
    "mm": {"mm": 1, "um": 1e-3, "µm": 1e-3, "cm": 10, "m": 1000, "in": 25.4, "thou": 0.0254, "mil": 0.0254},
    "mm/s": {"mm/s": 1, "m/s": 1000, "mm/min": 1 / 60, "m/min": 1000 / 60, "in/s": 25.4},
    "s": {"s": 1, "ms": 1e-3, "min": 60, "h": 3600},
    "°C": {"°c": 1, "c": 1, "°": 1, "degc": 1},
    "Ω": {"ω": 1, "ohm": 1, "ohms": 1, "r": 1, "k": 1e3, "kω": 1e3, "kohm": 1e3},
    "K": {"k": 1},
    "1/K": {"1/k": 1, "/k": 1},
    "°C/min": {"°c/min": 1, "c/min": 1, "°c/s": 60},
    "W": {"w": 1, "kw": 1000},
    "V": {"v": 1, "mv": 1e-3},
    "duty": {"duty": 1, "%": 0.01},
    "bd": {"bd": 1, "baud": 1},
    "/°C": {"/°c": 1, "%/°c": 0.01},
    "/(°C·s)": {"/(°c·s)": 1, "%/(°c·s)": 0.01},
    "s/°C": {"s/°c": 1},
    "steps/mm": {"steps/mm": 1},
    "mm/s²": {"mm/s²": 1, "mm/s2": 1, "m/s²": 1000, "m/s2": 1000},
    "A": {"a": 1, "ma": 1e-3},
    "Hz": {"hz": 1},
    "°": {"°": 1, "deg": 1},
    "": {"": 1},
}

_NUMBER = re.compile(r"\s*([+-]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+-]?\d+)?)\s*(.*?)\s*$")


class NotAQuantity(ValueError):
    """What was typed is no number with a unit that fits; the message says what would."""


def parse(text: str, unit: str) -> float:
    """Read a typed quantity into ``unit``. A bare number is taken in that unit.

    >>> round(parse("5thou", "mm"), 4)
    0.127
    >>> parse("1.5 m/min", "mm/s")
    25.0

    Raises:
        NotAQuantity: no number, not finite, or a unit of another kind.
    """
    match = _NUMBER.match(text)
    known = _TO_BASE.get(unit, {unit.lower(): 1.0})
    examples = ", ".join(name for name in known if name) or "no unit"
    if not match:
        raise NotAQuantity(f"“{text.strip()}” is not a number; type for example 12.5 or 12.5 {unit}".rstrip())
    value = float(match.group(1).replace(",", "."))
    typed = match.group(2).lower()
    if typed and typed not in known:
        raise NotAQuantity(f"unit “{match.group(2)}” does not fit here; allowed: {examples}")
    result = value * known.get(typed, 1.0)
    if not math.isfinite(result):
        raise NotAQuantity(f"“{text.strip()}” is too large to be a number here")
    return result


def spelt_out(text: str, unit: str, bare: str) -> str:
    """What was typed for a quantity in ``unit``, with the unit that a bare number is meant in, where that one fits.

    >>> spelt_out("5", "mm", "thou"), spelt_out("5", "°C", "thou"), spelt_out("5mm", "mm", "thou")
    ('5 thou', '5', '5mm')
    """
    match = _NUMBER.match(text)
    meant = bare in _TO_BASE.get(unit, ()) and bare != unit and match is not None and not match.group(2)
    return f"{text.strip()} {bare}" if meant else text


def show(value: float, unit: str = "", digits: int = 4) -> str:
    """A number with up to ``digits`` significant digits, no exponent for everyday sizes, and its unit.

    >>> show(0.14090001, "/°C")
    '0.1409 /°C'
    """
    if value == 0:
        text = "0"
    elif 1e-6 <= abs(value) < 1e7:
        decimals = max(0, digits - 1 - math.floor(math.log10(abs(value))))
        text = f"{value:.{decimals}f}"
        if "." in text:
            text = text.rstrip("0").rstrip(".")
    else:
        text = f"{value:.{digits}g}"
    return f"{text} {unit}".rstrip()


def with_uncertainty(value: float, uncertainty: float, unit: str = "") -> str:
    """``80.00 ±0.04 mm``: a value with two of its standard uncertainties, which are given as one: about 95 % (JCGM 100,
    section 6). They have one digit (two when it begins with 1), the value has as many.

    >>> with_uncertainty(544.009, 0.095, "°C")
    '544.01 ±0.19 °C'
    """
    if not uncertainty > 0 or not math.isfinite(uncertainty):
        return show(value, unit)
    uncertainty = 2 * uncertainty
    exponent = math.floor(math.log10(uncertainty))
    digits = 1 if uncertainty / 10**exponent >= 2 else 2
    decimals = max(0, digits - 1 - exponent)
    return f"{value:.{decimals}f} ±{uncertainty:.{decimals}f} {unit}".rstrip()


def duration(seconds: float) -> str:
    """``45 s``, ``1 min 50 s``, ``2 h 5 min``."""
    whole = max(0, round(seconds))
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        rest = f" {whole % 60} s" if whole % 60 else ""
        return f"{whole // 60} min{rest}"
    rest = f" {whole % 3600 // 60} min" if whole % 3600 // 60 else ""
    return f"{whole // 3600} h{rest}"
