"""Questions to the builder: a closed family. Each kind has one meaning for screen, scripted builder and terminal.

Every question has ``text`` and may have a ``cue``, the act or observation that it asks for (``acts.py``,
``observations.py``), the same for a scripted builder and for the demonstration. An answer is what was typed: one of
``answers``, or what its kind allows besides (a quantity, a move, verdicts, a control).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from ublet.core.acts import Act
from ublet.core.motion.targets import Target, parse_targets
from ublet.core.observations import Observation
from ublet.core.units import NotAQuantity, parse, show
from ublet.core.words import several


@dataclass(frozen=True)
class Question:
    """Choose one: any number of answers, the first one is usual."""

    text: str
    answers: tuple[str, ...] = ()
    cue: Act | Observation | None = None
    hot: str = field(default="", kw_only=True)
    """What would burn a hand, as it was read when this was put; whoever puts it to a person says it first."""

    @property
    def by_hand(self) -> bool:
        """Whether a hand comes near the machine for it: always, unless one only looks, or watches what goes on."""
        return not isinstance(self, Live) and (self.cue is None or self.cue.by_hand)

    def allowed(self) -> str:
        """What can be answered, in words."""
        return ", ".join(f"{number} {answer}" for number, answer in enumerate(self.answers, start=1))

    def taken(self, text: str) -> str:
        """What was typed, as an answer: its number, its word or a beginning that only one word has.

        Raises:
            NotAQuantity: it is none; the message says what would be.
        """
        text = text.strip()
        if text.isdigit() and 0 < int(text) <= len(self.answers):
            return self.answers[int(text) - 1]
        begun = [answer for answer in self.answers if text and answer.lower().startswith(text.lower())]
        exact = [answer for answer in begun if answer.lower() == text.lower()]
        if len(exact or begun) == 1:
            return (exact or begun)[0]
        raise NotAQuantity(f"“{text}” is no answer; allowed: {self.allowed()}")


@dataclass(frozen=True)
class Confirm(Question):
    """Do this and say that it is done; further answers mean that it was not."""


@dataclass(frozen=True)
class Measure(Question):
    """Read a quantity with an instrument; it is typed with this unit or another one. answers: what may be said instead,
    where there may be nothing to read. lowest, highest: what can be read at all, in this unit.
    """

    unit: str = ""
    lowest: float | None = None
    highest: float | None = None

    def allowed(self) -> str:
        """A quantity, or a word instead."""
        words = f", or a word: {', '.join(self.answers)}" if self.answers else ""
        low, high = (show(bound, self.unit, 5) if bound is not None else "" for bound in (self.lowest, self.highest))
        bounds = (
            f", from {low} to {high}" if low and high else f", from {low}" if low else f", to {high}" if high else ""
        )
        return f"type what is read, in {self.unit} or with another unit{bounds}{words}"

    def taken(self, text: str) -> str:
        """A quantity, as it was typed; or a word that may be said instead."""
        words = [answer for answer in self.answers if text.strip() and answer.startswith(text.strip().lower())]
        if len(words) == 1 and not text.strip().isdigit():
            return words[0]
        read = parse(text, self.unit)
        if (self.lowest is not None and read < self.lowest) or (self.highest is not None and read > self.highest):
            raise NotAQuantity(f"{show(read, self.unit, 5)} cannot be read here: {self.allowed()}")
        return text.strip()


@dataclass(frozen=True)
class Jog(Question):
    """Jog axes until something is reached, then give an answer.

    axes: those that may be moved, by answers such as ``x+0.5`` or ``y120``. steps: from large to small, mm; the next
    smaller one is offered when the direction turns. floor: the lowest position that an axis may be moved to, mm. homed:
    whether they must know where they stand when it is answered.
    """

    axes: tuple[str, ...] = ()
    steps: tuple[float, ...] = (50.0, 10.0, 1.0, 0.1)
    floor: Mapping[str, float] | None = None
    homed: bool = True

    def allowed(self) -> str:
        """The answers, and how to move."""
        floors = "".join(f"; {axis.upper()} not below {show(mm, 'mm')}" for axis, mm in (self.floor or {}).items())
        return f"{super().allowed()}; or move {several(self.axes)}, for example {self.axes[0]}+0.5{floors}"

    def taken(self, text: str) -> str:
        """An answer, or a move of the axes that may be moved."""
        try:
            return super().taken(text)
        except NotAQuantity:
            if not text.strip():
                raise
        self.targets(text, self.axes[0], dict.fromkeys(self.axes, 0.0), checked=False)
        return text.strip()

    def targets(
        self, text: str, usual: str, position: Mapping[str, float | None], checked: bool = True
    ) -> tuple[Target, ...]:
        """The moves that were typed.

        Raises:
            NotAQuantity: they are none, of another axis, or would end below the floor.
        """
        targets = parse_targets(text, usual, position)
        for target in targets:
            if target.axis not in self.axes:
                raise NotAQuantity(f"{target.axis.upper()} is not to be moved now: only {', '.join(self.axes).upper()}")
            floor, here = (self.floor or {}).get(target.axis), position.get(target.axis)
            if checked and floor is not None and here is not None and here + target.by_mm < floor - 1e-9:
                raise NotAQuantity(
                    f"{target.axis.upper()} would end at {show(here + target.by_mm, 'mm', 5)}, below its floor of "
                    f"{show(floor, 'mm', 5)}: take a smaller step"
                )
        return targets

    def smaller(self, step: float) -> float:
        """The next smaller step; the smallest stays."""
        return next((step_mm for step_mm in self.steps if step_mm < step - 1e-12), self.steps[-1])


@dataclass(frozen=True)
class Judge(Question):
    """Judge the places of a grid: each gets one of the verdicts. The answer is a verdict a place, row by row from the
    front left, by their numbers: ``1 1 2 1``; ``all 1`` for all alike. names: of the places, where they lie in no grid;
    they are judged in that order.
    """

    columns: int = 1
    rows: int = 1
    verdicts: tuple[str, ...] = ()
    names: tuple[str, ...] = ()

    @property
    def places(self) -> int:
        """How many there are."""
        return self.columns * self.rows

    @property
    def numbers(self) -> tuple[str, ...]:
        """The verdicts' numbers."""
        return tuple(str(number) for number in range(1, len(self.verdicts) + 1))

    def allowed(self) -> str:
        """The verdicts and how they are written."""
        named = ", ".join(f"{number} {verdict}" for number, verdict in enumerate(self.verdicts, start=1))
        if self.names:
            return f"{named}; one number for each of {', '.join(self.names)}, or “all 1”"
        grid = f"{self.columns} by {self.rows}" if self.rows > 1 else f"{self.columns}"
        return f"{named}; one number for each of {grid} places from the front left, row by row, or “all 1”"

    def taken(self, text: str) -> str:
        """The verdicts, a word a place, joined by commas."""
        answer = text.strip()
        words = [part.strip() for part in answer.split(",")] if "," in answer else answer.split()
        if answer in self.verdicts:
            words = [answer]
        if len(words) == 2 and words[0].lower() == "all":
            words = [words[1]] * self.places
        if len(words) != self.places:
            raise NotAQuantity(f"{len(words)} verdicts for {self.places} places; allowed: {self.allowed()}")
        return ",".join(self._verdict(word) for word in words)

    def _verdict(self, word: str) -> str:
        if word.isdigit() and 0 < int(word) <= len(self.verdicts):
            return self.verdicts[int(word) - 1]
        if word in self.verdicts:
            return word
        raise NotAQuantity(f"“{word}” is no verdict; allowed: {self.allowed()}")

    def judged(self, answer: str) -> tuple[tuple[str, ...], ...]:
        """The verdicts of an answer by rows, from the front."""
        words = answer.split(",")
        return tuple(tuple(words[row * self.columns : (row + 1) * self.columns]) for row in range(self.rows))


