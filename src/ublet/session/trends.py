"""Findings over the runs of a machine: what creeps or stepped, in words, with the fact that lies next to a step."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ublet.core.facts import Fact
from ublet.core.run import Finding
from ublet.core.trend import MOST, Trend, trend
from ublet.core.units import show
from ublet.ledger.book import Ledger
from ublet.ledger.entries import RunEntry
from ublet.session.record import local_time


@dataclass(frozen=True)
class FindingHistory:
    """A finding over its proven runs, oldest first: runs, values, uncertainties; what they do (None: too few to say);
    facts that were reported between the two runs of a step.
    """

    finding: Finding
    entries: tuple[RunEntry, ...]
    values: tuple[float, ...]
    uncertainties: tuple[float | None, ...]
    trend: Trend | None
    facts: tuple[Fact, ...]

    @property
    def words(self) -> str:
        """What it does, as a sentence; empty where nothing is to be said."""
        what, unit = self.trend, self.finding.unit
        if what is None or what.kind == "scatters":
            return ""
        if what.kind == "creeps":
            whole = what.slope * (what.count - 1)
            slope = f"{show(what.slope, unit, 2)} ±{show(what.slope_u, unit, 2)}"
            return f"{self.finding.name} creeps: {slope} from run to run, {show(whole, unit, 2)} over {what.count} runs"
        at = self.entries[-what.count :][what.at]
        words = (
            f"{self.finding.name} stepped by {show(what.step, unit, 2)} ±{show(what.step_u, unit, 2)} at run {at.id} "
            f"({local_time(at.at)[:10]})"
        )
        if self.facts:
            return f"{words}; reported between: {', '.join(fact.words for fact in self.facts)}"
        return f"{words}; nothing was reported between"


def followed(ledger: Ledger, entry: RunEntry, finding: Finding) -> FindingHistory:
    """A finding of a run over all proven runs of its trial."""
    known = [
        (run, value, u)
        for run, value, u in reversed(ledger.followed(finding.id, MOST))
        if run.name == entry.name and run.result.outcome == "proven"
    ]
    values = tuple(value for _, value, _ in known)
    what = trend(values)
    entries = tuple(run for run, _, _ in known)
    facts: tuple[Fact, ...] = ()
    if what is not None and what.kind == "stepped":
        tail = entries[-what.count :]
        since, until = tail[what.at - 1].at, tail[what.at].at
        facts = tuple(fact for fact in reversed(ledger.facts(200)) if since <= fact.at <= until)
    return FindingHistory(finding, entries, values, tuple(u for _, _, u in known), what, facts)


def trends_of(ledger: Ledger, entry: RunEntry) -> Iterator[FindingHistory]:
    """Every finding of a run that creeps or stepped."""
    for finding in entry.result.findings:
        one = followed(ledger, entry, finding)
        if one.words:
            yield one
