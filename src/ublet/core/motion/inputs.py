"""What a builder's hand at each switch tells: right, inverted, broken, dead, or another one's plug."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from ublet.core.settings import Value
from ublet.core.trial import InputState, Proposal

States = Mapping[str, InputState]
Kind = Literal["good", "inverted", "broken", "dead", "elsewhere", "unchecked"]


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
class Verdict:
    """What one switch turned out to be, in a sentence; other: the input that it moved instead of its own."""

    name: str
    kind: Kind
    words: str
    edges: int = 0
    other: str = ""

    @property
    def good(self) -> bool:
        """Whether the switch is as declared."""
        return self.kind == "good"


def input_words(name: str) -> str:
    """An input in words: ``X endstop``, ``probe``."""
    last = name.rpartition(".")[2]
    return "probe" if name == "probe" else f"{last.upper() if len(last) == 1 else last} endstop"


def judge(name: str, pressed: Pressed | None) -> Verdict:
    """What a hand at one switch tells; None: it was not pressed.

    Idle triggered and changing is the wrong polarity; idle triggered and unchanging, an open circuit; not triggered
    and unchanging, a dead switch or a wrong socket; another one changing, a mixed-up plug.
    """
    words = input_words(name)
    if pressed is None:
        return Verdict(name, "unchecked", f"The {words} was not pressed.")
    moved, idle = pressed.moved(), pressed.before[name].triggered
    edges = pressed.edges(name)
    if name in moved and idle:
        return Verdict(name, "inverted", f"The {words} reads triggered at rest and free when pressed: inverted.", edges)
    if name in moved:
        bounced = f", {edges} edges: it bounces" if edges > 2 else ""
        return Verdict(name, "good", f"The {words} follows the hand{bounced}.", edges)
    if moved:
        other = moved[0]
        return Verdict(name, "elsewhere", f"Pressing the {words} moved the {input_words(other)}.", edges, other)
    if idle:
        return Verdict(
            name,
            "broken",
            f"The {words} reads triggered and does not change: broken wire, or nothing plugged in.",
            edges,
        )
    return Verdict(
        name, "dead", f"The {words} never changes: dead switch, or its plug sits in no declared socket.", edges
    )


def mends(verdicts: Mapping[str, Verdict], settings: Mapping[str, Value]) -> tuple[Proposal, ...]:
    """The settings that would put it right: polarity turned, sockets of mixed-up plugs exchanged.

    settings: live values of ``NAME.socket`` and ``NAME.normally_closed``. What only a hand can mend has none.
    """
    found: list[Proposal] = []
    done: set[str] = set()
    for name, verdict in verdicts.items():
        if verdict.kind == "inverted":
            path = f"{name}.normally_closed"
            before = settings.get(path)
            found.append(Proposal(path, before, not before, "", f"the {input_words(name)} reads free at rest"))
        elif verdict.kind == "elsewhere" and name not in done:
            other = verdicts.get(verdict.other)
            if other is not None and other.other == name:
                done |= {name, other.name}
                for one, two in ((name, other.name), (other.name, name)):
                    now, then = settings.get(f"{one}.socket"), settings.get(f"{two}.socket")
                    found.append(
                        Proposal(f"{one}.socket", now, then, "", f"the {input_words(one)} is plugged in there")
                    )
    return tuple(found)
