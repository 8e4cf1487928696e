"""What a run is: the streams that it records, its findings, what it proposes, and how it ended."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ublet.core.remedy import Remedy
from ublet.core.settings import Value, finite

Outcome = Literal["proven", "failed", "halted"]
Subject = Mapping[str, str]
"""What a finding is about: ``{"axis": "x"}``, ``{"heater": "bed"}``; empty for the whole machine."""

_STABLE = re.compile(r"[a-z][a-z_]*")


@dataclass(frozen=True)
class Finding:
    """A measured or predicted value with its standard uncertainty (None: not known) and its limit.

    what: a stable word (letters and _), the same in every run, so that a finding can be followed over time; with the
    subject it is unique in its run. words: how it is called where people read it; left out, they are made of both.
    tolerance: by how much it may move before what rests on it counts as stale; left out, two standard uncertainties, or
    a twentieth of a value whose uncertainty is not known.
    """

    what: str
    value: float
    uncertainty: float | None = None
    unit: str = ""
    limit: float | None = None
    subject: Subject = field(default_factory=dict)
    words: str = ""
    tolerance: float | None = None

    def __post_init__(self) -> None:
        if not _STABLE.fullmatch(self.what):
            raise ValueError(f"“{self.what}” is no stable word for a finding: small letters and _ only")
        for number in (self.value, self.uncertainty, self.limit):
            if number is not None and not math.isfinite(number):
                raise ValueError(f"the finding “{self.name}” is no finite number ({number})")

    @property
    def id(self) -> str:
        """The same in every run and unique in its own: ``spread.x``, ``gain.hotend``."""
        return ".".join((self.what, *self.subject.values()))

    @property
    def name(self) -> str:
        """How people call it: ``x spread``."""
        return self.words or " ".join((*self.subject.values(), self.what.replace("_", " ")))

    @property
    def may_move(self) -> float:
        """By how much it may move before what rests on it counts as stale."""
        if self.tolerance is not None:
            return self.tolerance
        return 2 * self.uncertainty if self.uncertainty is not None else UNCERTAIN_FRACTION * abs(self.value)

    @property
    def within(self) -> bool:
        """Whether the value keeps its limit (by magnitude); True without one."""
        return self.limit is None or abs(self.value) <= self.limit


UNCERTAIN_FRACTION = 0.05
"""A value whose uncertainty is not known may move by this share of it."""


def about(subject: Subject, findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """The findings as findings about a subject, which comes before what they were about already."""
    return tuple(replace(finding, subject={**subject, **finding.subject}) for finding in findings)


@dataclass(frozen=True)
class Proposal:
    """A setting that a trial proposes to change."""

    setting: str
    before: Value
    after: Value
    unit: str
    effect: str

    def __post_init__(self) -> None:
        if not finite(self.after):
            raise ValueError(f"the proposal for {self.setting} is no finite number ({self.after})")


@dataclass(frozen=True)
class Option:
    """One of several sets of proposals to choose from, with the figures predicted for it.

    figures maps a finding's word to its value; None where the prediction does not show it.
    """

    name: str
    note: str
    proposals: tuple[Proposal, ...]
    figures: Mapping[str, float | None]


Number = Literal["f8", "f4", "i4", "i2"]
"""How a stream's numbers are kept: floating point or whole, of so many bytes."""


@dataclass(frozen=True)
class Stream:
    """What a trial records, declared before it runs: columns with their units, rows a second (None: as it comes).

    A recipe may record several of one kind, distinguished by a word (``predicted calm``).
    """

    name: str
    columns: tuple[str, ...]
    units: tuple[str, ...]
    rate_hz: float | None = None
    number: Number = "f8"

    def __post_init__(self) -> None:
        if len(self.columns) != len(self.units):
            raise ValueError(f"the stream “{self.name}” has {len(self.columns)} columns and {len(self.units)} units")


@dataclass(frozen=True)
class Series:
    """Recorded data: rows (n x m) under m column names; units, where they are known, one for each."""

    columns: tuple[str, ...]
    rows: NDArray[np.float64]
    units: tuple[str, ...] = ()

    def column(self, name: str) -> NDArray[np.float64]:
        """One column (n)."""
        return np.asarray(self.rows[:, self.columns.index(name)])


@dataclass(frozen=True)
class TrialResult:
    """What a trial found. ``conditions`` is the state it holds for; ``recommended`` names an option.

    remedies: the ways out of a result that is not proven, the best one first.
    """

    outcome: Outcome
    why: str
    conditions: Mapping[str, Value] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()
    options: tuple[Option, ...] = ()
    recommended: str = ""
    remedies: tuple[Remedy, ...] = ()

    @property
    def choice(self) -> Option | None:
        """The recommended option."""
        return next((option for option in self.options if option.name == self.recommended), None)

    @property
    def proposals(self) -> tuple[Proposal, ...]:
        """The proposals of the recommended option."""
        return self.choice.proposals if self.choice else ()

    def finding(self, what: str, **subject: str) -> Finding | None:
        """The first finding of that word that is about this (heater, axis, ...); None: there is none."""
        return next(iter(self.all_of(what, **subject)), None)

    def all_of(self, what: str, **subject: str) -> tuple[Finding, ...]:
        """All findings of a word that are about this."""
        wanted = subject.items()
        return tuple(
            finding for finding in self.findings if finding.what == what and wanted <= dict(finding.subject).items()
        )


class TrialFailed(Exception):
    """A trial cannot give an answer; the message is a sentence that says why and what to do.

    remedies: the ways out, the best one first. ``outcome`` is "halted" when a halt or a guard ended it.
    """

    def __init__(self, why: str, remedy: Remedy, *more: Remedy, outcome: Outcome = "failed") -> None:
        super().__init__(why)
        self.remedies: tuple[Remedy, ...] = (remedy, *more)
        self.outcome: Outcome = outcome


@dataclass(frozen=True)
class Progress:
    """Where a trial is: a phase in words, share done 0..1, and seconds left (None: not known yet).

    about: which part or step it is at now (an axis, a motor's settings, a drill), for whoever draws it. planned: the
    seconds left are those of a program, timed by the planner. phase_only: they are those of this phase, not the trial.
    """

    phase: str
    fraction: float
    left_s: float | None = None
    detail: str = ""
    about: str = ""
    planned: bool = False
    phase_only: bool = False

    @property
    def words(self) -> str:
        """Phase and detail as one phrase: “touch 3 of 10”, “the bed soaks, its surface lags its sensor”."""
        apart = " " if self.detail.startswith("of ") else ", "
        return f"{self.phase}{apart if self.detail else ''}{self.detail}"


@dataclass(frozen=True)
class Checkpoint:
    """Where a long trial can go on: what was done so far, in words, and what it needs for the rest (JSON)."""

    words: str
    state: Mapping[str, Any]
