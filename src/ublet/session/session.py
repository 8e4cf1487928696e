"""One open machine: its document, board and ledger, and everything that is done to them."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable, Collection, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path

from ublet.core.dialect.language import Language
from ublet.core.facts import FACTS, Fact
from ublet.core.heat.gain_sets import gains_below, gains_root
from ublet.core.heat.pid import PidGains
from ublet.core.machine.compare import Conflict, same
from ublet.core.machine.level_parts import Lifts
from ublet.core.machine.schema import MachineFile
from ublet.core.machine.traced import Readers, traced
from ublet.core.run import Option, TrialResult
from ublet.core.settings import Part, Value
from ublet.core.trial import TrialSpec
from ublet.ledger.book import Ledger
from ublet.ledger.entries import Change, RunEntry
from ublet.ledger.errors import LedgerError
from ublet.link.controller import UploadProgress
from ublet.link.errors import LinkLost
from ublet.link.replies import On, RunningImage
from ublet.link.transport import Transport
from ublet.session.bench.watcher import Watcher
from ublet.session.connection import Break, Connection
from ublet.session.document import Document, DocumentError
from ublet.session.draft import Draft
from ublet.session.holding import ELSEWHERE, Hold
from ublet.session.identity import SAME, Foreign, foreign_to
from ublet.session.kept_in_file import KeptInFile
from ublet.session.layers import LayerRow, Settling, settled_values, shadows
from ublet.session.loans import Loans
from ublet.session.news import HeaterNews
from ublet.session.parts import report_happened
from ublet.session.preferences import Kept
from ublet.session.presence import Presence
from ublet.session.runner import Ran, Runner
from ublet.session.saving import Saved, SaveFailed, now, save, settle
from ublet.session.silence import Silence
from ublet.session.soaking import SoakWatch
from ublet.session.trials import EnteredRun, Trials
from ublet.session.writing import Planned, back_up_store, plan_write, write_image


class Session:
    """A machine that is open. Create it, ``await open()`` or ``connection.keep()``, and ``await close()``.
    language: the dialect that its board speaks; None: as the machine file says.
    """

    def __init__(
        self,
        file: Path,
        opener: Callable[[], Awaitable[Transport]],
        threaded: bool = True,
        language: Language | None = None,
    ) -> None:
        self.document = Document(file)
        self.draft = Draft(self.document)
        self.ledger = Ledger(ledger_path(file), threaded)
        self.language = language or self._declared_language()
        self.connection = self._linked_by(opener)
        self.runner = Runner(self.connection, self.barred)
        self.silence = Silence(self.connection, self.ledger, lambda: self.runner.running is not None, self._drilling)
        self.connection.may_heat = self.silence.refusal
        self.connection.attends = lambda: self.runner.running is not None
        self.connection.likely = self._likely
        self.news = HeaterNews(self.connection, lambda: self.document.machine, self._drilling)
        self._saving = asyncio.Lock()
        self._kept_at: dict[str, str] = {}
        self._settled_link: object = None
        self._settling: asyncio.Task[None] | None = None
        self.soaking = SoakWatch(self.connection, lambda: self.document.machine)
        self.notices: list[str] = []
        self.preferences = Kept(None)  # the app gives it those that are kept
        self._said: set[str] = set()
        self.hold: Hold | None = None  # the app takes one, so that a second window only reads
        self.loans = Loans(self.ledger, self.connection)
        self.on_before: tuple[On, ...] = ()
        self.kept_in_file = KeptInFile(self.connection.holds)
        self.kept_in_file.take_up(self.ledger, self.document)
        self.presence = Presence(self.ledger, self.connection, lambda: self.document, self.loans, self.kept_in_file)
        self.trials = Trials(
            self.document,
            self.connection,
            self.ledger,
            self.runner,
            self.presence,
            self.loans,
            self.kept_in_file,
            self.soaking,
            self.settled,
            threaded,
        )
        self._said_same = {(c.before, c.after) for c in self.ledger.changes(SAME)}
        self._seen_on_disk = _stamp(file)
        self.disk_trouble = ""  # why what stands on the disk now cannot be used; empty: it can
        self.connection.changed.append(self._settle_soon)
        self.connection.broken.append(self._broke)

    async def close(self) -> str:
        """Everything off, link and ledger closed; returns why it is not confirmed that all is off (empty: it is)."""
        unconfirmed = await self.connection.all_off() if self.connection.ever_linked else ""
        self.presence.note_seen()
        await self.connection.close()
        self.ledger.close()
        if self.hold is not None:
            self.hold.release()
        return unconfirmed

    def _declared_language(self) -> Language | None:
        """The dialect that the machine file names; None: the board speaks the protocol."""
        declared = self.document.machine.board.dialect
        if not declared:
            return None
        from ublet.session.dialects import dialect_named

        return dialect_named(declared, self.document.path.parent)

    def _linked_by(self, opener: Callable[[], Awaitable[Transport]]) -> Connection:
        language = self.language
        if language is None:
            return Connection(opener)
        from ublet.core.dialect.parts import parts_of
        from ublet.link.dialect_controller import speak_dialect

        speak = speak_dialect(language, parts_of(self.document.machine))
        return Connection(opener, speak, lambda path: language.setting_for(path) is not None)

    def _likely(self, came: bytes) -> str:
        from ublet.session.dialects import likely_words

        spoken = self.language.file.name if self.language is not None else ""
        return likely_words(came, self.document.path.parent, spoken)

    def _drilling(self) -> bool:
        """Whether the running trial lets guards trip on purpose."""
        return self.runner.running is not None and self.runner.running.trips

    # whose board it is

    @property
    def foreign(self) -> Foreign | None:
        """What makes the linked board another one than this file is for; None: nothing."""
        connection = self.connection
        if not connection.linked:
            return None
        foreign = foreign_to(self.document.machine, self.document.path.name, connection.about, connection.image)
        if foreign is not None and foreign.renamed and (foreign.board_name, foreign.file_name) in self._said_same:
            return None
        return foreign

    def barred(self) -> str:
        """Why nothing may be heated, moved, kept or saved on this board, as a sentence; empty: it may."""
        if self.hold is not None and self.hold.elsewhere:
            return ELSEWHERE
        foreign = self.foreign
        return f"{foreign.words[0].upper()}{foreign.words[1:]}." if foreign is not None else ""

    @property
    def holds_before(self) -> Mapping[str, float]:
        """Heaters that were held when the link was made and were switched off then: they can be held again."""
        return _holds(self.on_before)

    @property
    def usable(self) -> bool:
        """Whether something may be asked of the board: linked, ready, and this file's own."""
        return self.connection.linked and self.connection.state.mode == "ready" and self.foreign is None

    def say_once(self, words: str) -> None:
        """A notice that is not repeated."""
        if words not in self._said:
            self._said.add(words)
            self.notices.append(words)

    def say_same_machine(self) -> None:
        """The builder's word that a board under another name is this machine's; it is noted in the ledger."""
        foreign = self.foreign
        if foreign is None or not foreign.renamed:
            return
        self._said_same.add((foreign.board_name, foreign.file_name))
        with contextlib.suppress(LedgerError):
            self.ledger.add_changes(
                [Change(now(), SAME, None, "machine.name", "image", foreign.board_name, foreign.file_name)]
            )

    @property
    def machine_now(self) -> MachineFile:
        """The machine as it is now: the board's live value of what it holds, the file's of everything else."""

        def read(path: str, written: Value) -> Value:
            layers = self.connection.layers.get(path)
            return self.loans.get(path, layers.live) if layers is not None else self.kept_in_file.get(path, written)

        return traced(self.document.machine, Readers(read))

    # trials

    async def run(
        self, spec: TrialSpec, parameters: Part, watcher: Watcher, go_on: bool = False, knowingly: str = ""
    ) -> EnteredRun:
        """Run a trial, recorded from before anything moves; go_on: from where an earlier run of it was cut off.
        knowingly: what it stands on and does not hold, noted with the run.
        """
        return await self.trials.run(spec, parameters, watcher, go_on, knowingly)

    async def home(self, watcher: Watcher) -> Ran:
        """Home every axis once, guarded as a trial is; nothing is entered in the ledger."""
        return await self.trials.home(watcher)

    def proven(self, trial: str, heater: str | None = None) -> TrialResult | None:
        """The last proven result of a trial, of one heater when asked for."""
        entry = self.trials.proven(trial, {"heater": heater} if heater is not None else {})
        return entry.result if entry is not None else None

    # settings

    async def keep(self, option: Option, run: int | None, station: str = "") -> None:
        """Write an option's proposals to the live machine; what no board holds is kept here until it is saved. station:
        where that is done, for what no run proposed.

        Raises:
            LinkLost, BoardRefused: nothing was changed. NotOurs: it is another machine's board.
            NotEntered: it is live, and waits for its place in the ledger.
        """
        self.must_be_ours()
        changes = [
            Change(now(), "keep", run, p.setting, "live", self._before(p.setting), p.after) for p in option.proposals
        ]
        values = {p.setting: p.after for p in option.proposals}
        if on_board := self.connection.held(values):
            await self.connection.write_live(on_board)
        self.kept_in_file.update({path: value for path, value in values.items() if path not in on_board})
        self._kept_at.update({p.setting: station for p in option.proposals})
        self.ledger.add_changes(changes)

    def _before(self, path: str) -> Value:
        """What a keep changes: the live value, or the file's of what no board holds."""
        return self.live(path) if self.connection.holds(path) else self.document.value(path)

    def must_be_ours(self) -> None:
        """Raises NotOurs when the linked board is another machine's than this file's."""
        if why := self.barred():
            raise NotOurs(why)

    def station_that_kept(self, setting: str) -> str:
        """The station at which a setting was kept last; empty where nobody knows."""
        if here := self._kept_at.get(setting):
            return here
        change = self.ledger.last_change(setting, "keep")
        run = self.ledger.run(change.run) if change is not None and change.run is not None else None
        return run.station if run is not None else ""

    async def drop(self, only: Collection[str] | None = None) -> list[Saved]:
        """Put kept, unsaved values back to what the board has saved, all or only these; returns them."""
        unsaved = [item for item in self.unsaved() if only is None or item.setting in only]
        if unsaved:
            changes = [
                Change(now(), "drop", None, item.setting, "live", item.after, self._saved(item.setting))
                for item in unsaved
            ]
            if on_board := self.connection.held({item.setting: self._saved(item.setting) for item in unsaved}):
                await self.connection.write_live(on_board)
            self.kept_in_file.saved(item.setting for item in unsaved)
            self.ledger.add_changes(changes)
        return unsaved

    def live(self, path: str) -> Value:
        """The live value on the board; of a setting that no board holds what was kept, else the file’s; or None."""
        if (layers := self.connection.layers.get(path)) is not None:
            return layers.live
        return self.kept_in_file.get(path, None if self.connection.holds(path) else self.document.value(path))

    def gains_root(self, heater: str, target_c: float) -> str:
        """The settings path below which the gains stand that are live for a target."""
        declared = self.document.machine.heaters.get(heater)
        return gains_root(heater, target_c, declared.gains if declared is not None else (), self.live)

    def live_gains(self, heater: str, target_c: float) -> PidGains:
        """The gains that are live on the board for a target."""
        return gains_below(self.gains_root(heater, target_c), self.live)

    def _saved(self, path: str) -> Value:
        return self.connection.layers[path].saved if self.connection.holds(path) else self.document.value(path)

    def unsaved(self) -> list[Saved]:
        """Settings whose live value would not survive a power-off; what a trial borrowed is not meant."""
        unsaved = []
        for path, layers in self.connection.layers.items():
            live = self.loans.get(path, layers.live)
            if live != layers.saved:
                unsaved.append(Saved(path, self.document.value(path), layers.stored, live))
        unsaved += [Saved(path, self.document.value(path), None, after) for path, after in self.kept_in_file.items()]
        return unsaved

    def shadowed(self) -> list[LayerRow]:
        """Settings whose stored value hides another one in the file."""
        return shadows(self.document, self.connection)

    async def settle_shadows(self, chosen: Mapping[str, Settling]) -> tuple[int, Path | None]:
        """Settle shadows as chosen, all of them or none; the board's store is backed up before it is changed.

        Returns how many values changed, and the backup when the store was changed.

        Raises:
            SaveFailed: nothing was changed. NotOurs: it is another machine's board.
        """
        self.must_be_ours()
        shadowed = {row.path: row for row in self.shadowed()}
        values = settled_values({path: way for path, way in chosen.items() if path in shadowed}, shadowed)
        if not values:
            return 0, None
        backup = None
        if any(not same(value, shadowed[path].stored) for path, value in values.items()):
            try:
                backup = back_up_store(self.document, self.connection)
            except OSError as error:
                raise SaveFailed(f"The board's store could not be backed up ({error}): nothing was changed.") from error
        old_text = self.document.text
        async with self._saving:
            await save(self.document, self.connection, self.ledger, values, {}, "settle")
        self.draft.saved_elsewhere(old_text)
        return len(values), backup

    # the machine file

    def write_draft(self) -> int:
        """Write the draft to the machine file; returns how many settings changed.

        Raises:
            DocumentError: nothing was written.
        """
        if self.hold is not None and self.hold.elsewhere:
            raise DocumentError(ELSEWHERE)
        changes = [
            Change(now(), "edit", None, item.path, "file", item.before, item.after) for item in self.draft.changes()
        ]
        count = self.draft.write()
        with contextlib.suppress(LedgerError):
            self.ledger.add_changes(changes)
            report_happened(self.ledger, (change.setting for change in changes))
        return count

    def look_at_disk(self) -> tuple[str, list[Conflict]] | None:
        """Take in what another program wrote to the machine file: a sentence, and the conflicts; None: nothing new."""
        stamp = _stamp(self.document.path)
        if stamp == self._seen_on_disk:
            return None
        self._seen_on_disk = stamp
        name, mine = self.document.path.name, self.draft.dirty
        try:
            conflicts = self.draft.meet()
            self.disk_trouble = ""
        except DocumentError as error:
            self.disk_trouble = str(error).split("\n")[0].replace(str(self.document.path), name)
            return f"{name} was changed by another program and cannot be used as it is: {self.disk_trouble}", []
        if conflicts is None:
            return None
        if not mine:
            return f"{name} was changed by another program; what it says now is in use.", []
        if not conflicts:
            return f"{name} was changed by another program; your edits stand on top of it, nothing collided.", []
        count = f"{len(conflicts)} setting{'s' * (len(conflicts) > 1)}"
        return f"{name} was changed by another program, also in {count} that you edited.", conflicts

    # the image

    def plan_write(self) -> Planned:
        """What writing the machine file to the board would do.

        Raises:
            ImageError, PictureError: the image cannot be built.
        """
        return plan_write(self.document, self.connection)

    async def write_image(
        self, planned: Planned, on_progress: Callable[[UploadProgress], None], say: Callable[[str], None]
    ) -> RunningImage:
        """Write an image to the board; see :func:`ublet.session.writing.write_image`."""
        baud = self.document.machine.board.baud
        return await write_image(planned, self.connection, self.ledger, baud, on_progress, say)

    async def save(self, only: Collection[str] | None = None) -> int:
        """Save unsaved values to the board's store and the machine file, all or only these; returns how many.

        Raises:
            SaveFailed: with what stands where. NotOurs: it is another machine's board.
        """
        self.must_be_ours()
        unsaved = {item.setting: item.after for item in self.unsaved() if only is None or item.setting in only}
        if unsaved:
            old_text = self.document.text
            async with self._saving:
                note = await save(self.document, self.connection, self.ledger, unsaved, self._proposed_by(unsaved))
            self.draft.saved_elsewhere(old_text)
            self.kept_in_file.saved(unsaved)
            if note:
                self.notices.append(note)
        return len(unsaved)

    def _proposed_by(self, values: Mapping[str, Value]) -> dict[str, int | None]:
        """The run that proposed each value: that of its newest keep."""
        kept = {path: self.ledger.last_change(path, "keep") for path in values}
        return {
            path: change.run for path, change in kept.items() if change is not None and same(change.after, values[path])
        }

    async def settle(self) -> None:
        """Settle an interrupted save, if there is one; what was done is noted."""
        old_text = self.document.text
        try:
            async with self._saving:  # a save of our own that is under way is not an interrupted one
                note = await settle(self.document, self.connection, self.ledger)
        except (DocumentError, LedgerError) as error:
            note = str(error)
        self.draft.saved_elsewhere(old_text)
        if note:
            self.notices.append(note)

    def _settle_soon(self) -> None:
        """Once for each new link: an earlier save or trial may have been cut off."""
        client = self.connection.client
        if self.connection.linked and client is not self._settled_link:
            self._settled_link = client
            self.presence.note_seen()
            if self.connection.note:
                self.notices.append(self.connection.note)
            self.on_before = self.connection.found_on
            if self.on_before:
                self.notices.append(on_words(self.on_before))
            if self.foreign is None:
                self._settling = asyncio.get_running_loop().create_task(self._settle(list(self.loans)))

    async def settled(self) -> None:
        """Wait until what an earlier link left has been settled: nothing new is begun before."""
        if self._settling is not None:
            await asyncio.shield(self._settling)

    async def _settle(self, left: list[str]) -> None:
        await self.runner.until_idle()  # a trial that the lost link ends: its loans are not over before
        if said := await self.loans.settle(left):
            self.notices.append(said)
        await self.settle()
        await self.connection.first_readings()
        if self.connection.linked:
            if self._power_was_off():
                self._motors_lost_power()
            self.presence.note_seen()
            self._name_lost()

    def _broke(self, what: Break, why: str) -> None:
        if what is Break.RESTARTED:
            self._motors_lost_power()

    def _power_was_off(self) -> bool:
        """Whether the board had a power-off since it was seen last, by its own clock."""
        seen, about = self.ledger.seen_clock(), self.connection.about
        if seen is None or about is None:
            return False
        at, boot, board_s = seen
        passed_s = about.clock * (datetime.now(UTC) - datetime.fromisoformat(at)).total_seconds()
        due_s = board_s + CLOCK_FRACTION * max(0.0, passed_s) - CLOCK_S * about.clock
        return boot != about.boot or self.connection.board_time < due_s

    def motors_let_go(self) -> None:
        """The motors were switched off by a key: lifts that do not hold by themselves may have sunk."""
        self._motors_lost_power()

    def _motors_lost_power(self) -> None:
        """Lifts that do not hold by themselves may have sunk: entered as a fact, on which their squareness rests."""
        machine = self.document.machine
        if len(machine.axes.z.motors) < 2 or (machine.lifts or Lifts()).hold:
            return
        with contextlib.suppress(LedgerError):
            self.ledger.report_fact(Fact("motors", "", FACTS["motors"].said, now()))
        if self.ledger.latest("lead-screws", "proven") is not None:
            self.notices.append(
                "The motors were without power: the lead screws may have sunk. Bring them square again (station lead "
                "screws) before anything that rests on them; set lifts.hold = true if yours hold by themselves."
            )

    def lost_kept(self, entry: RunEntry | None = None) -> dict[str, Value]:
        """What was kept, was never saved or dropped, and is live no more, with the value that was kept; of one run when
        asked for.
        """
        lost: dict[str, Value] = {}
        wanted = {p.setting for p in entry.result.proposals} if entry is not None else None
        if entry is not None and all(same(self.live(p.setting), p.after) for p in entry.result.proposals):
            return lost
        for change in self.ledger.changes("keep", run=entry.id if entry is not None else None, most=KEPT_LOOKED_AT):
            path, layers = change.setting, self.connection.layers.get(change.setting)
            if path in lost or layers is None or (wanted is not None and path not in wanted):
                continue
            last = self.ledger.last_change(path)
            newest = last is not None and (last.kind, last.run, last.at) == ("keep", change.run, change.at)
            if newest and not same(self.loans.get(path, layers.live), change.after):
                lost[path] = change.after
        return lost

    def _name_lost(self) -> None:
        """Say what was kept before this link and is live no more."""
        if lost := self.lost_kept():
            named = [f"{path} ({self.station_that_kept(path) or 'by hand'})" for path in sorted(lost)[:KEPT_NAMED]]
            more = f" and {len(lost) - KEPT_NAMED} more" if len(lost) > KEPT_NAMED else ""
            self.say_once(
                f"Kept, never saved, and gone with the board's power: {', '.join(named)}{more}. Those stations are no "
                "longer proven and offer it again: k keeps it, ctrl+s saves it."
            )


