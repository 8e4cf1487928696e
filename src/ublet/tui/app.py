"""The app: the frame around the benches, the link's news, HALT, writing and saving, palette and help."""

from __future__ import annotations

import asyncio
import gc
import os
import signal
import sys
import threading
from collections.abc import Iterable
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.text import Text
from textual.app import ComposeResult, SystemCommand
from textual.binding import Binding
from textual.command import CommandPalette
from textual.containers import Container, Horizontal
from textual.events import Event, InputEvent, Key, Paste, Resize
from textual.screen import Screen
from textual.timer import Timer
from textual.widget import Widget
from textual.widgets import Static

from ublet.core.route import ROUTE, Standing, Station, glyph
from ublet.tui.key_order import KeysInOrder
from ublet.tui.keys import Keys
from ublet.tui.pulse import Pulse, Reading
from ublet.tui.reading import link_words, take_reading
from ublet.tui.route import Route
from ublet.tui.small import SmallNote, too_small
from ublet.tui.theme import PALETTES, THEMES
from ublet.tui.title import Title

if TYPE_CHECKING:
    from textual.driver import Driver

    from ublet.core.machine.compare import Conflict
    from ublet.link.client import Client
    from ublet.session.demo import Demo
    from ublet.session.identity import Foreign
    from ublet.session.next_step import NextStep
    from ublet.session.session import Session
    from ublet.tui.bench import Bench

SWITCH_S = 0.0005
"""How soon the thread that reads the keyboard gets its turn while the app draws, s. With Python's usual 5 ms most of
the longest times from F8 to a halted board were spent waiting for it.
"""

BEAT_S = 0.2
IDLE_BEATS = 3
"""While nothing runs only every so many beats are shown."""

DISK_BEATS = 5
"""The machine file is looked at on the disk at every so many beats."""

AFTER_FIRST_FRAME_S = 0.05
REST_S = 0.25
"""The cursor must rest this long before the bench follows it."""

START_STATION = next(number for number, station in enumerate(ROUTE) if station.built)
UNUSABLE = 2
FAULT = 70
SIGNALLED = 130
STUCK_AT_THE_END_S = 3.0
"""A terminal that takes nothing any more does not keep the process, s."""


