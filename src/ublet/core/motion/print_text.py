"""A print of one's own: a text of ISO 6983 read whole before anything moves, line by line, into arrays.

Read are G0 to G3, G4, G17, G20, G21, G90, G91, G92, M2 and M30, the words X Y Z F I J R P N, the letter under
which filament is counted, and comments in brackets or behind a semicolon. Whatever else stands there is counted and
left out, unless the builder's own table says what it does.
"""

from __future__ import annotations

import math
import re
from array import array
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ublet.core.arrays import Floats

INCH_MM = 25.4
KNOWN_G = (0, 1, 2, 3, 4, 17, 18, 19, 20, 21, 90, 91, 92)
"""Preparatory words that are followed; a line that begins with another one is left out as a whole."""

CHORD_MM = 0.02
"""A curve is followed by straight lines that leave it by no more than this, mm."""

RADIUS_MM, RADIUS_FRACTION = 0.05, 0.01
"""Start and end of a curve may differ in their distance from its centre by this: mm, and a fraction of the radius."""

RAPID_MM_S = 10_000.0
"""A G0 before any feed was given goes as fast as its axes may, mm/s."""

MOST_PROBLEMS = 200
"""Problems that are kept, each with its line; further ones are counted."""

MOST_MOVES = 6_000_000
"""More moves than this are not kept: about 250 MB with what is computed of them."""

Meaning = Literal[
    "nozzle",
    "nozzle and wait",
    "bed",
    "bed and wait",
    "fan",
    "print start",
    "print end",
    "filament from zero",
    "filament from the last",
    "nothing",
]
"""What a word that the standard does not have may do."""

VALUED: frozenset[Meaning] = frozenset({"nozzle", "nozzle and wait", "bed", "bed and wait", "fan"})
"""Those that take a number: °C, or the fan's duty."""


@dataclass(frozen=True)
class OwnWord:
    """A word of the builder's own programs: how its lines begin, what it does, the letter of its number (empty: it has
    none) and what that is multiplied by.
    """

    begins: str
    does: Meaning
    letter: str = "S"
    factor: float = 1.0


@dataclass(frozen=True)
class PrintAction:
    """Something besides motion that is done before a move: °C, a duty, or nothing but the word."""

    move: int
    does: Meaning
    value: float
    line: int


@dataclass(frozen=True)
class LineProblem:
    """What is wrong, and in which line (from 1) it is first. count: in so many lines in all."""

    line: int
    text: str
    count: int = 1


@dataclass(frozen=True)
class Moves:
    """n moves: where each ends (n x 3, mm), filament that it pushes (n, mm), its feed (n, mm/s; of a dwell: its
    seconds), its line in the text (n), and whether it is a dwell (n).
    """

    end_mm: NDArray[np.float32]
    filament_mm: NDArray[np.float32]
    feed_mm_s: NDArray[np.float32]
    line: NDArray[np.int32]
    dwells: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.line)

    def travel_mm(self, start: Sequence[float]) -> Floats:
        """What each move travels, x, y, z and filament, mm (n x 4); from a place."""
        before = (
            np.vstack([np.asarray(start, dtype=np.float32)[None, :], self.end_mm[:-1]]) if len(self) else self.end_mm
        )
        return np.column_stack([self.end_mm.astype(np.float64) - before, self.filament_mm])


@dataclass(frozen=True)
class PrintText:
    """A text that was read. left_out: words that are left out, and how often each stands there."""

    lines: int
    moves: Moves
    actions: tuple[PrintAction, ...]
    left_out: Mapping[str, int]
    problems: tuple[LineProblem, ...]


class TooMany(ValueError):
    """The text has more moves than are kept."""


_WORD = re.compile(rb"\s*([A-Za-z])\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:e[-+]\d+)?)")
"""A letter and its number. An exponent is taken only with its sign: X1E5 are two words."""

_NAME = re.compile(rb"\s*([A-Z_][A-Z_0-9]*)")
_G, _X, _Y, _Z, _F = b"GXYZF"
_SEMICOLON, _BRACKET = b";("


@dataclass
class _State:
    """Where the text stands: position, mm in the text's own count; what its counts are shifted by; and its modes."""

    position: list[float] = field(default_factory=lambda: [0.0, 0.0, 0.0])
    shift: list[float] = field(default_factory=lambda: [0.0, 0.0, 0.0])
    counted: float = 0.0
    feed: float = 0.0
    motion: int = -1
    unit: float = 1.0
    absolute: bool = True
    filament_absolute: bool | None = None
    ended: bool = False


