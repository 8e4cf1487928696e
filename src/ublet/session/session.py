"""One open machine: its document, board and ledger, and everything that is done to them."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

from ublet.core.evidence import stale_reasons
from ublet.core.route import ROUTE, Standing, Station
from ublet.core.settings import Part, Value
from ublet.core.trial import Option, TrialResult, TrialSpec
from ublet.core.units import with_uncertainty
from ublet.ledger.book import Change, Ledger, TrialEntry
from ublet.link.transport import Transport
from ublet.session.bench import LinkBench, Watcher
from ublet.session.connection import Connection
from ublet.session.document import Document
from ublet.session.runner import Ran, Runner
from ublet.session.saving import Saved, now, save, settle


@dataclass(frozen=True)
class Entered:
    """A trial that was run and entered in the ledger (number None: the ledger could not be written)."""

    ran: Ran
    number: int | None


class Session:
    """A machine that is open. Create it, ``await open()`` or ``connection.keep()``, and ``await close()``."""

    def __init__(self, file: Path, opener: Callable[[], Awaitable[Transport]], threaded: bool = True) -> None:
        self.document = Document(file)
        self.ledger = Ledger(ledger_path(file))
        self.connection = Connection(opener)
        self.runner = Runner(self.connection)
        self._threaded = threaded
        self._saving = asyncio.Lock()
        self._settled_link: object = None
        self.notices: list[str] = []
        self.connection.changed.append(self._settle_soon)

    async def close(self) -> None:
        """Heaters off, link and ledger closed."""
        if self.connection.linked and self.connection.state.mode == "ready":
            await self.runner.all_off()
        await self.connection.close()
        self.ledger.close()

    # trials

    async def run(self, spec: TrialSpec, parameters: Part, watcher: Watcher) -> Entered:
        """Run a trial and enter it in the ledger, whatever its outcome.

        Raises:
            LedgerError: it ran, but could not be entered.
        """
        bench = LinkBench(self.document.machine, self.connection, watcher, self.proven, self._threaded)
        await self.connection.first_readings()
        ran = await self.runner.run(spec, parameters, bench)
        number = self.ledger.add_trial(
            now(), spec.name, spec.station, parameters.model_dump(), ran.result, ran.duration_s
        )
        return Entered(ran, number)

    def proven(self, trial: str) -> TrialResult | None:
        """The last proven result of a trial."""
        entry = self.ledger.latest(trial, "proven")
        return entry.result if entry else None

    # settings

    async def keep(self, option: Option, trial: int | None) -> None:
        """Write an option's proposals to the live machine.

        Raises:
            LinkLost, BoardRefused: nothing was changed.
        """
        changes = [
            Change(now(), "keep", trial, p.setting, "live", self.live(p.setting), p.after) for p in option.proposals
        ]
        await self.connection.write_live({p.setting: p.after for p in option.proposals})
        self.ledger.add_changes(changes)

    async def drop(self) -> int:
        """Put the kept, unsaved values back to what the board has saved; returns how many."""
        unsaved = self.unsaved()
        if unsaved:
            changes = [
                Change(now(), "drop", None, item.setting, "live", item.after, self._saved(item.setting))
                for item in unsaved
            ]
            await self.connection.write_live({item.setting: self._saved(item.setting) for item in unsaved})
            self.ledger.add_changes(changes)
        return len(unsaved)

    def live(self, path: str) -> Value:
        """The live value on the board, or None."""
        layers = self.connection.layers.get(path)
        return layers.live if layers else None

    def _saved(self, path: str) -> Value:
        return self.connection.layers[path].saved

    def unsaved(self) -> list[Saved]:
        """Settings whose live value would not survive a power-off."""
        found = []
        for path, layers in self.connection.layers.items():
            if layers.live != layers.saved:
                found.append(Saved(path, self.document.value(path), layers.stored, layers.live))
        return found

    def shadowed(self) -> list[Saved]:
        """Settings whose stored value hides another one in the file."""
        return [
            Saved(path, self.document.value(path), layers.stored, layers.live)
            for path, layers in self.connection.layers.items()
            if layers.stored is not None and self.document.value(path) not in (None, layers.stored)
        ]

    async def save(self) -> int:
        """Save every unsaved value to the board's store and the machine file; returns how many.

        Raises:
            SaveFailed: nothing was saved.
        """
        unsaved = {item.setting: item.after for item in self.unsaved()}
        if unsaved:
            kept = self.ledger.changes("keep")
            trial = kept[0].trial if kept else None
            async with self._saving:
                await save(self.document, self.connection, self.ledger, unsaved, trial)
        return len(unsaved)

    async def settle(self) -> None:
        """Settle an interrupted save, if there is one; what was done is noted."""
        async with self._saving:  # a save of our own that is under way is not an interrupted one
            told = await settle(self.document, self.connection, self.ledger)
        if told:
            self.notices.append(told)

    def _settle_soon(self) -> None:
        """Once for each new link: an earlier save may have been cut off."""
        client = self.connection.client
        if self.connection.linked and client is not self._settled_link:
            self._settled_link = client
            if self.ledger.pending_save() is not None:
                self._settling = asyncio.get_running_loop().create_task(self.settle())

    # route

    def standing(self, station: Station) -> Standing:
        """Where a station stands, from the ledger and the board."""
        if not station.built:
            return Standing("waiting", "", "not built yet")
        if self.runner.running is not None and self.runner.running.name in station.trials:
            return Standing("running")
        entry = self._deciding(station)
        if entry is None:
            return Standing("open")
        if entry.result.outcome != "proven":
            return Standing("failed", "failed", entry.result.why)
        live = {path: layers.live for path, layers in self.connection.layers.items()}
        reasons = stale_reasons(entry.result.conditions, live) if live else ()
        figure = self._figure(entry)
        if reasons:
            return Standing("stale", "stale", "; ".join(reasons))
        if entry.name != station.trials[-1]:
            return Standing("open", "unverified", "tuned, not yet kept and verified")
        return Standing("proven", figure, entry.result.why)

    def _deciding(self, station: Station) -> TrialEntry | None:
        """The trial that decides: the newest of the station's, a cancelled one not counted."""
        entries = [
            entry
            for name in station.trials
            for entry in self.ledger.trials(name)[:20]
            if entry.result.outcome != "halted"
        ]
        return max(entries, key=lambda entry: entry.id, default=None)

    def _figure(self, entry: TrialEntry) -> str:
        overshoot = entry.result.finding("overshoot")
        if overshoot is None:
            return ""
        return with_uncertainty(overshoot.value, overshoot.uncertainty or 0.0)

    def standings(self) -> Mapping[str, Standing]:
        """All stations by name."""
        return {station.name: self.standing(station) for station in ROUTE}


def ledger_path(file: Path) -> Path:
    """The ledger that belongs to a machine file: beside it."""
    return file.with_suffix(".ledger")
