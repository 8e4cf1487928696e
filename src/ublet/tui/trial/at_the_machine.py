"""What one would notice at the demonstration's machine, in words: for the line below a question."""

from __future__ import annotations

from ublet.core.motion.measuring import INSTRUMENTS
from ublet.core.questions import Jog, Question
from ublet.session.hands import Seen

SIDES = {"x": ("left of", "right of"), "y": ("in front of", "behind")}


def notice(question: Question, seen: Seen) -> str:
    """What is seen, felt and read there."""
    notes = [f"the {name} fan turns" for name in seen.turning]
    notes += [f"the {name} is warm" for name in seen.warm]
    notes += ["the pin is down"] if seen.pin_down else []
    notes += [f"{name} is pressed" for name in seen.pressed]
    match question.cue:
        case ("feel", *_):
            notes = [f"you feel the {seen.warm[0]} getting warm"] if seen.warm else ["nothing gets warm"]
        case (_, "motor"):
            notes.append(f"turned: {', '.join(seen.turned) or 'nothing'}")
        case (_, "direction"):
            notes.append(f"the nozzle went: {seen.moved}")
        case ("measure", place, instrument):
            notes.append(f"read on the {instrument}: {_read(seen.from_mark.get(place, 0.0), instrument)} mm")
        case ("left", mark, instrument):
            left = float(mark) - seen.from_mark.get("filament", 0.0)
            gone = "the filament has run out" if seen.spool <= 0 else "the mark is gone"
            notes.append(f"left on the {instrument}: {_read(left, instrument)} mm" if left > 0 else gone)
        case ("mark filament", *marks, _) if seen.spool < max(map(float, marks)):
            notes.append("there is not enough filament left for both marks")
        case ("thermometer", sensor):
            notes.append(f"the thermometer shows {seen.baths.get(sensor, 0.0):.1f} °C")
        case ("jog", "corner") if isinstance(question, Jog):
            notes.append(_corner(question, seen))
        case ("watch", "speed"):
            notes.append("something moves" if seen.moved != "nothing" else "nothing moves")
        case ("jog", axis, end):
            low, high = seen.room.get(axis, (0.0, 0.0))
            notes.append(f"{high if end == 'high' else low:.1f} mm are left to the stop")
    return ", ".join(notes) or "nothing to notice"


def _read(mm: float, instrument: str) -> str:
    """A length to the instrument's mark."""
    half = next(errors for name, errors in INSTRUMENTS.items() if name == instrument).placing_mm
    read = round(mm / half) * half
    return f"{read:.2f}" if half < 0.1 else f"{read:.1f}"


def _corner(question: Jog, seen: Seen) -> str:
    words = []
    for axis in question.axes:
        away = seen.nozzle.get(axis, 0.0)
        words.append(f"{abs(away):.1f} mm {SIDES[axis][away > 0]}")
    return f"the nozzle stands {' and '.join(words)} the bed's front left corner"
