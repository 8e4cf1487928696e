"""What a builder's hand at each switch shows: right, inverted, broken, dead, or another one's plug."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from ublet.core.bench import InputState
from ublet.core.run import Proposal
from ublet.core.settings import Value

States = Mapping[str, InputState]
InputFault = Literal["good", "inverted", "broken", "dead", "elsewhere", "unchecked"]


@dataclass(frozen=True)
class Pressed:
    """Every input before a switch was pressed, while it was held, and after it was let go."""

    before: States
    held: States
    after: States

    def moved(self) -> tuple[str, ...]:
        """The inputs whose level was another one while the switch was held."""
        return tuple(name for name, state in self.held.items() if state.triggered != self.before[name].triggered)

    def edges(self, name: str) -> int:
        """How often an input's level changed in all."""
        return self.after[name].edges - self.before[name].edges


@dataclass(frozen=True)
class InputVerdict:
    """What one switch turned out to be, in a sentence; other: the input that it moved instead of its own, and whether
    that one read triggered at rest.
    """

    name: str
    kind: InputFault
    words: str
    edges: int = 0
    other: str = ""
    other_idle: bool = False

    @property
    def good(self) -> bool:
        """Whether the switch is as declared."""
        return self.kind == "good"


def input_words(name: str) -> str:
    """An input in words: ``X endstop``, ``probe``."""
    last = name.rpartition(".")[2]
    if name == "filament":
        return "filament sensor"
    return "probe" if name == "probe" else f"{last.upper() if len(last) == 1 else last} endstop"


def judge(name: str, pressed: Pressed | None) -> InputVerdict:
    """What a hand at one switch shows; None: it was not pressed.

    Idle triggered and changing is the wrong polarity; idle triggered and unchanging, an open circuit; not triggered
    and unchanging, a dead switch or a wrong socket; another one changing, a mixed-up plug.
    """
    words = input_words(name)
    if pressed is None:
        return InputVerdict(name, "unchecked", f"The {words} was not pressed.")
    moved, idle = pressed.moved(), pressed.before[name].triggered
    edges = pressed.edges(name)
    if name in moved and idle:
        return InputVerdict(
            name, "inverted", f"The {words} reads triggered at rest and free when pressed: inverted.", edges
        )
    if name in moved:
        bounced = f", {edges} edges: it bounces" if edges > 2 else ""
        return InputVerdict(name, "good", f"The {words} follows the hand{bounced}.", edges)
    if moved:
        other = moved[0]
        moved_words = f"Pressing the {words} moved the {input_words(other)}."
        return InputVerdict(name, "elsewhere", moved_words, edges, other, pressed.before[other].triggered)
    if idle:
        return InputVerdict(
            name,
            "broken",
            f"The {words} reads triggered and does not change: broken wire, or nothing plugged in.",
            edges,
        )
    return InputVerdict(
        name, "dead", f"The {words} never changes: dead switch, or its plug sits in no declared socket.", edges
    )


def judge_wheel(name: str, pressed: Pressed | None) -> InputVerdict:
    """What filament that is pulled through a wheel shows: its contact must have changed."""
    words = input_words(name)
    if pressed is None:
        return InputVerdict(name, "unchecked", f"The {words} was not turned.")
    edges = pressed.edges(name)
    if edges >= FEWEST_EDGES:
        return InputVerdict(name, "good", f"The {words} turns with the filament.", edges)
    others = [other for other in pressed.held if other != name and pressed.edges(other) >= FEWEST_EDGES]
    if others:
        moved = f"Turning the {words} moved the {input_words(others[0])}."
        return InputVerdict(name, "elsewhere", moved, edges, others[0], pressed.before[others[0]].triggered)
    return InputVerdict(
        name, "dead", f"The {words} never changes: its wheel does not turn, or its plug sits elsewhere.", edges
    )


FEWEST_EDGES = 2
"""A wheel that was turned changes its contact at least so often."""


def mends(verdicts: Mapping[str, InputVerdict], settings: Mapping[str, Value]) -> tuple[Proposal, ...]:
    """The settings that would put it right: polarity turned, sockets of mixed-up plugs exchanged.

    settings: live values of ``NAME.socket`` and ``NAME.normally_closed``. Plugs go round however many they are, as long
    as they are all each other's; a switch that turns out to be of the other kind at its new socket has its polarity
    turned with it. What only a hand can mend has none.
    """
    proposals: list[Proposal] = []
    for name, verdict in verdicts.items():
        if verdict.kind == "inverted":
            proposals.append(_polarity(name, settings.get(f"{name}.normally_closed"), True))
    moved = {name: verdict.other for name, verdict in verdicts.items() if verdict.kind == "elsewhere"}
    if set(moved) != set(moved.values()):
        return tuple(proposals)  # not all each other's: where the last plug sits is not known
    for name, other in moved.items():
        now, then = settings.get(f"{name}.socket"), settings.get(f"{other}.socket")
        proposals.append(Proposal(f"{name}.socket", now, then, "", f"the {input_words(name)} is plugged in there"))
        declared, read_by = (settings.get(f"{name_of}.normally_closed") for name_of in (name, other))
        really = (not read_by) if verdicts[name].other_idle else read_by  # idle and triggered: the other kind of switch
        if None not in (declared, read_by) and really != declared:
            proposals.append(_polarity(name, declared, False))
    return tuple(proposals)


def _polarity(name: str, now: Value, rest: bool) -> Proposal:
    effect = f"the {input_words(name)} reads free at rest{'' if rest else ' there'}"
    return Proposal(f"{name}.normally_closed", now, not now, "", effect)
