"""The app: the frame around the benches, what is shown in it, and what can be done from anywhere."""

from __future__ import annotations

import gc
import os
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.command import CommandPalette
from textual.containers import Container, Horizontal
from textual.events import Event, Key, Resize
from textual.filter import LineFilter
from textual.theme import Theme
from textual.timer import Timer
from textual.widgets import Static

from ublet.core.route import ROUTE, Station, station_named, station_with
from ublet.tui.frame.ending import FAULT, AppEnding
from ublet.tui.frame.following import FrameFollower
from ublet.tui.frame.host import Host
from ublet.tui.frame.keys import Keys
from ublet.tui.frame.least_size import LeastSize
from ublet.tui.frame.printable_lines import PRINTABLE
from ublet.tui.frame.pulse import Pulse
from ublet.tui.frame.route import Route
from ublet.tui.frame.small import SmallNote
from ublet.tui.frame.theme import THEMES, ink_theme, theme_kept
from ublet.tui.frame.title import Title

if TYPE_CHECKING:
    from textual.driver import Driver

    from ublet.session.demo import Demo
    from ublet.session.document import Faulty
    from ublet.session.session import Session
    from ublet.tui.trial.bench import StationBench

SWITCH_S = 0.0005
"""How soon the thread that reads the keyboard gets its turn while the app draws, s. With Python's usual 5 ms most of
the longest times from F8 to a halted board were spent waiting for it.
"""

BEAT_S = 0.2

AFTER_FIRST_FRAME_S = 0.05
REST_S = 0.25
"""The cursor must rest this long before the bench follows it."""

READ_S = 2.0
"""A notice stands at least this long, whatever key is pressed, s."""

LOOKS_FOR_HOLD_S = 1.0
"""A second window looks so often whether the first one is gone, s."""

START_STATION = 0
UNUSABLE = 2