class UbletApp(KeysInOrder):
    """Full-screen bench on one machine file. Heavy parts load after the first frame is on the screen."""

    TITLE = "ublet"
    ENABLE_COMMAND_PALETTE = True
    CSS_PATH = "app.tcss"
    HORIZONTAL_BREAKPOINTS = [(0, "-tiny"), (80, "-folded"), (130, "-wide")]
    VERTICAL_BREAKPOINTS = [(0, "-flat"), (24, "-short"), (38, "-tall")]
    BINDINGS = [
        Binding("f8", "halt", "HALT", priority=True),
        Binding("ctrl+s", "save", "save"),
        Binding("r", "release", "release"),
        Binding("ctrl+r", "replug", "plug the board in again", show=False),
        Binding("tab", "switch", "route / bench", priority=True),
        Binding("f2", "next", "next step", key_display="F2", show=False),
        Binding("l", "ledger", "ledger / back"),
        Binding("f3", "fact", "what happened", key_display="F3"),
        Binding("w", "talk", "wire talk"),
        Binding("question_mark", "help", "why and how", key_display="?"),
        Binding("f6", "theme", "light / dark", show=False),
        Binding("ctrl+q", "leave", "quit", priority=True),
    ]

    def __init__(self, file: Path, port: str | None, demo: Demo | None = None, theme: str = "soot") -> None:
        super().__init__(driver_class=_driver())
        self.file, self.port, self.demo = file, port, demo
        self.session: Session | None = None
        self.bench: Bench | None = None
        self.benches: dict[str, Bench] = {}
        self._was_running = self._was_heating = False
        self._beats = 0
        self._resting: Timer | None = None
        self._ending: asyncio.Task[None] | None = None
        self.unsure = ""  # why it is not confirmed that everything was off at the end
        self.small = self._asked_to_quit = False
        self._before_ledger = START_STATION
        self._next: NextStep | None = None
        self._asked_for: Client | None = None  # the link whose foreign board was told of
        self._had_keys: list[tuple[Screen[Any], Widget | None]] = []
        for each in THEMES:
            self.register_theme(each)
        self.theme = theme
        self.palette = PALETTES[theme]

    def compose(self) -> ComposeResult:
        """Title, route and bench, pulse, keys."""
        yield Title(self.palette)
        with Horizontal(id="middle"):
            yield Route(self.palette)
            with Container(id="bench"):
                yield Static(id="standing")
                yield Static(f"Opening {self.file.name} …", id="unbuilt")
        yield Static(id="next-line")
        yield Pulse(self.palette)
        yield Keys(self.palette)
        yield SmallNote(self.palette)

    def notify(self, message: str, *, markup: bool = False, **how: Any) -> None:
        """Say something; what stands in brackets is text here, not style."""
        super().notify(message, markup=markup, **how)

    # below the least size

    async def on_event(self, event: Event) -> None:
        """While nothing can be seen only HALT, cancel and quit work; what was typed before goes nowhere."""
        if self.small and isinstance(event, (InputEvent, Paste)):
            if isinstance(event, Key) and not event.is_forwarded:
                self._key_in_small(event.key)
            return
        await super().on_event(event)

    def _key_in_small(self, key: str) -> None:
        if key == "f8":
            self.action_halt()
        elif key == "escape":
            if self.session is not None and self.session.runner.running is not None:
                self.session.runner.cancel()
            elif self.bench is not None and self.bench.check_action("cancel", ()):
                self.run_worker(self._on_bench("cancel"), group="cancel")
        elif key == "ctrl+q":
            reasons = self._reasons_to_stay()
            if not reasons or self._asked_to_quit:
                self.exit()
                return
            self._asked_to_quit = True
            self._note(asking=f"{' '.join(reasons)} Again:")

    def on_resize(self, event: Resize) -> None:
        """Growing again gives the keys back to whoever had them."""
        before, self.small = self.small, too_small(event.size)
        if self.small and not before:
            self.forget_keys()
            if isinstance(self.screen, CommandPalette):
                self.pop_screen()
            self._had_keys = [(screen, screen.focused) for screen in self.screen_stack]
            self._note(self.query_one(Pulse).reading)
        elif before and not self.small:
            self._asked_to_quit = False
            self._note(asking="")
            self.call_after_refresh(self._give_keys_back)

    def _give_keys_back(self) -> None:
        for screen, widget in self._had_keys:
            if widget is not None and widget.is_attached and screen in self.screen_stack:
                screen.set_focus(widget)

    def _note(self, reading: Reading | None = None, asking: str | None = None) -> None:
        """Bring every screen's note for a small terminal up to date."""
        for screen in self.screen_stack:
            for note in screen.query(SmallNote):
                note.reading = reading or note.reading
                note.asking = note.asking if asking is None else asking

    def on_mount(self) -> None:
        """Show the frame first, then load the rest."""
        self._heed_signals()
        route = self.query_one(Route)
        route.cursor = START_STATION
        route.focus()
        self.call_after_refresh(self.set_timer, AFTER_FIRST_FRAME_S, self._load_soon)

    def _load_soon(self) -> None:
        self.run_worker(self._load(), group="load")

    async def _load(self) -> None:
        """Open the session; a machine file that cannot be used ends the app with its sentences."""
        from ublet.tui.loading import open_session

        session, why = await open_session(self.file, self.port)
        if session is None:
            self.exit(return_code=UNUSABLE, message=f"ublet: {why}")
            return
        self.session = session
        from ublet.session.recent import remember

        session.connection.changed.append(self._changed)
        session.connection.keep()
        self.set_interval(BEAT_S, self._beat)
        await self._show_station(self.query_one(Route).station)
        self._changed()
        if self.demo is None:
            remember(self.file, self.port)
        gc.freeze()
        gc.enable()

    def _heed_signals(self) -> None:
        """Signals that would end the program end the app as quitting does: everything off first."""
        if sys.platform == "win32":
            return
        loop = asyncio.get_running_loop()
        for name in ("SIGTERM", "SIGHUP", "SIGQUIT"):
            loop.add_signal_handler(getattr(signal, name), self._end_by_signal, name)

    def _end_by_signal(self, name: str) -> None:
        """End as quitting does; where the terminal is gone nothing more can be drawn, and the process just ends."""
        if self._ending is None:
            self._ending = asyncio.get_running_loop().create_task(self._finish(name))

    async def _finish(self, name: str) -> None:
        if self.session is not None:
            self.unsure = await self.session.close()
            self.session = None
        if name == "SIGHUP":
            os._exit(SIGNALLED)
        stuck = threading.Timer(STUCK_AT_THE_END_S, os._exit, (SIGNALLED,))  # the loop may hang in a full terminal
        stuck.daemon = True
        stuck.start()
        self.exit(return_code=SIGNALLED, message=f"ublet: ended by {name}")

    async def on_unmount(self) -> None:
        """Leave nothing hot and nothing open."""
        if self.session is not None:
            self.unsure = await self.session.close()

    def _handle_exception(self, error: Exception) -> None:
        """A fault of ours: one sentence for the builder, the details in a file, everything off."""
        from ublet.session.crash import crash_sentence

        if self.session is not None:
            self.session.connection.halt()
        self._exception = error
        self.exit(return_code=FAULT, message=crash_sentence(error))

    # what is shown

    @property
    def _stands(self) -> bool:
        """Whether the frame is there to be drawn on: at the end it goes before the timers do."""
        return self.is_running and bool(self.query(Title))

    def _changed(self) -> None:
        """The link, a setting or a state changed."""
        session = self.session
        if session is None or not self._stands:
            return
        self._say_link(session)
        from ublet.session.standings import standings

        title = self.query_one(Title)
        title.machine = session.document.machine.machine.name
        title.linked = session.connection.linked
        title.unsaved = len(session.unsaved()) if title.linked else 0
        title.edits = len(session.draft.changes()) if session.draft.dirty else 0
        self.query_one(Route).standings = dict(standings(session))
        self._tell_standing()
        self._tell_next(session)
        if self.bench is not None and self.bench.is_mounted and self.bench.display:
            self.bench.refresh_state()
        while session.notices:
            self.notify(session.notices.pop(0), timeout=12)
        self._ask_whose_board(session)
        self.refresh_bindings()

    def _tell_standing(self) -> None:
        """Above the bench: why what was found there no longer holds, or holds only as of the last link."""
        route, place = self.query_one(Route), self.query_one("#standing", Static)
        standing = route.standings.get(route.station.name)
        told = standing is not None and (standing.state == "stale" or standing.unlinked) and bool(standing.reason)
        place.display = told
        if standing is not None and told:
            words = "as of the last link" if standing.unlinked else "stale"
            reason = standing.reason.removeprefix("as of the last link ")
            text = Text(f"{glyph(standing)} {words}  ", f"bold {self.palette.focus}")
            text.append(reason, self.palette.text)
            place.update(text)

    def _tell_next(self, session: Session) -> None:
        """In the frame: what to do next, and why."""
        from ublet.session.next_step import next_step
        from ublet.tui.next_line import next_words

        step = self._next = next_step(session, self.query_one(Route).standings)
        place = self.query_one("#next-line", Static)
        place.display = step is not None
        if step is not None:
            place.update(next_words(step, max(20, self.size.width - 2), self.palette))

    def action_next(self) -> None:
        """Go where the next step is done, or do it."""
        if (step := self._next) is None:
            self.notify("Nothing is left to do here: what is built is proven and saved.", timeout=5)
        elif step.station is not None:
            route = self.query_one(Route)
            route.cursor = ROUTE.index(step.station)
            route.post_message(Route.Entered(step.station))
        else:
            self.notify(f"{step.key} does it: {step.words}, because {step.why}.", timeout=5)

    def _ask_whose_board(self, session: Session) -> None:
        """Once for each link: a board of another machine is told at once, before anything is tried on it."""
        client, foreign = session.connection.client, session.foreign
        if foreign is None or client is self._asked_for:
            return
        self._asked_for = client
        self.run_worker(self._tell_foreign(session, foreign), group="foreign", exclusive=True)

    async def _tell_foreign(self, session: Session, foreign: Foreign) -> None:
        from ublet.core.questions import Question
        from ublet.tui.dialogs import QuestionDialog

        words = f"{foreign.words[0].upper()}{foreign.words[1:]}.\n\nUntil then nothing is heated, moved, kept or saved."
        answers = ("leave it", "same machine") if foreign.renamed else ("leave it",)
        if await self.push_screen_wait(QuestionDialog(Question(words, answers), self.palette)) == "same machine":
            session.say_same_machine()
            self._changed()

    def action_same_machine(self) -> None:
        """The builder's word that a board under another name is this machine's."""
        if self.session is not None:
            self.session.say_same_machine()
            self._changed()

    def _say_link(self, session: Session) -> None:
        self.query_one(Title).link = link_words(session.connection, self.port)

    def _beat(self) -> None:
        """A few times a second: the pulse, and what a running trial drew."""
        if self.session is None or not self._stands:
            return
        self._beats += 1
        if self._beats % DISK_BEATS == 0:
            self._look_at_disk(self.session)
            if self.session.ledger.waiting and self.session.ledger.enter_waiting():
                self.notify("What could not be written to the ledger is entered now.", timeout=8)
        busy = self._was_running or any(bench.busy for bench in self.benches.values())
        if self.session.runner.running is None and not busy and self._beats % IDLE_BEATS:
            return
        if self.bench is not None and self.bench.display:
            self.bench.beat()
        watched = next((bench.watched for bench in self.benches.values() if bench.watched), None)
        reading = take_reading(self.session, watched)
        self._say_link(self.session)
        if self.demo is not None and not self.session.connection.linked and (why := self.demo.ended()):
            reading = replace(reading, why=f"ctrl+r plugs the simulated board in again ({why}).")
        for screen in self.screen_stack:
            for pulse in screen.query(Pulse):  # one in every dialog, too
                pulse.reading = reading
        if self.small:
            self._note(reading)
        self._route_beat(reading)

    def _look_at_disk(self, session: Session) -> None:
        """Notice what another program wrote to the machine file."""
        found = session.look_at_disk()
        if found is None:
            return
        told, conflicts = found
        self.notify(told, title="Machine file", timeout=12)
        self._changed()
        if conflicts:
            self.run_worker(self._ask_conflicts(session, conflicts), group="conflict", exclusive=True)

    async def _ask_conflicts(self, session: Session, conflicts: list[Conflict]) -> None:
        from ublet.tui.dialogs import ConflictDialog

        answer = await self.push_screen_wait(ConflictDialog(conflicts, self.palette))
        if answer == "theirs":
            session.draft.yield_to(conflicts)
            self._changed()

    def _route_beat(self, reading: Reading) -> None:
        """While a trial runs its station shows the phase; when it ends, what was found."""
        route = self.query_one(Route)
        heating = any(heater.target_c is not None for heater in reading.heaters)
        if self.session is not None and (bool(reading.running), heating) != (self._was_running, self._was_heating):
            self._was_running, self._was_heating = bool(reading.running), heating
            self._changed()
        if reading.running and reading.progress is not None and self.session is not None:
            phase = reading.progress.phase.partition(" of ")[0]
            running = {
                name: Standing("running", phase) if standing.state == "running" else standing
                for name, standing in route.standings.items()
            }
            route.standings = running

    def on_route_moved(self, event: Route.Moved) -> None:
        """Show the station under the cursor, once it rests."""
        if self._resting is not None:
            self._resting.stop()
        self._resting = self.set_timer(REST_S, lambda: self._show_station(event.station))

    async def on_route_entered(self, event: Route.Entered) -> None:
        """Go to its bench, if it is built."""
        if self._resting is not None:
            self._resting.stop()
        await self._show_station(event.station)
        if event.station.built and self.bench is not None:
            self.bench.focus()
            self.refresh_bindings()
        elif self.session is None:
            self.notify(f"{self.file.name} is still being opened: a moment.", timeout=4)
        else:
            self.notify(f"“{event.station.name}” is not built yet and cannot be entered.", timeout=4)

    def on_bench_edited(self) -> None:
        """The draft changed: title, route and the bench follow."""
        self._changed()

    async def _show_station(self, station: Station) -> None:
        """Show a station's bench, made when it is first needed."""
        if not self._stands:
            return
        unbuilt = self.query_one("#unbuilt", Static)
        shown = station.built and self.session is not None
        if shown and station.bench not in self.benches and self.session is not None:
            from ublet.tui.benches import make_bench

            self.benches[station.bench] = make_bench(station, self.session, self.palette)
            await self.query_one("#bench", Container).mount(self.benches[station.bench])
        self.bench = self.benches[station.bench] if shown else None
        for bench in self.benches.values():
            bench.display = bench is self.bench
        unbuilt.display = not shown
        self._tell_standing()
        if self.bench is not None:
            self.bench.refresh_state()
        if not shown and self.session is not None:
            text = Text()
            text.append(f"{station.name[0].upper()}{station.name[1:]}", f"bold {self.palette.text}")
            text.append(f"   {station.purpose}\n\n", self.palette.dim)
            text.append("Not built yet: this station is listed so that you see the whole route.\n", self.palette.text)
            text.append("It cannot be entered.", self.palette.dim)
            unbuilt.update(text)

    # what can be done

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        session = self.session
        if action in ("save", "release", "ledger", "talk", "fact", "next") and session is None:
            return False
        if action == "switch":
            return len(self.screen_stack) == 1 and session is not None
        if action == "save" and session is not None:
            return session.runner.running is None and (session.draft.dirty or bool(session.unsaved()))
        if action == "release" and session is not None:
            return session.connection.state.mode in ("halted", "tripped")
        return True

    def halt_at_once(self) -> None:
        """From the thread that reads the keyboard: the byte goes out before the app gets to the key."""
        if (session := self.session) is not None:
            session.connection.signal_halt()

    def action_halt(self) -> None:
        """Everything off at once, from anywhere, without a question."""
        if self.session is None or not self.session.connection.halt():
            self.notify("No link: HALT cannot reach the board. Switch the power off.", severity="error", timeout=10)

    async def action_release(self) -> None:
        """Leave the halted state; everything stays off."""
        from ublet.link.errors import BoardRefused, LinkLost

        if self.session is None:
            return
        try:
            await self.session.connection.call("release")
        except (LinkLost, BoardRefused) as error:
            self.notify(str(error), severity="error")

    def action_replug(self) -> None:
        """In the demonstration: start the board's process again when it has ended."""
        if self.demo is not None:
            self.demo.restart_board()

    def action_command_palette(self) -> None:
        """Every action by name."""
        from ublet.tui.palette import Commands

        if self.use_command_palette and not isinstance(self.screen, CommandPalette):
            self.push_screen(Commands(id="--command-palette"))

    def action_switch(self) -> None:
        """Between route and bench."""
        route = self.query_one(Route)
        if route.has_focus and self.bench is not None and self.bench.display:
            self.bench.focus()
        else:
            route.focus()
        self.refresh_bindings()

    def action_save(self) -> None:
        """Show what would be written to the file, and what a save would change; then do it."""
        self.run_worker(self._write_and_save(), group="save", exclusive=True)

    async def _write_and_save(self) -> None:
        if await self._write_draft():
            await self._save()

    async def _write_draft(self) -> bool:
        """Write the draft to the machine file, after showing it; False when it was not written."""
        from ublet.session.document import DocumentError
        from ublet.tui.dialogs import differences_text
        from ublet.tui.pickers import ConfirmDialog

        session = self.session
        if session is None or not session.draft.dirty:
            return True
        name = session.document.path.name
        text = differences_text(session.draft.changes(), self.palette)
        text.append("\nComments and order stay; the present file is kept beside it as .previous.", self.palette.dim)
        dialog = ConfirmDialog(f"Write these to {name}?", text, "write the file", self.palette)
        if await self.push_screen_wait(dialog) != "yes":
            return False
        try:
            count = session.write_draft()
        except DocumentError as error:
            self.notify(str(error), title="Not written", severity="error", timeout=20)
            return False
        told = f"{count} settings written to {name}. The board has them after “write to board”."
        self.notify(told, title="Written", timeout=8)
        self._changed()
        return True

    async def _save(self) -> None:
        from ublet.ledger.errors import LedgerError
        from ublet.session.saving import SaveFailed
        from ublet.tui.dialogs import SaveDialog

        session = self.session
        if session is None or not session.unsaved():
            return
        if why := session.barred():
            self.notify(why, title="Not saved", severity="error", timeout=20)
            return
        note = "The present machine file is kept beside it as .previous."
        dialog = SaveDialog(session.unsaved(), session.document.path.name, note, self.palette)
        wanted = await self.push_screen_wait(dialog)
        if wanted is None:
            return
        try:
            count = await session.save(set(wanted.split("\n")))
        except (SaveFailed, LedgerError) as error:
            self.notify(str(error), title="Not saved", severity="error", timeout=20)
        else:
            file = session.document.path.name
            message = f"{count} setting{'s' * (count != 1)} saved: board's store and {file}, read back the same."
            self.notify(message, title="Saved", timeout=8)
        self._changed()

    def action_ledger(self) -> None:
        """Go to the record of runs, changes and facts; from there back to where one was."""
        route = self.query_one(Route)
        record = next(at for at, station in enumerate(ROUTE) if station.bench == "ledger")
        if route.cursor == record:
            route.cursor = self._before_ledger
        else:
            self._before_ledger, route.cursor = route.cursor, record
        route.post_message(Route.Entered(route.station))

    def action_fact(self) -> None:
        """Tell what happened at the machine."""
        self.run_worker(self._tell_fact(), group="fact", exclusive=True)

    async def _tell_fact(self) -> None:
        from ublet.tui.facts import FactDialog

        if self.session is None:
            return
        told = await self.push_screen_wait(FactDialog(self.session, self.palette))
        if told is not None:
            self.notify(told, title="Noted", timeout=6)
            self._changed()

    def action_talk(self) -> None:
        """Read the raw dialogue with the board."""
        from ublet.tui.dialogs import TextDialog
        from ublet.tui.texts import talk_text

        if self.session is not None:
            self.push_screen(TextDialog("Talk with the board, newest first", talk_text(self.session.connection)))

    def action_help(self) -> None:
        """Why this station exists, how it works, and every key."""
        from ublet.tui.dialogs import TextDialog
        from ublet.tui.texts import help_text

        words = self.bench.help_words() if self.bench is not None else ""
        self.push_screen(TextDialog("Why and how", help_text(words, self.palette)))

    def action_theme(self) -> None:
        """Between soot and bone."""
        self.theme = "bone" if self.theme == "soot" else "soot"
        self.palette = PALETTES[self.theme]
        for widget in self.query("*"):
            if hasattr(widget, "palette"):
                widget.palette = self.palette
                widget.refresh()
        for bench in self.benches.values():
            bench.refresh_state()
        self._changed()

    async def action_leave(self) -> None:
        """Quit; asks first when kept values would be lost or a trial runs."""
        self.run_worker(self._leave(), group="leave", exclusive=True)

    async def _leave(self) -> None:
        from ublet.core.questions import Question
        from ublet.tui.dialogs import QuestionDialog

        if reasons := self._reasons_to_stay():
            question = Question(" ".join(reasons) + " Quit all the same?", ("quit", "stay"))
            if await self.push_screen_wait(QuestionDialog(question, self.palette)) != "quit":
                return
        self.exit()

    def _reasons_to_stay(self) -> list[str]:
        """What quitting now would lose, in sentences."""
        session, reasons = self.session, []
        if session is not None and session.runner.running is not None:
            reasons.append("A trial runs and would be cancelled.")
        if session is not None and session.draft.dirty:
            count = len(session.draft.changes())
            words = "1 edit is" if count == 1 else f"{count} edits are"
            reasons.append(f"{words} not written to the machine file.")
        if session is not None and session.unsaved():
            reasons.append(f"{len(session.unsaved())} kept settings are not saved: they are lost at power-off.")
        if session is not None and session.ledger.waiting:
            reasons.append(f"{session.ledger.waiting} entries of the ledger could not be written yet: make room first.")
        return reasons

    async def _on_bench(self, action: str) -> None:
        """Do a bench's action from the command palette."""
        if self.bench is not None:
            await self.run_action(action, self.bench)

    def get_system_commands(self, screen: Screen[object]) -> Iterable[SystemCommand]:
        """Every action, by name."""
        yield SystemCommand("HALT", "Everything off at once (F8)", self.action_halt)
        yield SystemCommand("Save", "Kept values to the board's store and the machine file", self.action_save)
        yield SystemCommand("Release", "Leave the halted state", self.action_release)
        yield SystemCommand("Ledger", "What was done, and when", self.action_ledger)
        yield SystemCommand("Next step", "Go where the next step is done (F2)", self.action_next)
        yield SystemCommand("What happened", "Tell a fact: nozzle changed, belt tightened, ... (F3)", self.action_fact)
        yield SystemCommand("Talk", "The raw dialogue with the board", self.action_talk)
        yield SystemCommand("Light or dark", "Switch between soot and bone (F6)", self.action_theme)
        yield SystemCommand("Why and how", "Help for this bench and every key", self.action_help)
        bench = self.bench
        if bench is not None:
            title = self.query_one(Route).station.name.capitalize()
            for name, about, action in bench.commands():
                if bench.check_action(action, ()):
                    yield SystemCommand(f"{title}: {name}", about, partial(self._on_bench, action))
        if self.session is not None and (foreign := self.session.foreign) is not None and foreign.renamed:
            words = f"The board's “{foreign.board_name}” is this file's “{foreign.file_name}”"
            yield SystemCommand("Same machine", words, self.action_same_machine)
        if self.demo is not None:
            yield SystemCommand("Plug in the board", "Start the simulated board again (ctrl+r)", self.action_replug)
        yield SystemCommand("Quit", "Leave Ublet", self.action_leave)


def _driver() -> type[Driver] | None:
    """The driver that halts by itself, where there is one for this system."""
    if sys.platform == "win32":
        return None
    from ublet.tui.halting import HaltingDriver

    return HaltingDriver


def run_app(file: Path, port: str | None, demo: Demo | None = None) -> None:
    """Run the app to its end; exits the process with the app's code when it failed.

    The collector rests until everything is loaded: nothing of what is made before is garbage.
    """
    if not sys.stdout.isatty() or not sys.stdin.isatty():
        print("ublet: the app needs a terminal; without one there is `ublet run`.", file=sys.stderr)
        raise SystemExit(UNUSABLE)
    gc.disable()
    sys.setswitchinterval(SWITCH_S)
    for name in ("COLUMNS", "LINES"):
        os.environ.pop(name, None)  # an exported size would hide the terminal's own, and every change of it
    app = UbletApp(file, port, demo)
    app.run()
    if app.unsure:
        print(f"ublet: it is not known whether everything is off: {app.unsure}. Look at the machine.", file=sys.stderr)
    if app.return_code:
        raise SystemExit(app.return_code)
