"""What the frame shows: it follows the link, the settings, the disk and a running trial."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from rich.text import Text

from ublet.core.route import StationState
from ublet.tui.frame.least_size import LeastSize
from ublet.tui.frame.pulse import Pulse, PulseState
from ublet.tui.frame.reading import link_words, take_reading
from ublet.tui.frame.title import Title
from ublet.tui.frame.words import next_words, standing_words

if TYPE_CHECKING:
    from ublet.core.machine.compare import Conflict
    from ublet.link.end import LinkEnd
    from ublet.session.identity import Foreign
    from ublet.session.session import Session
    from ublet.tui.frame.host import Host

IDLE_BEATS = 3
"""While nothing runs only every so many beats are shown."""

DISK_BEATS = 5
"""The machine file is looked at on the disk at every so many beats."""


class FrameFollower:
    """Keeps the frame of an app true."""

    def __init__(self, app: Host, least_size: LeastSize) -> None:
        self._app, self._least_size = app, least_size
        self._was_running = self._was_heating = False
        self._beats = 0
        self._asked_for: LinkEnd | None = None  # the link whose foreign board was announced

    def follow(self) -> None:
        """The link, a setting or a state changed: bring everything up to date."""
        session = self._app.session
        if session is None or not self._app.stands:
            return
        from ublet.session.standings import standings

        title = self._app.query_one(Title)
        title.link = link_words(session.connection, self._app.port)
        title.machine = session.document.machine.machine.name
        title.linked = session.connection.linked
        title.unsaved = len(session.unsaved()) if title.linked else 0
        title.edits = len(session.draft.changes()) if session.draft.dirty else 0
        self._app.route.standings = dict(standings(session))
        self.show_standing()
        self._show_next(session)
        if self._pulse_lags(session):
            self._show_machine(session)
        if self._app.bench is not None and self._app.bench.is_mounted and self._app.bench.display:
            self._app.bench.refresh_state()
        while session.notices:
            self._app.notify(session.notices.pop(0), timeout=12)
        self._ask_whose_board(session)
        self._app.refresh_bindings()

    def show_standing(self) -> None:
        """Above the bench: why what was found there no longer holds, or holds only as of the last link."""
        words = standing_words(self._app.route.standings.get(self._app.route.station.name))
        self._app.show_line("#standing", words)

    def _show_next(self, session: Session) -> None:
        """In the frame: what to do next, and why."""
        from ublet.session.next_step import next_step

        step = self._app.next_step = next_step(session, self._app.route.standings)
        words = next_words(step, max(20, self._app.size.width - 2)) if step is not None else Text()
        self._app.show_line("#next-line", words)

    def _ask_whose_board(self, session: Session) -> None:
        """Once for each link: a board of another machine is announced at once, before anything is tried on it."""
        client, foreign = session.connection.client, session.foreign
        if foreign is None or client is self._asked_for:
            return
        self._asked_for = client
        self._app.run_worker(self._ask_foreign(session, foreign), group="foreign", exclusive=True)

    async def _ask_foreign(self, session: Session, foreign: Foreign) -> None:
        from ublet.core.questions import Question
        from ublet.tui.frame.dialogs import QuestionDialog

        words = f"{foreign.words[0].upper()}{foreign.words[1:]}.\n\nUntil then nothing is heated, moved, kept or saved."
        answers = ("leave it", "same machine") if foreign.renamed else ("leave it",)
        if await self._app.push_screen_wait(QuestionDialog(Question(words, answers))) == "same machine":
            self._app.action_same_machine()

    def beat(self) -> None:
        """A few times a second: the pulse, and what a running trial drew."""
        session = self._app.session
        if session is None or not self._app.stands:
            return
        self._beats += 1
        if self._beats % DISK_BEATS == 0:
            self._look_at_disk(session)
            if session.ledger.kept_back and session.ledger.enter_waiting():
                self._app.notify("What could not be written to the ledger is entered now.", timeout=8)
        busy = self._was_running or any(bench.busy for bench in self._app.benches.values())
        if session.runner.running is None and not busy and self._beats % IDLE_BEATS and not self._pulse_lags(session):
            return
        if self._app.bench is not None and self._app.bench.display:
            self._app.bench.beat()
        self._show_machine(session)

    def _pulse_lags(self, session: Session) -> bool:
        """Whether a link, a HALT or the first readings are not shown yet: that waits for no beat."""
        pulse, connection = self._app.screen_stack[0].query_one_optional(Pulse), session.connection
        if pulse is None:
            return False
        shown, there = pulse.reading, bool(connection.samples and session.document.machine.heaters)
        return shown.mode != connection.state.mode or (there and not shown.heaters)

    def _show_machine(self, session: Session) -> None:
        """The live machine, in the pulse of every screen."""
        watched = next((bench.watched for bench in self._app.benches.values() if bench.watched), None)
        reading = take_reading(session, watched)
        self._app.query_one(Title).link = link_words(session.connection, self._app.port)
        if self._app.demo is not None and not session.connection.linked and (why := self._app.demo.ended()):
            reading = replace(reading, why=f"ctrl+r plugs the simulated board in again ({why}).")
        for screen in self._app.screen_stack:
            if (pulse := screen.query_one_optional(Pulse)) is not None:  # there is one in every dialog, too
                pulse.reading = reading
        if self._app.small:
            self._least_size.note(reading)
        self._route_beat(reading)

    def _look_at_disk(self, session: Session) -> None:
        """Notice what another program wrote to the machine file."""
        news = session.look_at_disk()
        if news is None:
            return
        sentence, conflicts = news
        self._app.notify(sentence, title="Machine file", timeout=12)
        self._app.follow()
        if conflicts:
            self._app.run_worker(self._ask_conflicts(session, conflicts), group="conflict", exclusive=True)

    async def _ask_conflicts(self, session: Session, conflicts: list[Conflict]) -> None:
        from ublet.tui.frame.dialogs import ConflictDialog

        if await self._app.push_screen_wait(ConflictDialog(conflicts)) == "theirs":
            session.draft.yield_to(conflicts)
            self._app.follow()

    def _route_beat(self, reading: PulseState) -> None:
        """While a trial runs its station shows the phase; when it ends, what was found."""
        heating = any(heater.target_c is not None for heater in reading.heaters)
        if (bool(reading.running), heating) != (self._was_running, self._was_heating):
            self._was_running, self._was_heating = bool(reading.running), heating
            self._app.follow()
        if reading.running and reading.progress is not None:
            phase = reading.progress.phase
            self._app.route.standings = {
                name: StationState("running", phase) if standing.state == "running" else standing
                for name, standing in self._app.route.standings.items()
            }
