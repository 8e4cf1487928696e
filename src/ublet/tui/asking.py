"""A bench for trials that ask the builder to do, to look, to measure: picture, question, findings, keep and drop."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.events import Key
from textual.widgets import Static

from ublet.core.catalogue import TRIALS
from ublet.core.questions import Measure, Question
from ublet.core.route import ROUTE
from ublet.core.run import Option, TrialResult
from ublet.core.settings import Part
from ublet.core.trial import Need, TrialSpec
from ublet.core.trouble import Trouble
from ublet.core.typed import shown_value
from ublet.core.units import duration, show
from ublet.ledger.entries import RunEntry
from ublet.ledger.errors import LedgerError, NotEntered
from ublet.session.orders import OrderError, parameters_from
from ublet.session.session import Session
from ublet.session.trials import Resumable
from ublet.tui.at_the_machine import notice
from ublet.tui.bench import Bench
from ublet.tui.pictures import Picture
from ublet.tui.question import QuestionPanel, answer_for, is_typed, keys_of, refusal_of
from ublet.tui.theme import Palette
from ublet.tui.watch import TrialWatch

HELP = """\
WHY   {why}.

HOW   Enter starts: the trial says what will turn or warm, and asks you to do, to look or to measure, one thing after
      the other. Enter gives the first answer, the first letter any of them. What came out wrong is named with what
      would mend it. Keep writes the mend to the live machine; then start again: only what the second round confirms is
      proven. Save puts it into the board's store and the machine file. A wire that must be mended by hand is named so.

      In the demonstration the number keys press the switches of the simulated machine, and let them go again; what
      you would see, feel and read there stands in the line “at the machine”.

