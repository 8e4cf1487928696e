"""The bench of a station's trials: an instrument, under it what is asked, under that the settlement.

A station brings its instrument and its words. Starting, asking, keeping and dropping are the same for all, and stand
here once.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widget import Widget
from textual.widgets import Static

from ublet.core.capabilities import lacking_words
from ublet.core.catalogue import TRIALS
from ublet.core.level.warmth import BedWarmUp, cold_words
from ublet.core.questions import Question
from ublet.core.remedy import ChangeParameter, ChangeSetting, GoTo, Remedy
from ublet.core.route import station_with
from ublet.core.run import Option, TrialResult
from ublet.core.settings import Part
from ublet.core.trial import Need, TrialSpec
from ublet.core.trouble import Trouble
from ublet.core.typed import shown_value
from ublet.core.units import duration
from ublet.core.words import counted, several
from ublet.ledger.entries import RunEntry
from ublet.ledger.errors import LedgerError, NotEntered
from ublet.session.chain import ChainLink, chain, unmet_words
from ublet.session.materials import loaded_material
from ublet.session.orders import parameters_from
from ublet.session.session import Session
from ublet.session.timing import Expected, expected
from ublet.session.trials import Resumable
from ublet.tui.frame.dialogs import QuestionDialog
from ublet.tui.frame.help import Help
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.drawing import Drawing
from ublet.tui.instruments.picture import Picture
from ublet.tui.trial.asking import Asking
from ublet.tui.trial.bench import chain_lines, needs_lines
from ublet.tui.trial.parameters import Form, ParametersDialog, parameter_words
from ublet.tui.trial.question import QuestionPanel, keys_of
from ublet.tui.trial.redo import WhatIf, made_stale_line
from ublet.tui.trial.settlement import folded, key_words, option_line, outcome_line, proposal_table, remedy_lines
from ublet.tui.trial.watch import TrialWatch

HOW = """\
Enter starts. The bench says first what will turn or warm; then the trial asks you to do, to look or to measure, one
thing after another. Enter gives the first answer, the first letter of a word gives that one. What turns out wrong is
named with its remedy. Keep writes that to the live machine; start again, and only what the second round
confirms is proven. Save puts it into the board's store and the machine file. A wire that only a hand can mend is named.

In the demonstration the number keys press the switches of the simulated machine and let them go again; what you would
see, feel and read there stands in the line “at the machine”.
"""


FOLDED_LINES = 2
"""Lines of a result's reason that are shown while it is folded."""

MOST_NAMED = 3
"""Most settings that a line names; further ones are counted."""


def not_started(links: Sequence[ChainLink]) -> str:
    """What is said when a start would stand on something that does not hold."""
    missing = [link for link in links if not link.met]
    more = f" and {counted(len(missing) - 1, 'station')} more" if len(missing) > 1 else ""
    words = f"Not started: it stands on {missing[0].words}{more}"
    reason = f": {missing[0].reason}" if missing[0].reason else ""
    return f"{words}{reason}. c goes to {missing[0].station.name}; b begins all the same, and the run notes it."