@dataclass(frozen=True)
class Pick(Question):
    """Pick one of a row of numbered places, or the two between which something changes over: ``7`` or ``7-9``. labels:
    what each of them is. answers: words instead.
    """

    labels: tuple[str, ...] = ()

    def allowed(self) -> str:
        """Numbers, or a word."""
        words = f", or a word: {', '.join(self.answers)}" if self.answers else ""
        return f"a number from 1 to {len(self.labels)}, or two of them (7-9){words}"

    def taken(self, text: str) -> str:
        """One number, two with a dash, or a word."""
        answer = text.strip().lower()
        words = [word for word in self.answers if answer and word.lower().startswith(answer)]
        if len(words) == 1:
            return words[0]
        numbers = [part.strip() for part in answer.replace("–", "-").split("-")]
        if not 1 <= len(numbers) <= 2 or not all(part.isdigit() for part in numbers):
            raise NotAQuantity(f"“{text.strip()}” is no pick; allowed: {self.allowed()}")
        if outside := [part for part in numbers if not 1 <= int(part) <= len(self.labels)]:
            raise NotAQuantity(f"there is no {outside[0]}; allowed: {self.allowed()}")
        return "-".join(str(int(part)) for part in numbers)

    def picked(self, answer: str) -> tuple[int, int]:
        """The first and the last place of an answer, counted from 0."""
        numbers = sorted(int(part) - 1 for part in answer.split("-"))
        return numbers[0], numbers[-1]


@dataclass(frozen=True)
class Live(Question):
    """Controls that stay open beside something that goes on: each use is an answer of its own, until one of
    ``answers`` (or the end of what goes on) closes them. controls: word → what it does (empty: the word says it).
    once: a control is used once; what takes the question's place is then asked. acts: what a hand does before some
    control is used. any_key: every key but those that halt and cancel gives the first answer. A control whose word
    begins with a letter by itself is used by that letter.
    """

    controls: Mapping[str, str] | None = None
    once: bool = field(default=False, kw_only=True)
    acts: Mapping[str, Act] = field(default_factory=dict, kw_only=True)
    any_key: bool = field(default=False, kw_only=True)

    def allowed(self) -> str:
        """The controls and the answers."""
        offered = ", ".join(f"{word}: {does}" if does else word for word, does in (self.controls or {}).items())
        return f"{offered}; or {super().allowed()}" if self.answers else offered

    def taken(self, text: str) -> str:
        """A control's word, or an answer."""
        if text.strip() in (self.controls or {}):
            return text.strip()
        for word in self.controls or {}:
            if letter_of(word) == text.strip() != "":
                return word
        return super().taken(text)


def letter_of(control: str) -> str:
    """The letter that a control begins with and is used by; empty: it is used by its number."""
    first = control.split(" ")[0]
    return first if len(first) == 1 and first.isalpha() else ""
