"""What the frame shows: it follows the link, the settings, the disk and a running trial."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from textual.widgets import Static

from ublet.core.route import Standing
from ublet.tui.frame.ending import Ending
from ublet.tui.frame.pulse import Pulse, Reading
from ublet.tui.frame.reading import link_words, take_reading
from ublet.tui.frame.route import Route
from ublet.tui.frame.title import Title
from ublet.tui.frame.words import next_words, standing_words

if TYPE_CHECKING:
    from textual.driver import Driver

    from ublet.core.machine.compare import Conflict
    from ublet.link.client import Client
    from ublet.session.identity import Foreign
    from ublet.session.next_step import NextStep
    from ublet.session.session import Session
    from ublet.tui.trial.bench import Bench

IDLE_BEATS = 3
"""While nothing runs only every so many beats are shown."""

DISK_BEATS = 5
"""The machine file is looked at on the disk at every so many beats."""


class Following(Ending):
    """An app whose frame is always true."""

    def __init__(self, driver_class: type[Driver] | None, port: str | None) -> None:
        super().__init__(driver_class)
        self.port = port
        self.benches: dict[str, Bench] = {}
        self.next_step: NextStep | None = None
        self._was_running = self._was_heating = False
        self._beats = 0
        self._asked_for: Client | None = None  # the link whose foreign board was told of

    @property
    def route(self) -> Route:
        """The route."""
        return self.query_one(Route)

    @property
    def stands(self) -> bool:
        """Whether the frame is there to be drawn on: at the end it goes before the timers do."""
        return self.is_running and (title := self.query_one_optional(Title)) is not None and title.is_attached

    def follow(self) -> None:
        """The link, a setting or a state changed: bring everything up to date."""
        session = self.session
        if session is None or not self.stands:
            return
        from ublet.session.standings import standings

        title = self.query_one(Title)
        title.link = link_words(session.connection, self.port)
        title.machine = session.document.machine.machine.name
        title.linked = session.connection.linked
        title.unsaved = len(session.unsaved()) if title.linked else 0
        title.edits = len(session.draft.changes()) if session.draft.dirty else 0
        self.route.standings = dict(standings(session))
        self.tell_standing()
        self._tell_next(session)
        if self._pulse_lags(session):
            self._tell_machine(session)
        if self.bench is not None and self.bench.is_mounted and self.bench.display:
            self.bench.refresh_state()
        while session.notices:
            self.notify(session.notices.pop(0), timeout=12)
        self._ask_whose_board(session)
        self.refresh_bindings()

    def tell_standing(self) -> None:
        """Above the bench: why what was found there no longer holds, or holds only as of the last link."""
        place = self.query_one("#standing", Static)
        words = standing_words(self.route.standings.get(self.route.station.name))
        place.set_class(bool(words.plain), "told")
        place.update(words)

    def _tell_next(self, session: Session) -> None:
        """In the frame: what to do next, and why."""
        from ublet.session.next_step import next_step

        step = self.next_step = next_step(session, self.route.standings)
        place = self.query_one("#next-line", Static)
        place.set_class(step is not None, "told")
        if step is not None:
            place.update(next_words(step, max(20, self.size.width - 2)))

    def _ask_whose_board(self, session: Session) -> None:
        """Once for each link: a board of another machine is told at once, before anything is tried on it."""
        client, foreign = session.connection.client, session.foreign
        if foreign is None or client is self._asked_for:
            return
        self._asked_for = client
        self.run_worker(self._tell_foreign(session, foreign), group="foreign", exclusive=True)

    async def _tell_foreign(self, session: Session, foreign: Foreign) -> None:
        from ublet.core.questions import Question
        from ublet.tui.frame.dialogs import QuestionDialog

        words = f"{foreign.words[0].upper()}{foreign.words[1:]}.\n\nUntil then nothing is heated, moved, kept or saved."
        answers = ("leave it", "same machine") if foreign.renamed else ("leave it",)
        if await self.push_screen_wait(QuestionDialog(Question(words, answers))) == "same machine":
            self.action_same_machine()

    def action_same_machine(self) -> None:
        """The builder's word that a board under another name is this machine's."""
        if self.session is not None:
            self.session.say_same_machine()
            self.follow()

    def beat(self) -> None:
        """A few times a second: the pulse, and what a running trial drew."""
        session = self.session
        if session is None or not self.stands:
            return
        self._beats += 1
        if self._beats % DISK_BEATS == 0:
            self._look_at_disk(session)
            if session.ledger.waiting and session.ledger.enter_waiting():
                self.notify("What could not be written to the ledger is entered now.", timeout=8)
        busy = self._was_running or any(bench.busy for bench in self.benches.values())
        if session.runner.running is None and not busy and self._beats % IDLE_BEATS and not self._pulse_lags(session):
            return
        if self.bench is not None and self.bench.display:
            self.bench.beat()
        self._tell_machine(session)

    def _pulse_lags(self, session: Session) -> bool:
        """Whether a link, a HALT or the first readings are not told of yet: that waits for no beat."""
        pulse, connection = self.screen_stack[0].query_one_optional(Pulse), session.connection
        if pulse is None:
            return False
        told, there = pulse.reading, bool(connection.samples and session.document.machine.heaters)
        return told.mode != connection.state.mode or (there and not told.heaters)

    def _tell_machine(self, session: Session) -> None:
        """The live machine, in the pulse of every screen."""
        watched = next((bench.watched for bench in self.benches.values() if bench.watched), None)
        reading = take_reading(session, watched)
        self.query_one(Title).link = link_words(session.connection, self.port)
        if self.demo is not None and not session.connection.linked and (why := self.demo.ended()):
            reading = replace(reading, why=f"ctrl+r plugs the simulated board in again ({why}).")
        for screen in self.screen_stack:
            if (pulse := screen.query_one_optional(Pulse)) is not None:  # there is one in every dialog, too
                pulse.reading = reading
        if self.small:
            self.note(reading)
        self._route_beat(reading)

    def _look_at_disk(self, session: Session) -> None:
        """Notice what another program wrote to the machine file."""
        found = session.look_at_disk()
        if found is None:
            return
        told, conflicts = found
        self.notify(told, title="Machine file", timeout=12)
        self.follow()
        if conflicts:
            self.run_worker(self._ask_conflicts(session, conflicts), group="conflict", exclusive=True)

    async def _ask_conflicts(self, session: Session, conflicts: list[Conflict]) -> None:
        from ublet.tui.frame.dialogs import ConflictDialog

        if await self.push_screen_wait(ConflictDialog(conflicts)) == "theirs":
            session.draft.yield_to(conflicts)
            self.follow()

    def _route_beat(self, reading: Reading) -> None:
        """While a trial runs its station shows the phase; when it ends, what was found."""
        heating = any(heater.target_c is not None for heater in reading.heaters)
        if (bool(reading.running), heating) != (self._was_running, self._was_heating):
            self._was_running, self._was_heating = bool(reading.running), heating
            self.follow()
        if reading.running and reading.progress is not None:
            phase = reading.progress.phase.partition(" of ")[0]
            self.route.standings = {
                name: Standing("running", phase) if standing.state == "running" else standing
                for name, standing in self.route.standings.items()
            }