KEYS  {keys}
"""


class AskingBench(Bench):
    """One station's trials. Its picture shows what the machine says, live; questions stand below it."""

    DEFAULT_CSS = """
    AskingBench { layout: vertical; width: 1fr; height: 1fr; padding: 0 1; }
    AskingBench #heading { height: auto; padding: 1 1 0 1; }
    AskingBench #picture { height: 1fr; min-height: 5; padding: 0 1; margin-top: 1; }
    AskingBench #detail { height: 10; padding: 0 1; margin-top: 1; }
    AskingBench.running #detail { height: 2; margin-top: 0; }
    """
    BINDINGS = [
        Binding("enter", "go", "start / answer"),
        Binding("g", "go_on", "go on"),
        Binding("k", "keep", "keep"),
        Binding("d", "drop", "drop"),
        Binding("p", "parameters", "parameters"),
        Binding("o", "other", "other trial"),
        Binding("h", "heater", "heater"),
        Binding("up", "choose(-1)", "choose", key_display="↑↓"),
        Binding("down", "choose(1)", "choose", show=False),
        Binding("escape", "cancel", "cancel"),
    ]
    kind = ""
    why = ""
    """The station's title, and after three spaces why it exists."""

    KEYS_HELP = "enter start, or the first answer    p parameters    k keep the mend    d drop it    esc cancel"

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__(session, palette)
        station = next(station for station in ROUTE if station.bench == self.kind)
        self.specs = tuple(TRIALS[name] for name in station.trials)
        self.chosen = 0
        self.aims: dict[str, Part] = {spec.name: spec.parameters() for spec in self.specs}
        self.entry: RunEntry | None = None
        self.question: tuple[Question, asyncio.Future[str]] | None = None
        self.told: tuple[str, str] | None = None
        self.taken = ""
        self.half: Resumable | None = None

    def compose(self) -> ComposeResult:
        """Heading, picture, question, what was found."""
        yield Static(id="heading")
        yield Static(id="picture")
        yield QuestionPanel(self.palette)
        yield Static(id="detail")

    def on_mount(self) -> None:
        """Show what the ledger holds."""
        self.reload()

    def on_resize(self) -> None:
        """The picture follows the size."""
        self.call_after_refresh(self.beat)

    def picture(self) -> Picture:
        """What draws the machine."""
        raise NotImplementedError

    # what is shown

    @property
    def spec(self) -> TrialSpec:
        """The trial that would be started."""
        return self.specs[self.chosen]

    @property
    def aim(self) -> Part:
        """Its parameters."""
        return self.aims[self.spec.name]

    @property
    def panel(self) -> QuestionPanel:
        """The panel of questions."""
        return self.query_one(QuestionPanel)

    @property
    def result(self) -> TrialResult | None:
        """The newest result that was not cancelled."""
        return self.entry.result if self.entry and self.entry.result.outcome != "halted" else None

    @property
    def option(self) -> Option | None:
        """What would be kept: as chosen, else as recommended."""
        result = self.result
        if result is None:
            return None
        return next((option for option in result.options if option.name == self.taken), result.choice)

    def reload(self) -> None:
        """Take the newest result from the ledger."""
        self.entry = self.session.ledger.latest(self.spec.name, subject=self.spec.subject(self.aim.model_dump()))
        self.taken = ""
        self.refresh_state()

    def refresh_state(self) -> None:
        """Bring words and keys up to date."""
        if not self.is_mounted:
            return
        self.set_class(self.watched is not None, "running")
        ready = self.watched is None and self.session.usable
        self.half = self.session.trials.resumable(self.spec, self.aim) if ready else None
        self.write("detail", self._detail())
        self.beat()
        self.refresh_bindings()

    def beat(self) -> None:
        """Draw what the machine says now."""
        if not self.is_mounted:
            return
        place = self.query_one("#picture", Static)
        width, height = max(40, place.content_size.width), max(5, place.content_size.height)
        place.update(self.picture()(self.session, self.watched, width, height, self.palette), layout=False)
        self.write("heading", self._heading())
        if self.question is not None:
            self._draw_question()

    def _heading(self) -> Text:
        palette, text = self.palette, Text()
        title, _, why = self.why.partition("   ")
        text.append(title, f"bold {palette.text}")
        text.append(f"   {why}\n", palette.dim)
        if self.watched is not None:
            text.append(self.running_words(), f"bold {palette.focus}")
            return text
        for need in self.needs():
            style = palette.good if need.met else palette.stop if need.blocking else palette.focus
            text.append("✓ " if need.met else "✗ " if need.blocking else "! ", style)
            text.append(f"{need.words}  ", palette.text)
        return text

    def running_words(self) -> str:
        """Where the running trial is."""
        progress = self.watched.latest if self.watched is not None else None
        if progress is None:
            return "◆ starting"
        return f"◆ {progress.phase}{', ' if progress.detail else ''}{progress.detail}"

    def needs(self) -> tuple[Need, ...]:
        """What is there and what is missing for a start."""
        if missing := self.link_needs():
            return missing
        connection = self.session.connection
        machine = self.session.document.machine
        return self.spec.needs(machine, self.aim, lambda sensor: connection.channel(f"sensors.{sensor}"))

    def _detail(self) -> Text:
        palette, text = self.palette, Text()
        if self.told is not None:
            text.append(f"{self.told[0]}\n", self.told[1])
        if self.watched is not None:
            text.append("esc", palette.focus)
            text.append(" cancels: everything goes off.", palette.dim)
            return text
        result = self.result
        if result is not None:
            mark = "✓" if result.outcome == "proven" else "✗"
            text.append(f"{mark} {result.why}\n", palette.good if result.outcome == "proven" else palette.stop)
            self._proposals(text, result)
        if self.half is not None:
            text.append("g", palette.focus)
            text.append(f" goes on where run {self.half.run} stopped: ", palette.text)
            text.append(f"{self.half.checkpoint.words}.\n", palette.text)
        text.append("enter", palette.focus)
        text.append(f" {'starts again' if result else 'starts'}. ", palette.text)
        text.append(self.spec.announce(self.session.document.machine, self.aim), palette.text)
        if self.spec.declared():
            text.append("\np", palette.focus)
            text.append(f" changes: {parameter_words(self.spec, self.aim)}", palette.dim)
        return text

    def _proposals(self, text: Text, result: TrialResult) -> None:
        palette, option = self.palette, self.option
        if option is None or not option.proposals:
            if result.outcome == "failed":
                text.append("Nothing in the settings mends this: look at the machine.\n", palette.text)
            return
        if len(result.options) > 1:
            text.append("↑↓ ", palette.focus)
            for other in result.options:
                mark = "▸ " if other is option else "  "
                text.append(f"{mark}{other.name}   ", f"bold {palette.proposal}" if other is option else palette.dim)
            text.append("\n")
        for proposal in option.proposals:
            now = self.session.live(proposal.setting)
            kept = now == proposal.after
            text.append(f"  {proposal.setting:<32}", palette.text)
            text.append(f"{shown_value(now):>8} on the board   ", palette.dim)
            text.append("kept" if kept else f"→ {shown_value(proposal.after)}", f"bold {palette.proposal}")
            text.append(f"   {proposal.effect}\n", palette.dim)
        if self._keepable():
            text.append("k", palette.focus)
            then = "; then start again to confirm" if self.spec.mends else ", lost at power-off until it is saved"
            what = "it" if len(option.proposals) == 1 else "them"
            text.append(f" keeps {what} on the live board{then}.\n", palette.text)

    def _draw_question(self) -> None:
        if self.question is None:
            return
        question, notes = self.question[0], Text()
        if (hands := self.hands) is not None:
            seen = hands.look()
            notes.append(f"\nat the machine: {notice(question, seen)}", self.palette.dim)
            if question.cue[:1] in (("press",), ("let go",)):
                keys = "  ".join(f"{number} {name}" for number, name in enumerate(seen.switches, start=1))
                notes.append(f"\nin the demonstration these keys press and let go: {keys}", self.palette.proposal)
        self.panel.ask(question, notes)

    # what can be done

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        ready = self.session.usable
        if action == "go":
            asked = self.question is not None and "enter" in keys_of(self.question[0])
            return asked if self.watched is not None else ready
        if action == "cancel":
            return self.watched is not None
        if action == "go_on":
            return ready and self.watched is None and self.half is not None
        if action == "parameters":
            return self.watched is None and bool(self.spec.declared())
        if action == "other":
            return self.watched is None and len(self.specs) > 1
        if action == "heater":
            return self.watched is None and len(self.spec.heaters(self.session.document.machine)) > 1
        if action == "choose":
            return self.watched is None and self.result is not None and len(self.result.options) > 1
        if action == "keep":
            return ready and self._keepable()
        if action == "drop":
            return ready and self.watched is None and bool(self.session.unsaved())
        return True

    def _keepable(self) -> bool:
        wanted = option.proposals if (option := self.option) is not None else ()
        return self.watched is None and any(self.session.live(p.setting) != p.after for p in wanted)

    def action_go(self) -> None:
        """Start; or give the first answer to the question."""
        if self.panel.typing:
            return
        if self.question is not None:
            if (answer := keys_of(self.question[0]).get("enter")) is not None:
                self.answer(answer)
            return
        self._start(False)

    def action_go_on(self) -> None:
        """Go on where an earlier run was cut off."""
        if self.watched is None and not self.panel.typing:
            self._start(True)

    def _start(self, go_on: bool) -> None:
        blocking = [need.words for need in self.needs() if need.blocking and not need.met]
        if blocking:
            self.told = (f"Not started: {'; '.join(blocking)}.", self.palette.stop)
            self.refresh_state()
            return
        self.told = None
        self.watched = TrialWatch(self._ask, self.undone)
        self.refresh_state()
        self.run_worker(self._run(go_on), group="trial", exclusive=True)

    async def _run(self, go_on: bool) -> None:
        assert self.watched is not None
        try:
            entered = await self.session.run(self.spec, self.aim, self.watched, go_on)
        except LedgerError as error:
            self.told = (f"✗ {error}", self.palette.stop)
        else:
            if entered.ran.result.outcome == "halted":
                self.told = (f"✗ {entered.ran.result.why}", self.palette.stop)
            elif entered.note:
                self.told = (f"! {entered.note}", self.palette.focus)
        self.watched = None
        self._close_question()
        self.reload()
        self.post_message(self.Edited())

    async def _ask(self, question: Question) -> str:
        self.question = (question, asyncio.get_running_loop().create_future())
        self._draw_question()
        if is_typed(question):
            unit = question.unit if isinstance(question, Measure) else ""
            self.panel.open_field("", refusal_of(question), unit)
        self.refresh_bindings()
        self.asked(question)
        try:
            return await self.question[1]
        finally:
            self._close_question()

    def asked(self, question: Question) -> None:
        """A question was put."""

    def answer(self, answer: str) -> None:
        """Give an answer to the question that stands."""
        if self.question is None or self.question[1].done():
            return
        question, hands = self.question[0], self.hands
        if hands is not None and (not question.answers or answer == question.answers[0]):
            hands.act(question.cue)
        self.question[1].set_result(answer)

    def _close_question(self) -> None:
        self.question = None
        if not self.is_mounted:
            return
        if self.panel.typing:
            self.panel.close_field()
            self.focus()
        self.panel.say(Text())

    def on_question_panel_typed(self, event: QuestionPanel.Typed) -> None:
        """A reading, or parameters."""
        self.focus()
        if self.question is not None:
            self.answer(event.text)
        else:
            self.take_typed(event.text)

    def take_typed(self, text: str) -> None:
        """Parameters were typed."""
        self.aims[self.spec.name] = parameters_from(self.spec, text.split())
        self.panel.say(Text())
        self.refresh_state()

    def on_question_panel_left(self) -> None:
        """A reading that is not given ends the trial; a field for parameters just closes."""
        self.focus()
        if self.question is not None and is_typed(self.question[0]):
            self.action_cancel()
        elif self.question is None:
            self.panel.say(Text())

    def on_key(self, event: Key) -> None:
        """Letters answer; in the demonstration numbers press switches."""
        if self.panel.typing:
            self.panel.take_key(event)
            return
        if self.question is None:
            return
        question, hands = self.question[0], self.hands
        if event.key.isdigit() and hands is not None and question.cue[:1] in (("press",), ("let go",)):
            names, at = hands.look().switches, int(event.key) - 1
            if 0 <= at < len(names):
                hands.press(names[at], names[at] not in hands.look().pressed)
                self._draw_question()
            event.stop()
            return
        keys = keys_of(question)
        named = keys.get(event.key) if "enter" not in keys else answer_for(question.answers, event.key)
        if named is not None and event.key != "enter":
            event.stop()
            event.prevent_default()
            self.answer(named)

    def action_parameters(self) -> None:
        """Change the trial's parameters: KEY=VALUE words in one line."""

        def refusal(text: str) -> str | None:
            try:
                parameters_from(self.spec, text.split())
            except OrderError as error:
                return str(error)
            return None

        words = Text()
        words.append(f"Parameters of {self.spec.name.replace('-', ' ')}\n", f"bold {self.palette.text}")
        for declared in self.spec.declared():
            words.append(f"{declared.path:<14}", self.palette.focus)
            words.append(f"{declared.help} {declared.allowed()}\n", self.palette.dim)
        words.append("enter takes them, esc leaves them as they were", self.palette.dim)
        self.panel.say(words)
        self.panel.open_field(typed_parameters(self.spec, self.aim), refusal)

    def action_choose(self, by: int) -> None:
        """Another of several options."""
        if self.result is not None and (option := self.option) is not None:
            names = [each.name for each in self.result.options]
            self.taken = names[(names.index(option.name) + by) % len(names)]
            self.refresh_state()

    def action_heater(self) -> None:
        """The next heater that this trial is done for."""
        after = self.heater_after(self.spec, getattr(self.aim, "heater", ""))
        self.aims[self.spec.name] = self.aim.model_copy(update={"heater": after})
        self.told = None
        self.reload()

    def action_other(self) -> None:
        """The station's next trial."""
        self.chosen = (self.chosen + 1) % len(self.specs)
        self.told = None
        self.reload()

    def action_cancel(self) -> None:
        """Stop the trial; everything goes off."""
        self.session.runner.cancel()

    async def action_keep(self) -> None:
        """Write the mend to the live machine."""
        option = self.option
        if option is None or self.entry is None:
            return
        try:
            await self.session.keep(option, self.entry.id)
        except NotEntered as error:
            self.told = (f"! Live on the board. {error}", self.palette.focus)
        except Trouble as error:
            self.told = (f"✗ Not kept: {error}", self.palette.stop)
        else:
            again = " Start again to confirm." if self.spec.mends else ""
            self.told = (f"✓ Live on the board, lost at power-off until saved.{again}", self.palette.proposal)
        self.refresh_state()

    async def action_drop(self) -> None:
        """Put the saved values back."""
        try:
            count = await self.session.drop()
        except Trouble as error:
            self.told = (f"✗ Not dropped: {error}", self.palette.stop)
        else:
            self.told = (f"Dropped: {count} settings are back at their saved values.", self.palette.text)
        self.refresh_state()

    def commands(self) -> Iterable[tuple[str, str, str]]:
        """For the command palette."""
        found = [
            ("start", self.spec.summary, "go"),
            ("keep", "Keep what would mend it", "keep"),
            ("drop", "Drop what was kept and not saved", "drop"),
            ("parameters", "Change the parameters of the trial", "parameters"),
            ("cancel", "Cancel the running trial", "cancel"),
        ]
        if len(self.specs) > 1:
            found.append(("other trial", "The station's next trial", "other"))
        return found

    def help_words(self) -> str:
        """Why and how."""
        return HELP.format(why=self.why.replace("   ", ": "), keys=self.KEYS_HELP)


def typed_parameters(spec: TrialSpec, aim: Part) -> str:
    """Parameters as they are typed: KEY=VALUE words."""
    words = []
    for declared in spec.declared():
        value = getattr(aim, declared.path)
        shown = shown_value(value) if value is not None else ""
        words.append(f"{declared.path}={shown}")
    return " ".join(words)


def parameter_words(spec: TrialSpec, aim: Part) -> str:
    """Parameters in words, for one line."""
    words = []
    for declared in spec.declared():
        value = getattr(aim, declared.path)
        number = isinstance(value, (int, float)) and not isinstance(value, bool)
        long = number and declared.unit == "s" and value >= 120
        shown = show(value, declared.unit) if number else shown_value(value)
        shown = duration(value) if long else shown
        name = declared.path
        for ending in ("_mm_s", "_mm", "_c", "_s"):
            name = name.removesuffix(ending)
        words.append(f"{name.replace('_', ' ')} {shown}")
    return ", ".join(words)
