"""What one would notice at the demonstration's machine, in words: for the line below a question."""

from __future__ import annotations

from ublet.core.motion.measuring import INSTRUMENTS
from ublet.core.questions import Jog, Judge, Question
from ublet.session.hands import Seen

DRAGS_MM = 0.012
"""A gauge drags where the gap is as wide as it is within this, mm."""

CLOSED_MM = 0.03
"""Lines look closed and flat while their height is off by less, mm."""

LEAST_SEEN_MM = 0.3
"""A smaller move of a lift nobody sees, mm."""

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
        case ("look", "lifts"):
            notes += [f"at {name} the gap {_lift_moved(mm)}" for name, mm in seen.lift_moves.items()]
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
        case ("gap at", lift, instrument):
            notes.append(f"read on the {instrument}: {_read(seen.lifts.get(lift, 0.0), instrument)} mm")
        case ("stowed gap", instrument):
            notes.append(f"read on the {instrument}: {_read(seen.stowed_gap, instrument)} mm")
        case ("springs",):
            notes += [f"{name}: {now:.1f} of {most:g} mm" for name, (now, most) in seen.springs.items()]
        case ("room", *_):
            notes.append(f"about {max(0.0, seen.gap):.1f} mm of air below the nozzle")
        case ("drag" | "lower", *_, gauge):
            notes.append(_gauge(seen.gap, float(gauge)))
        case ("aim", what):
            notes.append(_aim(what, seen))
        case ("thermometer", sensor):
            notes.append(f"the thermometer shows {seen.baths.get(sensor, 0.0):.1f} °C")
        case ("jog", "corner") if isinstance(question, Jog):
            notes.append(_corner(question, seen))
        case ("ripples", _, _, count):
            mm = seen.felt[0] if seen.felt else None
            notes.append(f"{count} ripples over {_read(mm, 'callipers')} mm" if mm is not None else "no ripples")
        case ("mount sensor", part):
            notes.append(f"the sensor goes on the {part}")
        case ("load bed", kg):
            notes.append(f"{kg} kg go on the bed" if float(kg) else "the bed is empty again")
        case ("watch", "first layer", _):
            notes = [_lines(error) for error in seen.felt] if seen.felt != (None,) else ["no lines yet"]
        case ("patches", *_) if isinstance(question, Judge):
            notes = [f"{name}: {_lines(error)}" for name, error in zip(question.names, seen.felt, strict=False)]
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


def _lines(error_mm: float | None) -> str:
    """What lines look and feel like that are so much too high."""
    if error_mm is None:
        return "nothing stuck"
    much = "a little " if abs(error_mm) < 2 * CLOSED_MM else "clearly "
    return "closed, flat" if abs(error_mm) <= CLOSED_MM else f"{much}apart" if error_mm > 0 else f"{much}ridged"


def _lift_moved(mm: float) -> str:
    """What the gap did at a lift that went so far."""
    return "stayed as it was" if abs(mm) < LEAST_SEEN_MM else f"{'opened' if mm > 0 else 'closed'} by {abs(mm):.0f} mm"


def _gauge(gap: float, gauge: float) -> str:
    """How a gauge below the nozzle feels."""
    if gap < gauge - DRAGS_MM:
        return "the gauge does not go in"
    if gap <= gauge + DRAGS_MM:
        return "the gauge just drags"
    return f"the gauge is loose, with about {round(gap - gauge, 1):g} mm of air" if gap > gauge + 0.1 else "it is loose"


def _aim(what: str, seen: Seen) -> str:
    """Where nozzle or probe stands beside the dot."""
    stands = (seen.nozzle.get("x", 0.0), seen.nozzle.get("y", 0.0)) if what == "nozzle" else seen.probe or (0.0, 0.0)
    words = []
    for axis, mine, dot in zip("xy", stands, seen.dot, strict=True):
        if abs(mine - dot) >= 0.05:
            words.append(f"{abs(mine - dot):.1f} mm {SIDES[axis][mine > dot]}")
    return f"the {what} stands {' and '.join(words)} the dot" if words else f"the {what} stands over the dot"


def _corner(question: Jog, seen: Seen) -> str:
    words = []
    for axis in question.axes:
        away = seen.nozzle.get(axis, 0.0)
        words.append(f"{abs(away):.1f} mm {SIDES[axis][away > 0]}")
    return f"the nozzle stands {' and '.join(words)} the bed's front left corner"