class TrialBench(Asking):
    """One station's trials: see the module."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("enter", "go", "start / answer", tooltip="Start; or give the first answer to what is asked"),
        Binding("g", "go_on", "go on", tooltip="Go on where a run that was cut off stopped"),
        Binding("k", "keep", "keep", tooltip="Keep what is proposed: it is written to the live board, not yet saved"),
        Binding("K", "keep_and_save", "keep and save", tooltip="Keep it, and save it; what is saved is shown once"),
        Binding("d", "drop", "drop", tooltip="Drop what was kept here and not saved: the saved values come back"),
        Binding("p", "parameters", "parameters", tooltip="Change the parameters of the trial"),
        Binding("a", "warmth", "warm / cold", tooltip="As warm as you print a material, or cold"),
        Binding("c", "chain", "what comes first", tooltip="Go to the first station that does not hold yet"),
        Binding("b", "knowingly", "begin anyway", tooltip="Start though something does not hold; noted with the run"),
        Binding("G", "way_out", "way out", tooltip="Go where a failure is mended: a station, parameter or setting"),
        Binding("space", "fold", "more / less", tooltip="All of the result, or only its beginning"),
        Binding("o", "other", "other trial", tooltip="The station's next trial"),
        Binding("h", "heater", "heater", tooltip="The next heater that this trial is done for"),
        Binding("up", "choose(-1)", "choose", key_display="↑↓", tooltip="Choose among what could be kept"),
        Binding("down", "choose(1)", "choose", show=False),
        Binding("escape", "cancel", "cancel", tooltip="Cancel the running trial: everything goes off"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._what_if = WhatIf(session)
        self.specs = tuple(TRIALS[name] for name in station_with(self.kind).trials)
        machine = session.document.machine
        self.chosen = next((at for at, spec in enumerate(self.specs) if not spec.idle(machine)), 0)
        self.aims: dict[str, Part] = {spec.name: self.first_aim(spec) for spec in self.specs}
        self.entry: RunEntry | None = None
        self.taken = ""
        self.half: Resumable | None = None
        self.links: tuple[ChainLink, ...] = ()
        self.unfolded = self._sure = False
        self._refusal: tuple[str, str] | None = None
        self._settlement = Static(id="settlement")

    def help_now(self) -> Help:
        """Why, and how all trials go, where a station has nothing of its own to say."""
        return self.help or Help(f"{self.title}: {self.why}.", HOW)

    def first_aim(self, spec: TrialSpec) -> Part:
        """A trial's parameters at first: the usual ones, with the builder's instrument and the material that is
        loaded.
        """
        usual = {"instrument": self.preferences.instrument, "material": loaded_material(self.session)}
        fits = {
            declaration.path: usual[declaration.path]
            for declaration in spec.declared()
            if declaration.path in usual and (not declaration.choices or usual[declaration.path] in declaration.choices)
        }
        return spec.parameters().model_copy(update=fits)

    def use_loaded(self) -> None:
        """Another material is loaded: the trials are for it from now on."""
        material = loaded_material(self.session)
        for name, aim in self.aims.items():
            if "material" in type(aim).model_fields and self.watched is None:
                self.aims[name] = aim.model_copy(update={"material": material})

    def compose(self) -> ComposeResult:
        """Heading, instrument with the question right under it, settlement."""
        yield Static(id="heading")
        with Vertical(id="work"):
            yield from self.compose_instrument()
            yield QuestionPanel()
        yield self._settlement

    def compose_instrument(self) -> ComposeResult:
        """What the builder looks at; one that is not drawn by ``picture`` brings its own ``draw``."""
        yield Drawing(id="picture")

    def on_mount(self) -> None:
        """Show what the ledger holds."""
        self.reload()

    def on_resize(self) -> None:
        """Instrument and settlement follow the size."""
        self.call_after_refresh(self.refresh_state)

    def picture(self) -> Picture:
        """What draws the machine."""
        raise NotImplementedError

    def draw(self) -> None:
        """Draw the instrument: as high as there is room for beside a question, and no higher than it needs."""
        place, work = self.query_one("#picture", Static), self.query_one("#work", Widget)
        asked = self.panel.wanted_height(work.size) if self.panel.display else 0
        room = work.size.height - asked - place.styles.margin.height
        width, height = max(40, place.content_size.width), max(5, room)
        self.write("picture", self.picture()(self.session, self.watched, width, height))

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
    def heater(self) -> str:
        """The heater that is looked at; nothing where the trials are not done for one."""
        return str(getattr(self.aim, "heater", ""))

    @property
    def result(self) -> TrialResult | None:
        """The newest result that was not cancelled, or leaves something to be kept nevertheless."""
        entry = self.entry
        return entry.result if entry and (entry.result.outcome != "halted" or entry.result.options) else None

    @property
    def option(self) -> Option | None:
        """What would be kept: as chosen, else as recommended."""
        result = self.result
        if result is None:
            return None
        first = result.choice or next(iter(result.options), None)
        return next((option for option in result.options if option.name == self.taken), first)

    @property
    def stands(self) -> bool:
        """Whether there is something to draw on: at the app's end that goes before a trial has ended."""
        return self.is_mounted and self._settlement.is_attached and self.app.is_running

    def reload(self) -> None:
        """Take the newest result from the ledger."""
        self.entry = self.session.ledger.latest(self.spec.name, subject=self.spec.subject(self.aim.model_dump()))
        self.taken, self.unfolded = "", False
        self.refresh_state()

    def refresh_state(self) -> None:
        """Bring words and keys up to date."""
        if not self.stands:
            return
        if self.message is not None and self.message is self._refusal and not self._blocking():
            self.message = None  # what kept it from being started is there now
        ready = self.watched is None and self.session.usable
        self.links = chain(self.session, self.spec, self.aim) if self.watched is None else ()
        self.half = self.session.trials.resumable(self.spec, self.aim) if ready else None
        self.write("settlement", self.settlement())
        self.beat()
        self.refresh_bindings()

    def beat(self) -> None:
        """Draw what the machine says now."""
        if not self.stands:
            return
        self.draw()
        self.write("heading", self._heading())
        if self.question is not None:
            self._draw_question()

    def _heading(self) -> Text:
        text = self.heading_words()
        if self.watched is not None:
            text.append(self.running_words(), f"bold {Ink.focus}")
        else:
            width = self.query_one("#heading", Static).content_size.width
            text.append_text(needs_lines(self.needs(), max(40, width)))
            text.append_text(chain_lines(self.links, max(40, width)))
        return text

    def running_words(self) -> str:
        """Where the running trial is."""
        progress = self.watched.latest if self.watched is not None else None
        if progress is None:
            return "◆ starting"
        if progress.planned and progress.left_s is not None:
            return f"◆ {progress.detail}, {duration(progress.left_s)} left"
        return f"◆ {progress.words}"

    def needs(self) -> tuple[Need, ...]:
        """What is there and what is missing for a start."""
        if missing := self.link_needs():
            return missing
        connection = self.session.connection
        machine = self.session.machine_now  # what was kept counts at once, not only once it is saved
        if lacking := lacking_words(self.spec.uses(machine), connection.can):
            return (Need(lacking, False),)
        return self.spec.needs(machine, self.aim, lambda sensor: connection.channel(f"sensors.{sensor}"))

    def settlement(self) -> Text:
        """What was said last, what was found and proposed, and what a start would do."""
        text = Text()
        if self.message is not None:
            text.append(f"{self.message[0]}\n", self.message[1])
        if self.watched is not None:
            key_words(text, "esc", "cancels: everything goes off.")
            return text
        if self.result is not None:
            columns = max(40, self._settlement.content_size.width)
            text.append_text(outcome_line(self.result, 0 if self.unfolded else FOLDED_LINES * columns, self.cold))
            text.append_text(remedy_lines(self.result.remedies, self.remedy, self.unfolded))
            text.append_text(self._proposed(self.result))
        if self.half is not None and self.check_action("go_on", ()):
            key_words(text, "g", f"goes on where run {self.half.run} stopped: {self.half.checkpoint.words}.\n")
        text.append_text(self.start_words())
        return text

    def start_words(self) -> Text:
        """What a start would do, and with which parameters."""
        text = Text()
        again = "starts again" if self.result else "starts"
        key_words(text, "enter", f"{again}. {self.plan(self.aim)}")
        if self.spec.declared():
            text.append("\np", Ink.focus)
            text.append(f" changes: {parameter_words(self.spec, self.aim)}", Ink.dim)
        if (warmer := self.warmth_words()) and self.check_action("warmth", ()):
            text.append("\na", Ink.focus)
            text.append(f" {warmer}", Ink.dim)
        return text

    def plan(self, aim: Part) -> str:
        """What a start would do with these parameters, and how long that takes at the machine."""
        takes = self._expected(aim)
        words = self.spec.announce(self.session.machine_now, aim)
        if takes is None:
            return words
        how = ", as last time" if takes.learned else ""
        return f"{words} About {duration(takes.seconds)} at the machine{how}."

    def _expected(self, aim: Part) -> Expected | None:
        """How long it would take; nothing that cannot be reckoned keeps the plan from being shown."""
        return expected(self.session, self.spec, aim) if self.session.connection.linked else None

    def warmth_words(self) -> str:
        """How warm a levelling trial is done now, and what the next press would be; nothing where that is no choice."""
        if not isinstance(self.aim, BedWarmUp):
            return ""
        following = self._next_material(self.aim.material)
        now = f"as you print {self.aim.material}" if self.aim.material else "cold, as it is"
        return f"{now}; once more: {f'as you print {following}' if following else 'cold, as it is'}"

    def _next_material(self, material: str) -> str:
        names = [*self.session.document.machine.materials, ""]
        return names[(names.index(material) + 1) % len(names)] if material in names else names[0]

    @property
    def remedy(self) -> Remedy | None:
        """The first way out of what failed that a key leads to."""
        remedies = self.result.remedies if self.result is not None else ()
        return next((remedy for remedy in remedies if isinstance(remedy, GoTo | ChangeParameter | ChangeSetting)), None)

    def _proposed(self, result: TrialResult) -> Text:
        text, option = Text(), self.option
        if option is not None and not option.proposals and len(result.options) > 1:
            text = option_line(result.options, option)  # nothing is changed; what could be instead is a key away
            return text.append(f"  {option.note}\n", Ink.dim)
        if option is None or not option.proposals:
            return text
        if len(result.options) > 1:
            text.append_text(option_line(result.options, option))
            text.append(f"  {option.note}\n" if option.note else "", Ink.dim)
        text.append_text(proposal_table(self.session, option, self.unfolded))
        if self._keepable():
            others = [step for step in self._what_if.of_option(option) if step.station != self.station]
            text.append_text(made_stale_line(others))
            then = "start again to confirm" if self.spec.mends else "lost at power-off until it is saved"
            what = "it" if len(option.proposals) == 1 else "them"
            key_words(text, "k", f"keeps {what} on the live board; {then}.  ")
            key_words(text, "K", "keeps and saves.\n")
        return text

    # what can be done

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        ready, idle = self.session.usable, self.watched is None
        match action:
            case "go":
                # a start that is not possible now says why: a key pressed while the link was away is not swallowed
                return idle or (self.question is not None and "enter" in keys_of(self.question[0]))
            case "cancel":
                return not idle
            case "go_on":
                return ready and idle and self.half is not None
            case "parameters":
                return idle and bool(self.spec.declared())
            case "other":
                return idle and len(self.specs) > 1
            case "heater":
                return idle and len(self.spec.heaters(self.session.document.machine)) > 1
            case "choose":
                return idle and self.result is not None and len(self.result.options) > 1
            case "keep" | "keep_and_save":
                return self._keepable()
            case "warmth":
                return idle and isinstance(self.aim, BedWarmUp) and bool(self.session.document.machine.materials)
            case "chain" | "knowingly":
                return idle and self.unmet
            case "way_out":
                return idle and self.remedy is not None
            case "fold":
                return idle and self.result is not None and self.foldable
            case "drop":
                return ready and idle and bool(self.session.unsaved())
        return True

    def _keepable(self) -> bool:
        if self.watched is not None or not self.session.usable:
            return False
        wanted = option.proposals if (option := self.option) is not None else ()
        cut = self.result is not None and self.result.outcome == "halted"
        if cut and any(self.session.live(p.setting) != p.before for p in wanted):
            return False  # what was found before it was cut off is about another state
        return any(self.session.live(p.setting) != p.after for p in wanted)

    def action_go(self) -> None:
        """Start; or give the first answer to the question."""
        if self.panel.typing:
            return
        if self.question is not None:
            if (answer := keys_of(self.question[0]).get("enter")) is not None:
                self.answer(answer)
            return
        self.launch(self.spec, self.aim)

    @property
    def unmet(self) -> bool:
        """Whether something that the trial stands on does not hold."""
        return any(not link.met for link in self.links)

    @property
    def cold(self) -> str:
        """How cold the bed was at the shown result, where prints have it warm; empty: it was not."""
        return cold_words(self.session.document.machine, self.result.conditions) if self.result is not None else ""

    @property
    def foldable(self) -> bool:
        """Whether the result has more to say than is shown folded."""
        result, columns = self.result, max(40, self._settlement.content_size.width)
        if result is None:
            return False
        long = folded(result.why, FOLDED_LINES * columns) != result.why
        option = self.option
        return long or len(result.remedies) > 1 or (option is not None and len(option.proposals) > MOST_NAMED)

    def action_fold(self) -> None:
        """All of the result, or only its beginning."""
        self.unfolded = not self.unfolded
        self.refresh_state()

    def action_chain(self) -> None:
        """Go to the first station that this trial stands on and that does not hold."""
        if (link := next((link for link in self.links if not link.met), None)) is not None:
            self.post_message(self.Wanted(link.station.name))

    def action_knowingly(self) -> None:
        """Start though something does not hold."""
        if self.watched is None and not self.panel.typing:
            self.launch(self.spec, self.aim, knowingly=True)

    def action_way_out(self) -> None:
        """Go where the failure is mended."""
        match self.remedy:
            case GoTo(station, _, trial, heater):
                if station == self.station:
                    self.turn_to(trial, heater)
                else:
                    self.post_message(self.Wanted(station, trial, heater))
            case ChangeSetting(path, _):
                self.post_message(self.Wanted(setting=path))
            case ChangeParameter(parameter, _):
                self.open_form(parameter)

    def _planned(self, aim: Part) -> Text:
        words = self.plan(aim)
        return Text(f"{words[:1].lower()}{words[1:]}", Ink.text)

    def action_warmth(self) -> None:
        """As warm as one prints the next material; after the last one cold."""
        if isinstance(self.aim, BedWarmUp):
            following = self._next_material(self.aim.material)
            changed = {"material": following, "bed_c": 0.0, "nozzle_c": 0.0}
            self.aims[self.spec.name] = self.aim.model_copy(update=changed)
            self.reload()

    def action_go_on(self) -> None:
        """Go on where an earlier run was cut off."""
        if self.watched is None and not self.panel.typing:
            self.launch(self.spec, self.aim, go_on=True)

    def launch(self, spec: TrialSpec, aim: Part, go_on: bool = False, knowingly: bool = False) -> None:
        """Start a trial, unless something is missing, or its start is wanted to be confirmed first. knowingly: what it
        stands on need not hold.
        """
        if blocking := self._blocking():
            self.say(f"Not started: {'; '.join(blocking)}.", Ink.stop)
            self._refusal = self.message
            return
        links = chain(self.session, spec, aim)
        missing = unmet_words(links)
        if missing and self.preferences.ask_unmet and not knowingly and not go_on:
            self.say(not_started(links), Ink.focus)
            return
        if self.preferences.confirm_starts and not self._sure:
            self._sure = True
            self.say("Press the same key once more to start.", Ink.focus)
            return
        self.message, self._sure = None, False
        plan = expected(self.session, spec, aim)
        self.watched = TrialWatch(self._ask, self.undone, lambda: self.session.connection.board_time, plan)
        self.refresh_state()
        self.run_worker(self._run(spec, aim, go_on, missing), group="trial", exclusive=True)

    def _blocking(self) -> list[str]:
        """What keeps a trial from being started now."""
        return [need.words for need in self.needs() if need.blocking and not need.met]

    async def _run(self, spec: TrialSpec, aim: Part, go_on: bool, knowingly: str) -> None:
        assert self.watched is not None
        try:
            entered = await self.session.run(spec, aim, self.watched, go_on, knowingly)
        except LedgerError as error:
            self.message = (f"✗ {error}", Ink.stop)
        else:
            self.message = (f"! {entered.note}", Ink.focus) if entered.note else None
            self.ended(spec, entered.ran.result)
        self.watched = None
        self._close_question()
        self.reload()
        self.ring()
        self.post_message(self.Edited())

    def ended(self, spec: TrialSpec, result: TrialResult) -> None:
        """A trial ended: what it found stands in the ledger; only why it was stopped does not."""
        if result.outcome == "halted" and not result.options:  # else its reason stands above what it offers
            self.message = (f"✗ {result.why}", Ink.stop)

    def action_parameters(self) -> None:
        """Change the trial's parameters: a form with a line each."""
        self.open_form()

    def open_form(self, at: str = "") -> None:
        """The form of the parameters, with the cursor at one of them."""
        machine = self.session.machine_now
        form = Form(self.spec, self.aim, machine, self._planned, self.preferences.length_unit)

        def take(lines: str | None) -> None:
            if lines:
                self.aims[self.spec.name] = parameters_from(self.spec, lines.split("\n"))
                self.message = None
                self.refresh_state()

        self.app.push_screen(ParametersDialog(form, at), take)

    def action_choose(self, by: int) -> None:
        """Another of several options."""
        if self.result is not None and (option := self.option) is not None:
            names = [option.name for option in self.result.options]
            self.taken = names[(names.index(option.name) + by) % len(names)]
            self.refresh_state()

    def action_heater(self) -> None:
        """The next heater that this trial is done for."""
        self.aims[self.spec.name] = self.aim.model_copy(update={"heater": self.heater_after(self.spec, self.heater)})
        self.message = None
        self.reload()

    def turn_to(self, trial: str, heater: str) -> None:
        """Show one of the station's trials, for one of its heaters."""
        names = [spec.name for spec in self.specs]
        if self.watched is not None or trial not in names:
            return
        if names.index(trial) != self.chosen:
            self.chosen, self.message = names.index(trial), None
            self.reload()
        first = self.heater
        while heater and self.heater != heater:
            self.action_heater()
            if self.heater == first:
                return  # it went round: there is no such heater here

    def action_other(self) -> None:
        """The station's next trial."""
        self.chosen = (self.chosen + 1) % len(self.specs)
        self.message = None
        self.reload()

    def action_cancel(self) -> None:
        """Stop the trial; everything goes off."""
        self.session.runner.cancel()

    async def action_keep(self) -> None:
        """Write what is proposed to the live machine."""
        if self.option is not None and self.entry is not None:
            await self.keep(self.option, self.entry.id)

    async def action_keep_and_save(self) -> None:
        """Keep what is proposed, and save what was kept; it is shown before it is written."""
        if self.option is not None and self.entry is not None and await self.keep(self.option, self.entry.id):
            await self.app.run_action("app.save")

    async def keep(self, option: Option, run: int | None) -> bool:
        """Write an option to the live machine, and say what became of it; whether it is live now."""
        try:
            await self.session.keep(option, run, self.station)
        except NotEntered as error:
            self.say(f"! Live on the board. {error}", Ink.focus)
        except Trouble as error:
            self.say(f"✗ Not kept: {error}", Ink.stop)
            return False
        else:
            self.say(f"✓ {self.kept_words(option)}", Ink.proposal)
        return True

    def kept_words(self, option: Option) -> str:
        """What is said once it is live."""
        again = " Start again to confirm." if self.spec.mends else ""
        what = several([f"{p.setting} {shown_value(p.after)}" for p in option.proposals[:MOST_NAMED]])
        more = len(option.proposals) - MOST_NAMED
        what += f" and {more} more" if more > 0 else ""
        return f"Live on the board, lost at power-off until saved: {what}.{again}"

    async def action_drop(self) -> None:
        """Put back the saved values of what was kept here; what was kept at other stations is asked about."""
        unsaved = self.session.unsaved()
        own = {item.setting for item in unsaved if self.session.station_that_kept(item.setting) == self.station}
        others = [item.setting for item in unsaved if item.setting not in own]
        if own:
            await self._drop(own)
        if others:
            self.run_worker(self._drop_others(others, bool(own)), group="drop", exclusive=True)

    async def _drop_others(self, settings: Sequence[str], dropped: bool) -> None:
        """Ask about what was kept at other stations."""
        lines = [f"  {name}  ({self.session.station_that_kept(name) or 'station unknown'})" for name in settings]
        here = "What was kept at this station is dropped." if dropped else "Nothing was kept at this station."
        text = "\n".join([f"{here} These were kept elsewhere and are not saved:", "", *lines, "", "Drop them, too?"])
        if await self.app.push_screen_wait(QuestionDialog(Question(text, ("leave them", "drop them")))) == "drop them":
            await self._drop(set(settings))
        elif not dropped:
            self.say("Nothing was dropped.", Ink.text)

    async def _drop(self, settings: Collection[str]) -> None:
        try:
            dropped = await self.session.drop(settings)
        except Trouble as error:
            self.say(f"✗ Not dropped: {error}", Ink.stop)
        else:
            what = [f"{path.setting} is {shown_value(self.session.live(path.setting))} again" for path in dropped]
            more = f" and {len(what) - MOST_NAMED} more" if len(what) > MOST_NAMED else ""
            self.say(f"Dropped: {several(what[:MOST_NAMED])}{more}.", Ink.text)