class PrintReader:
    """Reads the lines of a text. filament: the letter under which filament is counted. dwell_s: what one unit of a
    dwell's P is. filament_relative: None: as G90 and G91 say, else whether it counts from where it stands.
    """

    def __init__(
        self,
        own: Iterable[OwnWord] = (),
        filament: str = "E",
        dwell_s: float = 1.0,
        start: Sequence[float] = (0.0, 0.0, 0.0),
        filament_relative: bool | None = None,
    ) -> None:
        self._own = sorted(own, key=lambda word: -len(word.begins))
        self._letter, self._dwell_s = (filament or "E").upper().encode()[0], dwell_s
        self._now = _State(position=list(start))
        if filament_relative is not None:
            self._now.filament_absolute = not filament_relative
        self._x, self._y, self._z = array("f"), array("f"), array("f")
        self._e, self._f, self._line, self._kind = array("f"), array("f"), array("i"), array("b")
        self._actions: list[PrintAction] = []
        self._left_out: dict[str, int] = {}
        self._problems: dict[str, LineProblem] = {}
        self._count = 0

    def read(self, lines: Iterable[bytes]) -> PrintText:
        """The whole text.

        Raises:
            TooMany: it has more moves than are kept.
        """
        quick = self._quick
        for raw in lines:
            self._count += 1
            if not quick(raw):
                self._slow(raw)
            if self._now.ended:
                self._count += sum(1 for _ in lines)
                break
        kinds = np.frombuffer(self._kind, dtype=np.int8) if self._kind else np.zeros(0, dtype=np.int8)
        moves = Moves(
            np.column_stack([_floats(self._x), _floats(self._y), _floats(self._z)]),
            _floats(self._e),
            _floats(self._f),
            np.frombuffer(self._line, dtype=np.int32) if self._line else np.zeros(0, dtype=np.int32),
            kinds == 1,
        )
        problems = tuple(sorted(self._problems.values(), key=lambda problem: problem.line))
        return PrintText(self._count, moves, tuple(self._actions), dict(self._left_out), problems)

    def _quick(self, raw: bytes) -> bool:
        """Take a plain line of G0 or G1 with words apart; False where it is anything else."""
        if _SEMICOLON in raw:
            raw = raw[: raw.index(b";")]
        words = raw.split()
        if not words:
            return True
        now, letter = self._now, self._letter
        motion, feed = now.motion, now.feed
        if motion not in (0, 1) and words[0][0] != _G:
            return False
        x = y = z = e = None
        try:
            for word in words:
                which, value = word[0], float(word[1:])
                if value - value != 0.0 or word.find(b"E", 1) > 0 or word.find(b"e", 1) > 0:
                    return False  # not a finite number, or two words in one
                if which == _X:
                    x = value
                elif which == _Y:
                    y = value
                elif which == letter:
                    e = value
                elif which == _G and value in (0.0, 1.0):
                    motion = int(value)
                elif which == _F and value > 0:
                    feed = value * now.unit / 60
                elif which == _Z:
                    z = value
                else:
                    return False
        except ValueError:
            return False
        now.motion, now.feed = motion, feed
        if x is not None or y is not None or z is not None or e is not None:
            self._move(x, y, z, e)
        return True

    def _move(self, x: float | None, y: float | None, z: float | None, e: float | None) -> None:
        now, at = self._now, self._now.position
        if x is not None:
            at[0] = x * now.unit + now.shift[0] if now.absolute else at[0] + x * now.unit
        if y is not None:
            at[1] = y * now.unit + now.shift[1] if now.absolute else at[1] + y * now.unit
        if z is not None:
            at[2] = z * now.unit + now.shift[2] if now.absolute else at[2] + z * now.unit
        self._add(at[0], at[1], at[2], self._pushed(e), self._feed(), 0)

    def _pushed(self, e: float | None) -> float:
        """Filament that a word of it pushes, mm."""
        if e is None:
            return 0.0
        now, mm = self._now, e * self._now.unit
        from_zero = now.absolute if now.filament_absolute is None else now.filament_absolute
        if not from_zero:
            return mm
        pushed, now.counted = mm - now.counted, mm
        return pushed

    def _feed(self) -> float:
        now = self._now
        if now.feed:
            return now.feed
        if now.motion:
            self._complain("no feed (F) was given before the first move with one: it goes as fast as the axes may")
        return RAPID_MM_S

    def _add(self, x: float, y: float, z: float, e: float, feed: float, kind: int) -> None:
        self._x.append(x)
        self._y.append(y)
        self._z.append(z)
        self._e.append(e)
        self._f.append(feed)
        self._line.append(self._count)
        self._kind.append(kind)
        if len(self._line) > MOST_MOVES:
            raise TooMany(f"more than {MOST_MOVES:,} moves by line {self._count:,}: too many to be kept")

    # everything else

    def _slow(self, raw: bytes) -> None:
        text = _without_comments(raw).strip()
        if text in (b"", b"%"):
            return
        if (own := self._own_word(text.upper())) is not None:
            self._use(own, text.upper())
            return
        if (foreign := self._foreign(text)) is not None:
            self._leave_out(foreign)
            return
        words, rest = self._words(text)
        if rest:
            name = _NAME.match(rest)
            begun = rest[:20].decode("latin-1")
            if name is not None and not words and len(name[1]) > 1:
                self._leave_out(name[1].decode("latin-1"))
            elif words and len(rest) == 1 and rest.isalpha():
                self._complain(f"{begun} has no number: the line is cut off")
            else:
                self._complain(f"“{begun}” is no word with a number")
            return
        self._obey(words)

    def _words(self, text: bytes) -> tuple[list[tuple[str, float]], bytes]:
        """Letters with their numbers, and what cannot be read as such."""
        words, at = [], 0
        while (match := _WORD.match(text, at)) is not None:
            words.append((match[1].decode().upper(), float(match[2])))
            at = match.end()
        rest = text[at:].strip().upper()
        return words, b"" if rest.startswith(b"*") else rest  # a checksum, which some programs write

    def _foreign(self, text: bytes) -> str | None:
        """The word that a line begins with, where the standard does not have it: what belongs to it goes with it."""
        first = _WORD.match(text)
        if first is not None and first[1] in b"Nn":
            first = _WORD.match(text, first.end())
        if first is None:
            return None
        letter, value = first[1].decode().upper(), float(first[2])
        known = {"G": KNOWN_G, "M": (2.0, 30.0), "T": ()}.get(letter)
        return f"{letter}{value:g}" if known is not None and value not in known else None

    def _own_word(self, text: bytes) -> OwnWord | None:
        line = text.decode("latin-1")
        for word in self._own:
            begins = word.begins.upper()
            after = line[len(begins) : len(begins) + 1]
            if line.startswith(begins) and not (begins[-1:].isdigit() and (after.isdigit() or after == ".")):
                return word
        return None

    def _use(self, own: OwnWord, text: bytes) -> None:
        """Do what the builder's table says of a word."""
        value = math.nan
        if own.does in VALUED:
            behind = text[len(own.begins) :]
            number = re.search(rb"%s\s*([-+]?(?:\d+\.?\d*|\.\d+))" % own.letter.upper().encode(), behind)
            if number is None:
                self._complain(f"{own.begins} has no {own.letter} with a number")
                return
            value = float(number[1]) * own.factor
        if own.does == "filament from zero":
            self._now.filament_absolute = True
        elif own.does == "filament from the last":
            self._now.filament_absolute = False
        elif own.does != "nothing":
            self._actions.append(PrintAction(len(self._line), own.does, value, self._count))

    def _obey(self, words: Sequence[tuple[str, float]]) -> None:
        """The words of one line, modes first."""
        now, values, dwell, preset = self._now, dict[str, float](), False, False
        filament = chr(self._letter)
        for letter, value in words:
            if letter == "G":
                dwell, preset = dwell or value == 4, preset or value == 92
                self._mode(value)
            elif letter == "M" and value in (2, 30):
                now.ended = True
            elif letter == "F":
                now.feed = value * now.unit / 60 if value > 0 else now.feed
                if value <= 0:
                    self._complain(f"F {value:g}: a feed is above 0")
            elif letter in ("X", "Y", "Z", "I", "J", "R", "P", filament):
                values[letter] = value
            elif letter not in ("N", "O"):
                self._leave_out(f"{letter}{value:g}" if letter in "MT" else letter)
        if preset:
            self._preset(values, filament)
        elif dwell:
            x, y, z = now.position
            self._add(x, y, z, 0.0, values.get("P", values.get("X", 0.0)) * self._dwell_s, 1)
        elif any(axis in values for axis in ("X", "Y", "Z", filament)) or "I" in values or "J" in values:
            if now.motion in (2, 3):
                self._curve(values, filament)
            elif now.motion < 0:
                self._complain("a move before any of G0 to G3: it is not known how it goes")
            else:
                self._move(values.get("X"), values.get("Y"), values.get("Z"), values.get(filament))

    def _mode(self, value: float) -> None:
        now = self._now
        if value in (0, 1, 2, 3):
            now.motion = int(value)
        elif value in (20, 21):
            now.unit = INCH_MM if value == 20 else 1.0
        elif value in (90, 91):
            now.absolute = value == 90
        elif value in (18, 19):
            self._complain(f"G{value:g}: curves are followed in the plane of X and Y only")
        elif value not in (4, 17, 92):
            self._leave_out(f"G{value:g}")

    def _preset(self, values: Mapping[str, float], filament: str) -> None:
        """G92: from here on the place where it stands counts as these."""
        now = self._now
        for at, axis in enumerate("XYZ"):
            if axis in values:
                now.shift[at] = now.position[at] - values[axis] * now.unit
        if filament in values:
            now.counted = values[filament] * now.unit

    def _curve(self, values: Mapping[str, float], filament: str) -> None:
        """G2 clockwise, G3 counter-clockwise, about a centre or with a radius, in chords."""
        now = self._now
        start, end = tuple(now.position), list(now.position)
        for at, axis in enumerate("XYZ"):
            if axis in values:
                mm = values[axis] * now.unit
                end[at] = mm + now.shift[at] if now.absolute else end[at] + mm
        turn = -1 if now.motion == 2 else 1
        if "I" in values or "J" in values:
            centre = (start[0] + values.get("I", 0.0) * now.unit, start[1] + values.get("J", 0.0) * now.unit)
        elif "R" in values:
            by_radius = _centre(start, end, values["R"] * now.unit, turn)
            if by_radius is None:
                self._complain(f"G{now.motion}: a radius of {values['R']:g} does not reach from its start to its end")
                return
            centre = by_radius
        else:
            self._complain(f"G{now.motion} without a centre: I and J, or R")
            return
        radius, other = math.dist(start[:2], centre), math.dist(end[:2], centre)
        if radius < 1e-6 or abs(radius - other) > RADIUS_MM + RADIUS_FRACTION * radius:
            self._complain(f"G{now.motion}: start and end are {radius:.3f} and {other:.3f} mm from its centre")
            return
        begin = math.atan2(start[1] - centre[1], start[0] - centre[0])
        angle = turn * (math.atan2(end[1] - centre[1], end[0] - centre[0]) - begin) % (2 * math.pi) or 2 * math.pi
        count = max(1, math.ceil(angle / (2 * math.acos(max(0.0, 1 - CHORD_MM / max(radius, CHORD_MM))))))
        pushed, feed = self._pushed(values.get(filament)) / count, self._feed()
        for number in range(1, count + 1):
            part = number / count
            here, far = begin + turn * angle * part, radius + (other - radius) * part
            x, y = centre[0] + far * math.cos(here), centre[1] + far * math.sin(here)
            x, y = (end[0], end[1]) if number == count else (x, y)
            self._add(x, y, start[2] + (end[2] - start[2]) * part, pushed, feed, 0)
        now.position[:] = end

    def _leave_out(self, word: str) -> None:
        self._left_out[word] = self._left_out.get(word, 0) + 1

    def _complain(self, text: str) -> None:
        known = self._problems.get(text)
        if known is not None:
            self._problems[text] = LineProblem(known.line, text, known.count + 1)
        elif len(self._problems) < MOST_PROBLEMS:
            self._problems[text] = LineProblem(self._count, text)


