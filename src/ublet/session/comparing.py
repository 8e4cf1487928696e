"""Two states of a machine side by side: settings that differ, findings that differ by more than they err, facts between
them.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from ublet.core.catalogue import TRIALS
from ublet.core.facts import Fact
from ublet.core.machine.compare import same
from ublet.core.machine.effective import held_by_board
from ublet.core.machine.schema import SETTINGS
from ublet.core.route import ROUTE, station_of
from ublet.core.run import Finding
from ublet.core.settings import Value, thawed
from ublet.ledger.book import Ledger
from ublet.ledger.entries import RunEntry
from ublet.session.past import MachineState, Moment, PastError, moment_of, other_machine, state_at
from ublet.session.record import change_words
from ublet.session.source import Source


@dataclass(frozen=True)
class SettingPair:
    """A setting that differs. station: whose runs proposed it last, or empty; layer: where it lives; reason: what
    changed it last.
    """

    path: str
    a: Value
    b: Value
    unit: str
    station: str
    layer: str
    reason: str


@dataclass(frozen=True)
class FindingPair:
    """A finding of two runs, or of one where the other state has none. significant: they differ by more than both
    standard uncertainties, doubled and added as independent ones, allow.
    """

    station: str
    trial: str
    a: Finding | None
    b: Finding | None

    @property
    def shown(self) -> Finding:
        """Either of them."""
        one = self.b or self.a
        assert one is not None
        return one

    @property
    def significant(self) -> bool:
        """Whether it differs beyond what it errs."""
        if self.a is None or self.b is None:
            return False
        if self.a.uncertainty is None or self.b.uncertainty is None:
            return not same(self.a.value, self.b.value)
        return abs(self.a.value - self.b.value) > 2 * math.hypot(self.a.uncertainty, self.b.uncertainty)


@dataclass(frozen=True)
class Comparison:
    """Two states side by side; facts: reported between them, oldest first (of two machines: none)."""

    a: MachineState
    b: MachineState
    settings: tuple[SettingPair, ...]
    findings: tuple[FindingPair, ...]
    facts: tuple[Fact, ...]

    @property
    def stations(self) -> list[str]:
        """Those at which something differs, in the order of the route; empty: no station's."""
        named = {pair.station for pair in self.settings} | {pair.station for pair in self.findings}
        return [station.name for station in ROUTE if station.name in named] + ([""] if "" in named else [])

    def as_json(self) -> dict[str, Any]:
        """The contract's shape, with station, layer and reason besides."""
        return {
            "a": self.a.words,
            "b": self.b.words,
            "settings": [
                {
                    "setting": pair.path,
                    "a": thawed(pair.a),
                    "b": thawed(pair.b),
                    "unit": pair.unit,
                    "station": pair.station,
                    "layer": pair.layer,
                    "reason": pair.reason,
                }
                for pair in self.settings
            ],
            "findings": [
                {
                    "id": pair.shown.id,
                    "a": pair.a.value if pair.a is not None else None,
                    "a_u": pair.a.uncertainty if pair.a is not None else None,
                    "b": pair.b.value if pair.b is not None else None,
                    "b_u": pair.b.uncertainty if pair.b is not None else None,
                    "unit": pair.shown.unit,
                    "significant": pair.significant,
                    "trial": pair.trial,
                    "station": pair.station,
                }
                for pair in self.findings
            ],
            "facts": [{**asdict(fact), "words": fact.words} for fact in self.facts],
        }


def state_named(source: Source, text: str) -> MachineState:
    """A moment of the ledger as it is typed, or another machine's file.

    Raises:
        PastError, DocumentError, LedgerError.
    """
    if text.endswith(".toml"):
        return other_machine(Path(text))
    try:
        return state_of(source, moment_of(source.ledger, text))
    except PastError:
        if not Path(text).is_file():
            raise
        return other_machine(Path(text))


def state_of(source: Source, moment: Moment) -> MachineState:
    """The machine at a moment."""
    return state_at(source.document, source.ledger, source.presence, moment)


def compared(ledger: Ledger, a: MachineState, b: MachineState) -> Comparison:
    """Two states side by side."""
    apart = a.elsewhere or b.elsewhere
    pairs = []
    for path in dict.fromkeys([*a.settings, *b.settings]):
        one, other = a.settings.get(path), b.settings.get(path)
        if not same(one, other):
            pairs.append(_setting_pair(ledger, path, one, other, apart))
    findings = tuple(_finding_pairs(a.proven, b.proven))
    return Comparison(a, b, tuple(pairs), findings, () if apart else _between(a, b))


def _setting_pair(ledger: Ledger, path: str, a: Value, b: Value, apart: bool) -> SettingPair:
    declared = SETTINGS.find(path)
    change = None if apart else ledger.last_change(path)
    entry = ledger.run(change.run) if change is not None and change.run is not None else None
    reason = change_words(ledger, change) if change is not None else "" if apart else "not by this program"
    layer = "board" if held_by_board(path) else "file"
    return SettingPair(path, a, b, declared.unit if declared else "", entry.station if entry else "", layer, reason)


def _finding_pairs(a: Mapping[tuple[str, str], RunEntry], b: Mapping[tuple[str, str], RunEntry]) -> list[FindingPair]:
    pairs = []
    for key in [key for key in _in_order() if key in {name for name, _ in (*a, *b)}]:
        for own in dict.fromkeys(name for name in (*a, *b) if name[0] == key):
            one, other = a.get(own), b.get(own)
            if one is not None and other is not None and one.id == other.id and one.at == other.at:
                continue
            first = {finding.id: finding for finding in one.result.findings} if one is not None else {}
            second = {finding.id: finding for finding in other.result.findings} if other is not None else {}
            station = station_of(key).name
            pairs += [
                FindingPair(station, key, first.get(id), second.get(id)) for id in dict.fromkeys([*first, *second])
            ]
    return pairs


def _in_order() -> list[str]:
    """Trials in the order of the route."""
    return [name for station in ROUTE for name in station.trials if name in TRIALS]


def _between(a: MachineState, b: MachineState) -> tuple[Fact, ...]:
    """Facts that one of them has and the other has not, oldest first."""
    early, late = sorted((a.facts, b.facts), key=len)
    known = {fact.id for fact in early}
    return tuple(reversed([fact for fact in late if fact.id not in known]))
