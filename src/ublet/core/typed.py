"""A setting's value as people type it, read by its declaration."""

from __future__ import annotations

from ublet.core.machine.compare import furthest_apart
from ublet.core.settings import Array, Declaration, Value, ValueKind, numbers_in, refusal_of, shape_of
from ublet.core.units import NotAQuantity, parse

YES, NO = ("yes", "true", "on", "1"), ("no", "false", "off", "0")


def typed_value(declared: Declaration, text: str) -> Value:
    """Read what was typed for a setting: a quantity with any unit that fits, a word, yes or no.

    Raises:
        NotAQuantity: it cannot be read, or is not allowed; the message says what is.
    """
    if declared.shape:
        raise NotAQuantity(f"an array is not typed: the station “{declared.bench}” makes it")
    text = text.strip()
    value: Value = text
    if declared.kind.numeric:
        value = float(f"{parse(text, declared.unit):.12g}")  # 15 m/min is 250 mm/s, not 250.00000000000003
        if declared.kind is ValueKind.WHOLE and value == int(value):
            value = int(value)
    elif declared.kind is ValueKind.FLAG:
        if text.lower() not in YES + NO:
            raise NotAQuantity(f"“{text}” is neither yes nor no")
        value = text.lower() in YES
    reason = refusal_of(declared, declared.path.rpartition(".")[2], value)
    if reason:
        raise NotAQuantity(reason)
    return value


def shown_value(value: Value, digits: int = 6) -> str:
    """A value as tables show it; – for none."""
    if value is None:
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return size_of(value)
    if isinstance(value, float):
        return f"{value:.{digits}g}" if abs(value) < 1e6 else f"{value:.10g}"
    return str(value)


def shown_array(value: Array, digits: int = 6) -> str:
    """An array by its size and range: ``5 x 5, 0.01 to 0.23``."""
    numbers = numbers_in(value)
    return f"{size_of(value)}, {min(numbers):.{digits}g} to {max(numbers):.{digits}g}" if numbers else size_of(value)


def size_of(value: Array) -> str:
    """The size of an array: ``5 x 5``."""
    try:
        return " x ".join(str(count) for count in shape_of(value)) if value else "none yet"
    except ValueError:
        return "uneven"


def shown_after(before: Value, after: Value, digits: int = 6) -> str:
    """A value that takes the place of another: an array of the same size by how far it moves."""
    furthest = furthest_apart(before, after)
    return f"moves {furthest:.2g}" if furthest is not None else shown_value(after, digits)
