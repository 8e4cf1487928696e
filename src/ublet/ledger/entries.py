"""What stands in the ledger: runs, changes of settings, the intent to save."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from ublet.core.evidence import Dependency
from ublet.core.facts import Fact
from ublet.core.run import Subject, TrialResult
from ublet.core.settings import Value, frozen


@dataclass(frozen=True)
class Opening:
    """What a run begins with: everything that is known before anything moves.

    digest: of the machine file. live: every live setting of the board. room_c: the coolest sensor. soaked_s: how long
    each heater has stood at its target. goes_on_from: the number of an earlier run that stopped at a checkpoint.
    knowingly: what it stands on and did not hold when it was started nevertheless, in words.
    """

    at: str
    trial: str
    station: str
    parameters: Mapping[str, Value]
    subject: Subject = field(default_factory=dict)
    digest: str = ""
    board: str = ""
    live: Mapping[str, Value] = field(default_factory=dict)
    facts: tuple[Fact, ...] = ()
    room_c: float | None = None
    soaked_s: Mapping[str, float] = field(default_factory=dict)
    goes_on_from: int | None = None
    knowingly: str = ""


@dataclass(frozen=True)
class RunEntry:
    """A run in the ledger. running: it has not ended; its result then only says so."""

    id: int
    at: str
    name: str
    station: str
    duration_s: float
    parameters: Mapping[str, Value]
    result: TrialResult
    subject: Subject = field(default_factory=dict)
    rests: tuple[Dependency, ...] = ()
    running: bool = False
    goes_on_from: int | None = None


@dataclass(frozen=True)
class AskedQuestion:
    """A question that was put in a run, and its answer (None: none was given)."""

    at_s: float
    text: str
    answer: str | None


@dataclass(frozen=True)
class RunPhase:
    """A phase that a run came to: when, in words, and which share was done."""

    at_s: float
    words: str
    fraction: float


@dataclass(frozen=True)
class Change:
    """A setting changed in a layer (live, stored, file) by keep, drop or save; run: the one that proposed the value;
    id: its number in the ledger, 0 for none.
    """

    at: str
    kind: str
    run: int | None
    setting: str
    layer: str
    before: Value
    after: Value
    id: int = field(default=0, compare=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "before", frozen(self.before))
        object.__setattr__(self, "after", frozen(self.after))


@dataclass(frozen=True)
class Intent:
    """A save that was begun: everything that is needed to finish it or to undo it; changes: the rows it enters."""

    at: str
    file: str
    old_text: str
    new_text: str
    stored_before: dict[str, Value]
    stored_after: dict[str, Value]
    changes: tuple[Change, ...] = ()


def subject_text(subject: Mapping[str, str]) -> str:
    """A subject as it is looked for: ``heater=hotend``; empty for the whole machine."""
    return ",".join(f"{key}={value}" for key, value in sorted(subject.items()))