CLOCK_FRACTION, CLOCK_S = 0.8, 20.0
"""A board's clock may be slower than it says by this fraction, and be read so late, s: beyond, it restarted."""

KEPT_LOOKED_AT, KEPT_NAMED = 200, 4


class NotOurs(SaveFailed):
    """The linked board is another machine's than the file's; the message says what differs and the ways out."""


def on_words(on_before: Sequence[On]) -> str:
    """What had been on when the link was made, and is off now, as a sentence."""
    phrases = []
    for on in on_before:
        name = on.what.partition(".")[2] or on.what
        if on.target_c is not None:
            phrases.append(f"the {name} was {'switched around' if on.relay else 'held at'} {on.target_c:g} °C")
        elif on.duty is not None:
            phrases.append(f"the {name} fan ran")
        else:
            phrases.append("something moved")
    offer = " The station “temperatures” offers to hold it again." if _holds(on_before) else ""
    return f"When the link was made {', '.join(phrases)}: everything was switched off.{offer}"


def _holds(on_before: Sequence[On]) -> dict[str, float]:
    """Heaters that were held at a target."""
    return {
        on.what.partition(".")[2]: on.target_c
        for on in on_before
        if on.target_c is not None and not on.relay and on.what.startswith("heaters.")
    }


def _stamp(file: Path) -> int:
    """When a file was last changed; 0 when it is not there."""
    try:
        return file.stat().st_mtime_ns
    except OSError:
        return 0


def ledger_path(file: Path) -> Path:
    """The ledger that belongs to a machine file: beside it."""
    return file.with_suffix(".ledger")


async def _no_board() -> Transport:
    raise LinkLost("no board is asked")


@contextlib.contextmanager
def beside_ledger(machine: Path) -> Iterator[Session | None]:
    """A machine as its ledger knows it, without a board; None where it has no ledger yet.

    Raises:
        DocumentError, LedgerError.
    """
    if not ledger_path(machine).exists():
        yield None
        return
    session = Session(machine, _no_board, threaded=False)
    try:
        yield session
    finally:
        session.ledger.close()