class UbletApp(Host):
    """Full-screen bench on one machine file. Heavy parts load after the first frame is on the screen."""

    TITLE = "ublet"
    ENABLE_COMMAND_PALETTE = True
    CSS_PATH = "app.tcss"
    HORIZONTAL_BREAKPOINTS = [(0, "-tiny"), (80, "-folded"), (130, "-wide")]
    VERTICAL_BREAKPOINTS = [(0, "-flat"), (24, "-short"), (38, "-tall")]
    BINDINGS = [
        Binding("f8", "halt", "HALT", priority=True, tooltip="HALT: everything off at once, without a question"),
        Binding("r", "release", "release", tooltip="Release the board after a halt or a tripped guard"),
        Binding("ctrl+s", "save", "save", tooltip="Write edits to the file, save what was kept; it is shown first"),
        Binding("f2", "next", "next step", key_display="F2", show=False, tooltip="Go where the next step is done"),
        Binding("tab", "switch", "route / bench", priority=True, tooltip="Between the route and the bench"),
        Binding("j", "jump", "jump", tooltip="Jump: a letter on every station and pane, the next key goes there"),
        Binding("ctrl+p", "command_palette", "everything", tooltip="Every action, station and setting by name"),
        Binding("l", "ledger", "ledger / back", tooltip="The ledger, and back"),
        Binding("f9", "redo", "do again", key_display="F9", tooltip="What no longer holds, and what to do again"),
        Binding("f3", "fact", "what happened", key_display="F3", tooltip="Tell what happened: nozzle changed, ..."),
        Binding("f4", "by_hand", "by hand", key_display="F4", tooltip="Motors off, filament, pin and touch by keys"),
        Binding("f5", "materials", "materials", key_display="F5", tooltip="Materials: what is known of them"),
        Binding("w", "talk", "wire talk", tooltip="The raw dialogue with the board"),
        Binding(
            "question_mark", "help", "why and how", key_display="?", tooltip="Why this bench is there, and its keys"
        ),
        Binding(
            "f6", "theme", "light / dark", key_display="F6", show=False, tooltip="Between the dark and the light theme"
        ),
        Binding(
            "f7", "prefer", "preferences", key_display="F7", show=False, tooltip="What you prefer, and where it is kept"
        ),
        Binding("ctrl+r", "replug", show=False, tooltip="In the demonstration: start the simulated board again"),
        Binding("ctrl+q", "leave", "quit", priority=True, tooltip="Quit; asks first when something would be lost"),
    ]

    def __init__(
        self, file: Path, port: str | None, demo: Demo | None = None, dialect: str = "", watched: bool = False
    ) -> None:
        super().__init__(_driver(), port, demo)
        self.file, self._dialect, self._watched = file, dialect, watched
        self.ending, self._least_size = AppEnding(self), LeastSize(self)
        self._following = FrameFollower(self, self._least_size)
        self._resting: Timer | None = None
        self._before_ledger = START_STATION
        self._noticed_s = 0.0
        for theme in THEMES:
            self.register_theme(theme)
        self.theme = theme_kept()
        self.console.push_theme(ink_theme(self.theme))

    def compose(self) -> ComposeResult:
        """Title, route and bench, what comes next, pulse, keys."""
        yield Title()
        with Horizontal(id="middle"):
            yield Route()
            with Container(id="bench"):
                yield Static(id="standing")
                yield Static(f"Opening {self.file.name} …", id="opening")
        yield Static(id="next-line")
        yield Pulse()
        yield Keys()
        yield SmallNote()

    def get_line_filters(self) -> Sequence[LineFilter]:
        """Whatever is drawn goes through one gate last: no text from outside steers the terminal."""
        return [*super().get_line_filters(), PRINTABLE]

    def notify(self, message: str, *, markup: bool = False, **how: Any) -> None:
        """Say something; what stands in brackets is text here, not style."""
        self._noticed_s = time.monotonic()
        super().notify(message, markup=markup, **how)

    def on_mount(self) -> None:
        """Show the frame first, then load the rest."""
        self.ending.heed_signals()
        self.theme_changed_signal.subscribe(self, self._wear)
        self.route.cursor = START_STATION
        self.route.focus()
        self.call_after_refresh(self.set_timer, AFTER_FIRST_FRAME_S, self._load_soon)

    def _load_soon(self) -> None:
        self.run_worker(self._load(), group="load")

    async def _load(self) -> None:
        """Open the session. A machine file with errors is opened to be mended; one that cannot be read ends the app."""
        from ublet.tui.frame.loading import open_session

        session, why = await open_session(self.file, self.port, self._dialect)
        while session is None:
            if isinstance(why, str) or not await self._mended(why):
                message = why if isinstance(why, str) else f"{self.file.name} was not mended: nothing was opened."
                self.exit(return_code=UNUSABLE, message=f"ublet: {message}")
                return
            session, why = await open_session(self.file, self.port, self._dialect)
        session.silence.watched = self._watched
        await self._opened(session)

    async def _mended(self, faulty: Faulty) -> bool:
        """Let the builder mend a file with errors; whether it can be opened now."""
        from ublet.tui.machine.mending import MendScreen

        return bool(await self.push_screen_wait(MendScreen(faulty)))

    async def _opened(self, session: Session) -> None:
        from ublet.session.holding import ELSEWHERE, READS_ONLY, Hold
        from ublet.session.logbook import keep_log
        from ublet.session.places import preferences_path, remember
        from ublet.session.preferences import Kept
        from ublet.session.saving import now

        self.session, session.preferences = session, Kept(preferences_path())
        if session.preferences.trouble:
            session.say_once(session.preferences.trouble)
        keep_log(session.connection)
        session.connection.changed.append(self.follow)
        session.connection.broken.append(lambda what, why: self.ring())
        session.hold = Hold(self.file)
        if session.hold.elsewhere:
            session.say_once(ELSEWHERE)
            session.connection.why = READS_ONLY
            self.set_interval(LOOKS_FOR_HOLD_S, self._take_over)
        else:
            session.connection.keep()
        self.set_interval(BEAT_S, self._following.beat)
        await self._show_station(self.route.station)
        self.follow()
        if self.demo is None:
            remember(self.file, self.port, now(), session.ledger.identity)
        gc.freeze()
        gc.enable()

    def _take_over(self) -> None:
        """The other window may be gone: then this one links, and says so."""
        session = self.session
        if session is not None and session.hold is not None and session.hold.take():
            self.notify("The other window is closed: this one has the machine now.", title="Yours", timeout=8)
            session.connection.keep()
            self.follow()

    def ring(self) -> None:
        """The terminal's bell, for whoever prefers it."""
        if self.session is not None and self.session.preferences.now.sound:
            self.bell()

    def follow(self) -> None:
        """The link, a setting or a state changed: bring everything up to date."""
        self._following.follow()

    async def on_event(self, event: Event) -> None:
        """Below the least size nothing that cannot be seen takes a key. Whoever presses one goes on: a notice that
        could be read by then no longer lies over the bench.
        """
        if isinstance(event, Key) and time.monotonic() - self._noticed_s > READ_S:
            self.clear_notifications()
        if not self._least_size.takes(event):
            await super().on_event(event)

    def on_resize(self, event: Resize) -> None:
        """The terminal may be too small now, or large enough again."""
        self._least_size.resized(event.size)

    async def on_unmount(self) -> None:
        """Leave nothing hot and nothing open."""
        await self.ending.close()

    def _handle_exception(self, error: Exception) -> None:
        """A fault of ours: one sentence for the builder, the details in a file, everything off."""
        from ublet.session.logbook import crash_sentence

        if self.session is not None:
            self.session.connection.halt()
        self._exception = error
        self.exit(return_code=FAULT, message=crash_sentence(error))

    # going from station to station

    def on_route_moved(self, event: Route.Moved) -> None:
        """Show the station under the cursor, once it rests."""
        self._rest_no_more()
        self._resting = self.set_timer(REST_S, lambda: self._show_station(event.station))

    def _rest_no_more(self) -> None:
        if self._resting is not None:
            self._resting.stop()

    async def on_route_entered(self, event: Route.Entered) -> None:
        """Go to its bench, if it is built."""
        await self.enter(event.station)

    async def enter(self, station: Station) -> None:
        """Go to a station's bench; the cursor of the route goes along."""
        self._rest_no_more()
        self.route.cursor = ROUTE.index(station)
        self._rest_no_more()
        await self._show_station(station)
        if self.bench is not None:
            self.bench.focus()
            self.refresh_bindings()
        else:
            self.notify(f"{self.file.name} is still being opened: a moment.", timeout=4)

    async def enter_setting(self, path: str) -> None:
        """Go to a setting in the machine's editor."""
        await self.enter(station_with("editor"))
        if self.bench is not None:
            self.bench.go_to(path)

    async def on_station_bench_wanted(self, event: StationBench.Wanted) -> None:
        """A bench names a way out: go there."""
        if event.setting:
            await self.enter_setting(event.setting)
        else:
            await self.enter(station_named(event.station))
            if self.bench is not None:
                self.bench.turn_to(event.trial, event.heater)
                if event.moment:
                    self.bench.show_moment(event.moment)

    def on_station_bench_edited(self) -> None:
        """The draft changed, or a trial ended: title, route and the bench follow."""
        self.follow()

    async def _show_station(self, station: Station) -> None:
        """Show a station's bench, made when it is first needed."""
        if not self.stands:
            return
        shown = self.session is not None
        if shown and station.bench not in self.benches and self.session is not None:
            from ublet.tui.benches import make_bench

            self.benches[station.bench] = make_bench(station, self.session)
            await self.query_one("#bench", Container).mount(self.benches[station.bench])
        self.bench = self.benches[station.bench] if shown else None
        for bench in self.benches.values():
            bench.display = bench is self.bench
        self.query_one("#opening", Static).display = not shown
        self._following.show_standing()
        if self.bench is not None:
            self.bench.refresh_state()

    # what can be done from anywhere

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        session = self.session
        match action:
            case "release":
                return session is not None and session.connection.state.mode in ("halted", "tripped")
            case "by_hand" | "materials":
                return session is not None and session.runner.running is None
            case "ledger" | "talk" | "fact" | "redo" | "next" | "jump" | "prefer" | "command_palette":
                return session is not None
            case "leave":
                return session is not None or len(self.screen_stack) == 1  # what mends a file asks by itself
            case "switch":
                return len(self.screen_stack) == 1 and session is not None
            case "save" if session is not None:
                return session.runner.running is None and (session.draft.dirty or bool(session.unsaved()))
            case "replug":
                return self.demo is not None
        return session is not None or action != "save"

    def halt_at_once(self) -> None:
        """From the thread that reads the keyboard: the byte goes out before the app gets to the key."""
        if (session := self.session) is not None:
            session.connection.signal_halt()

    def action_halt(self) -> None:
        """Everything off at once, from anywhere, without a question."""
        if self.session is None or not self.session.connection.halt():
            words = "No link: HALT cannot reach the board. Switch the power off. It is halted as soon as it answers."
            self.notify(words, severity="error", timeout=10)

    def action_leave(self) -> None:
        """Quit; asks first when kept values would be lost or a trial runs."""
        self.run_worker(self.ending.leave(), group="leave", exclusive=True)

    async def action_release(self) -> None:
        """Leave the halted state; everything stays off."""
        from ublet.link.errors import BoardRefused, LinkLost

        if self.session is None:
            return
        try:
            await self.session.connection.controller.release()
        except (LinkLost, BoardRefused) as error:
            self.notify(str(error), severity="error")

    def action_replug(self) -> None:
        """In the demonstration: start the board's process again when it has ended."""
        if self.demo is not None:
            self.demo.restart_board()

    def action_command_palette(self) -> None:
        """Every action, station and setting by name."""
        from ublet.tui.frame.commands import Commands

        if self.use_command_palette and not isinstance(self.screen, CommandPalette):
            self.push_screen(Commands())

    def action_switch(self) -> None:
        """Between route and bench."""
        if self.route.has_focus and self.bench is not None and self.bench.display:
            self.bench.focus()
        else:
            self.route.focus()
        self.refresh_bindings()

    async def action_next(self) -> None:
        """Go where the next step is done, or say which key does it."""
        if (step := self.next_step) is None:
            self.notify("Nothing is left to do here: what is built is proven and saved.", timeout=5)
        elif step.station is not None:
            await self.enter(step.station)
            if self.bench is not None:
                self.bench.turn_to(step.trial, step.heater)
        else:
            self.notify(f"{step.key} does it: {step.words}, because {step.why}.", timeout=5)

    async def action_ledger(self) -> None:
        """Go to the record of runs, changes and facts; from there back to where one was."""
        record = ROUTE.index(station_with("ledger"))
        if self.route.cursor == record:
            await self.enter(ROUTE[self._before_ledger])
        else:
            self._before_ledger = self.route.cursor
            await self.enter(ROUTE[record])

    def action_jump(self) -> None:
        """A letter on every station and pane; the next key goes there."""
        from ublet.tui.frame.jump import JumpScreen, spots

        self.push_screen(JumpScreen(spots(self)))

    def action_save(self) -> None:
        """Show what would be written to the file, and what a save would change; then do it."""
        self.run_worker(self._write_and_save(), group="save", exclusive=True)

    async def _write_and_save(self) -> None:
        from ublet.tui.frame.saving import save_kept, write_draft

        if (session := self.session) is None:
            return
        written = await write_draft(self, session)
        self.follow()
        if written:
            await save_kept(self, session)
            self.follow()

    def action_redo(self) -> None:
        """What no longer holds, and what to do again; enter goes to the first."""
        from ublet.tui.trial.redo import RedoDialog

        async def go(station: str | None) -> None:
            if station is not None:
                await self.enter(station_named(station))

        if self.session is not None:
            self.push_screen(RedoDialog(self.session), go)

    def action_fact(self) -> None:
        """Tell what happened at the machine."""
        self.run_worker(self._ask_fact(), group="fact", exclusive=True)

    async def _ask_fact(self) -> None:
        from ublet.tui.record.facts import FactDialog

        if self.session is None:
            return
        entered = await self.push_screen_wait(FactDialog(self.session))
        if entered is not None:
            self.notify(entered, title="Noted", timeout=6)
            self.follow()

    def action_by_hand(self) -> None:
        """Motors off, filament, pin and touch, by keys."""
        from ublet.tui.frame.by_hand import ByHandDialog

        if self.session is not None:
            self.push_screen(ByHandDialog(self.session), lambda answer: self.follow())

    def action_materials(self) -> None:
        """What is known of each material; which is loaded."""
        from ublet.tui.extrude.materials import MaterialsDialog

        def done(words: str | None) -> None:
            if words is not None:
                self.notify(words, title="Materials", timeout=8)
            from ublet.tui.trial.trial_bench import TrialBench

            for bench in self.query(TrialBench):
                bench.use_loaded()
            self.follow()

        if self.session is not None:
            self.push_screen(MaterialsDialog(self.session), done)

    def action_talk(self) -> None:
        """Read the raw dialogue with the board."""
        from ublet.tui.frame.dialogs import TextDialog
        from ublet.tui.frame.talk import talk_text

        if self.session is not None:
            self.push_screen(TextDialog("Talk with the board, newest first", Text(talk_text(self.session.connection))))

    def action_help(self) -> None:
        """Why this station exists, how it works, and every key."""
        from ublet.tui.frame.dialogs import TextDialog
        from ublet.tui.frame.help import explained, help_page

        bench = self.bench
        everywhere = explained(binding for binding in self.BINDINGS if isinstance(binding, Binding))
        page = help_page(bench.help_now() if bench else None, bench.own_bindings() if bench else [], everywhere)
        self.push_screen(TextDialog("Why and how", page))

    def action_theme(self) -> None:
        """Between soot and bone; kept for the next time."""
        self.theme = "bone" if self.theme == "soot" else "soot"
        if self.session is not None:
            self.session.preferences.change(theme=self.theme)

    def action_prefer(self) -> None:
        """Change the preferences."""
        from ublet.tui.frame.preferring import PreferencesDialog

        if self.session is not None:
            self.push_screen(PreferencesDialog(self.session.preferences))

    def _wear(self, theme: Theme) -> None:
        """Another theme: the inks follow, and every text that was drawn with the former ones is drawn again."""
        self.console.pop_theme()
        self.console.push_theme(ink_theme(theme.name))
        for screen in self.screen_stack:
            for widget in screen.query("*"):
                if isinstance(widget, Static):
                    widget.update(widget.content, layout=False)
                widget.refresh()


