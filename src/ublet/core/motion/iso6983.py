"""Programs as an ISO 6983 text, for machines that read these: motion words, comments, lines of the builder's own."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from ublet.core.motion.program import Dwell, Lift, ProbeMove, Program, Push, SetAdvance, To, Warm

DIGITS = 4


def iso6983(program: Program, own: Mapping[str, str]) -> str:
    """The text: G0, G1, G4 and F, absolute places in mm, feeds in mm/min, dwells in s, comments in brackets.

    What the standard has no word for is a comment, or a line of the machine file's table ``program`` with its values
    filled in.

    Args:
        program: what is to be done. Filament is counted on, under the letter ``own["filament"]``; without one a line
            that pushes is written as its travel with a comment.
        own: lines by what they are for: ``begin``, ``end``, ``warm`` (``{heater}``), ``acceleration`` (``{mm_s2}``),
            ``advance`` (``{seconds}``), ``filament`` (a letter).
    """
    return "".join(f"{line}\n" for line in _lines(program, own))


def _lines(program: Program, own: Mapping[str, str]) -> Iterator[str]:
    yield f"({plain(program.name)}: {plain(program.note)})" if program.note else f"({plain(program.name)})"
    yield from _own(own.get("begin", ""))
    yield "G90 (absolute places, mm)"
    letter, pushed = own.get("filament", ""), 0.0
    feed: float | None = None
    gentle = 0.0
    for segment in program.segments:
        if segment.place:
            yield f"({plain(segment.place)})"
        words = []
        match segment:
            case To() | Push():
                if isinstance(segment, To) and segment.filament and segment.mm_s2 and segment.mm_s2 != gentle:
                    gentle = segment.mm_s2
                    warm, much = own.get("acceleration", ""), _number(gentle)
                    yield from _own(warm.format(mm_s2=much)) if warm else [f"(acceleration from here: {much} mm/s2)"]
                if isinstance(segment, To):
                    words += [f"{axis.upper()}{_number(mm)}" for axis, mm in segment.at.items()]
                if segment.filament:
                    pushed += segment.filament
                    words += [f"{letter}{_number(pushed)}"] if letter else []
                if not words:
                    yield f"({segment.filament:+.3f} mm of filament: no word for it is declared)"
                    continue
                if feed != segment.mm_s:
                    feed = segment.mm_s
                    words.append(f"F{_number(60 * feed)}")
                yield f"G{1 if segment.filament else 0} {' '.join(words)}"
            case SetAdvance():
                line, seconds = own.get("advance", ""), _number(segment.seconds)
                yield from _own(line.format(seconds=seconds)) if line else [f"(pressure advance: {seconds} s)"]
            case Dwell():
                yield f"G4 P{_number(segment.seconds)} (s)"
            case Warm():
                warm = own.get("warm", "")
                yield from (
                    _own(warm.format(heater=segment.heater)) if warm else [f"(wait for the {plain(segment.heater)})"]
                )
            case ProbeMove():
                places = " ".join(f"{axis.upper()}{_number(mm)}" for axis, mm in segment.at.items())
                yield f"(touch towards {places}: no standard word)"
            case Lift():
                warm = ", ".join(f"{plain(root)} {mm:+.3f} mm" for root, mm in segment.motors.items())
                yield f"(single motors {warm}: no standard word)"
    yield from _own(own.get("end", ""))


def _number(value: float) -> str:
    text = f"{value:.{DIGITS}f}".rstrip("0").rstrip(".")
    return "0" if text in ("-0", "") else text


def plain(words: str) -> str:
    """Words that may stand in a comment."""
    return words.replace("(", "[").replace(")", "]").replace("\n", " ")


def _own(text: str) -> list[str]:
    return [line for line in text.split("\n") if line.strip()]