def _floats(values: array[float]) -> NDArray[np.float32]:
    return np.frombuffer(values, dtype=np.float32) if values else np.zeros(0, dtype=np.float32)


def _without_comments(raw: bytes) -> bytes:
    """A line without what stands in brackets or behind a semicolon."""
    if _BRACKET not in raw and _SEMICOLON not in raw:
        return raw
    kept, depth = bytearray(), 0
    for byte in raw:
        if byte == _SEMICOLON and not depth:
            break
        if byte == _BRACKET:
            depth += 1
        elif byte == ord(")") and depth:
            depth -= 1
        elif not depth:
            kept.append(byte)
    return bytes(kept)


def _centre(start: Sequence[float], end: Sequence[float], radius: float, turn: int) -> tuple[float, float] | None:
    """The centre of a curve with a radius; a negative one takes the longer way round. None: it does not reach."""
    across = math.dist(start[:2], end[:2])
    if across < 1e-9 or across > 2 * abs(radius) * (1 + 1e-6):
        return None
    aside = math.sqrt(max(0.0, radius**2 - across**2 / 4)) * (1 if radius > 0 else -1) * turn
    x, y = (end[0] - start[0]) / across, (end[1] - start[1]) / across
    return (start[0] + end[0]) / 2 - aside * y, (start[1] + end[1]) / 2 + aside * x