def _driver() -> type[Driver] | None:
    """The driver that halts by itself, where there is one for this system."""
    if sys.platform == "win32":
        return None
    from ublet.tui.frame.halting import HaltingDriver

    return HaltingDriver


def run_app(file: Path, port: str | None, demo: Demo | None = None, dialect: str = "", watched: bool = False) -> None:
    """Run the app to its end; exits the process with the app's code when it failed. dialect: the board's line language,
    where the machine file does not say it; watched: the builder's word that somebody stays at a board that stays on.

    The collector rests until everything is loaded: nothing of what is made before is garbage.
    """
    if not sys.stdout.isatty() or not sys.stdin.isatty():
        print("ublet: the app needs a terminal; without one there is `ublet run`.", file=sys.stderr)
        raise SystemExit(UNUSABLE)
    gc.disable()
    sys.setswitchinterval(SWITCH_S)
    for name in ("COLUMNS", "LINES"):
        os.environ.pop(name, None)  # an exported size would hide the terminal's own, and every change of it
    app = UbletApp(file, port, demo, dialect, watched)
    app.run()
    if app.ending.unconfirmed:
        print(
            f"ublet: it is not known whether everything is off: {app.ending.unconfirmed}. Look at the machine.",
            file=sys.stderr,
        )
    if app.return_code:
        raise SystemExit(app.return_code)
