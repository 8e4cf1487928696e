"""The bench of heater control, for a hotend or a bed: start, watch, choose, keep, verify."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from dataclasses import replace

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.widgets import Static

from ublet.core.catalogue import TRIALS
from ublet.core.heat.candidates import AS_FOUND
from ublet.core.heat.demands import demands_of, hotends, slow_heaters
from ublet.core.heat.report import ON_OFF
from ublet.core.heat.trials import BedParameters, ControlAim, HotendParameters
from ublet.core.questions import Question
from ublet.core.route import ROUTE
from ublet.core.run import Option, Series
from ublet.core.settings import Part, refusal_of
from ublet.core.trial import Need, TrialSpec
from ublet.core.trouble import Trouble
from ublet.ledger.entries import RunEntry
from ublet.ledger.errors import LedgerError, NotEntered
from ublet.session.orders import verify_parameters
from ublet.session.session import Session
from ublet.tui.bench import Bench
from ublet.tui.chart import StripChart
from ublet.tui.dialogs import QuantityDialog, QuestionDialog
from ublet.tui.heat_pictures import cycles, duty, fan_start, last_minute, reached_at, steps, whole
from ublet.tui.heat_words import BED_HELP, HOTEND_HELP, heading, next_steps
from ublet.tui.settlement import Settlement
from ublet.tui.theme import Palette
from ublet.tui.watch import TrialWatch

COOLEST_BED_C = 30.0
IDLE_BEATS = 3
"""While nothing is recorded the live trace is drawn at every so many beats."""


PLANT_KEYS = (".sensor", ".socket", ".power_limit", ".part")
"""What a heater is, and not how it is held."""


class HeaterBench(Bench):
    """Tunes one heater. It holds no physics: it starts trials and shows what they found."""

    DEFAULT_CSS = """
    HeaterBench { layout: vertical; width: 1fr; height: 1fr; padding: 0 1; }
    HeaterBench #heading { height: auto; padding: 1 1 0 1; }
    HeaterBench #instrument { height: 1fr; min-height: 6; margin-top: 1; }
    HeaterBench #small { width: 36; }
    HeaterBench #small.empty { display: none; }
    HeaterBench #large { height: 1fr; }
    HeaterBench #duty { height: 5; }
    HeaterBench #legend { height: 1; padding: 0 1 0 8; text-wrap: nowrap; text-overflow: ellipsis; }
    HeaterBench #next { height: auto; padding: 0 1; margin-top: 1; }
    """
    BINDINGS = [
        Binding("enter", "start", "start"),
        Binding("t", "target", "target"),
        Binding("h", "heater", "heater"),
        Binding("k", "keep", "keep"),
        Binding("d", "drop", "drop"),
        Binding("v", "verify", "verify"),
        Binding("g", "sets", "gain sets"),
        Binding("n", "label", "note set"),
        Binding("e", "export", "export"),
        Binding("up", "choose(-1)", "choose", key_display="↑↓"),
        Binding("down", "choose(1)", "choose", show=False),
        Binding("escape", "cancel", "cancel"),
    ]

    kind = ""
    title = ""
    why = ""
    help = ""

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__(session, palette)
        self.verifying = False
        self._beats = 0
        self.tuned: RunEntry | None = None
        self.tuned_series: dict[str, Series] = {}
        self.verified: RunEntry | None = None
        self.verified_series: dict[str, Series] = {}
        self.told: tuple[str, str] | None = None
        station = next(station for station in ROUTE if station.bench == self.kind)
        self.control, self.verify = (TRIALS[name] for name in station.trials)
        self.aim = self.first_aim()

    def first_aim(self) -> ControlAim:
        """What the trial aims at before anybody chose."""
        raise NotImplementedError

    def compose(self) -> ComposeResult:
        """Heading, instrument, settlement, what comes next."""
        yield Static(id="heading")
        with Horizontal(id="instrument"):
            yield StripChart(self.palette, id="small")
            with Vertical():
                yield StripChart(self.palette, id="large")
                yield StripChart(self.palette, id="duty")
        yield Static(id="legend")
        yield Settlement(self.palette)
        yield Static(id="next")

    def on_mount(self) -> None:
        """Show what the ledger holds."""
        self.reload()

    # what is shown

    def reload(self) -> None:
        """Take the newest results from the ledger."""
        ledger, subject = self.session.ledger, {"heater": self.aim.heater}
        self.tuned = ledger.latest(self.control.name, "proven", subject)
        self.tuned_series = ledger.streams(self.tuned.id) if self.tuned else {}
        newest = ledger.latest(self.verify.name, subject=subject)
        self.verified = newest if newest and self.tuned and newest.id > self.tuned.id else None
        if self.verified and self.verified.result.outcome == "halted":
            self.verified = None
        self.verified_series = ledger.streams(self.verified.id) if self.verified else {}
        settlement = self.query_one(Settlement)
        if self.tuned:
            result = self.tuned.result
            settlement.options = result.options
            settlement.recommended = result.recommended
            names = [option.name for option in result.options]
            if not settlement.live or settlement.chosen >= len(names):
                settlement.chosen = names.index(result.recommended) if result.recommended in names else 0
        self.refresh_state()

    def refresh_state(self) -> None:
        """Bring words, charts and keys up to date with the machine."""
        settlement = self.query_one(Settlement)
        settlement.display = self.watched is None and self.tuned is not None
        settlement.live = self.live_option()
        settlement.measured = self.verified.result if self.verified and self.verified_live() else None
        self.write("heading", heading(self))
        self.write("next", next_steps(self))
        self.draw()
        self.refresh_bindings()

    def beat(self) -> None:
        """Draw what came since the last beat."""
        if self.watched is not None and self.watched.fresh:
            self.watched.fresh = False
            self.draw()
        else:
            if self.watched is None:
                self.write("heading", heading(self))
            self._beats += 1
            if (self.tuned is None or self.watched is not None) and self._beats % IDLE_BEATS == 0:
                self.draw()

    def draw(self) -> None:
        """Draw the charts and their legend."""
        self._draw_charts()
        small = self.query_one("#small", StripChart)
        small.set_class(small.picture is None, "empty")

    def _charts(self) -> tuple[StripChart, StripChart, StripChart]:
        """The small chart, the large one, and the duty's strip."""
        small, large, strip = (self.query_one(f"#{name}", StripChart) for name in ("small", "large", "duty"))
        return small, large, strip

    def _draw_charts(self) -> None:
        small, large, strip = self._charts()
        legend = Text(no_wrap=True)
        series = self.watched.series("relay") if self.watched else None
        if self.watched is None and self.tuned is not None:
            self._draw_steps(self.tuned_series.get("relay"), self.verified_series.get("step"), legend)
        elif series is not None:
            target = self.aim.target
            first = whole(series, target, self.palette, "the climb")
            reached = reached_at(series, target)
            picture = first if reached is None else cycles(series, target, self.palette)
            small.show(first if reached is not None else None)
            large.show(replace(picture, title="", x_labels=False))
            strip.show(duty(series, picture.x_limits, self.palette))
            self._legend(legend, ("temperature, °C", self.palette.focus), ("duty, %", self.palette.text))
        elif self.watched is not None and (step := self.watched.series("step")) is not None:
            self._draw_steps(None, step, legend, self.watched.series("predicted"))
        else:
            self._draw_last_minute(legend)
        self.write("legend", legend)

    def _draw_last_minute(self, legend: Text) -> None:
        """Before there is a record: the live reading of the last minute."""
        small, large, strip = self._charts()
        small.show(None)
        heater = self.session.document.machine.heaters.get(self.aim.heater)
        sensor = heater.sensor if heater else ""
        picture, below = last_minute(self.session.connection, self.aim.heater, sensor, self.palette)
        large.show(picture)
        strip.show(below)
        self._legend(
            legend, ("temperature now, °C: the last minute", self.palette.focus), ("duty, %", self.palette.text)
        )

    def _draw_steps(
        self, relay: Series | None, measured: Series | None, legend: Text, predicted_live: Series | None = None
    ) -> None:
        """Predicted steps, and the measured one when there is one."""
        small, large, strip = self._charts()
        predicted = {
            name.removeprefix("predicted "): series
            for name, series in self.tuned_series.items()
            if name.startswith("predicted ")
        }
        option = self.option
        chosen = option.name if option else ""
        if predicted_live is not None:
            chosen, predicted = "live gains", {"live gains": predicted_live}
        fan_at, target = fan_start(measured), self.aim.target
        if self.tuned is not None and predicted_live is None:
            # a stored result is drawn around its own target, whatever is aimed at next
            target = self._noted("target_c") or target
            fan_at = self._noted("fan_at_s") if fan_at is None else fan_at
        picture = steps(predicted, measured, chosen, target, fan_at, self.palette)
        large.show(picture)
        record = measured if measured is not None else relay
        if record is not None:
            small.show(whole(record, target, self.palette, "the climb" if measured is not None else "the record"))
        below = measured if measured is not None else predicted.get(chosen)
        strip.show(duty(below, picture.x_limits, self.palette) if below is not None else None)
        entries = [(f"predicted, {chosen}", self.palette.proposal)]
        if AS_FOUND in predicted and chosen != AS_FOUND:
            entries.append((f"predicted, {AS_FOUND}", self.palette.dim))
        if measured is not None:
            entries.insert(0, ("measured", self.palette.focus))
        entries.append(("duty, %", self.palette.text))
        self._legend(legend, *entries)

    def _noted(self, condition: str) -> float | None:
        """A number among the conditions of the tuning that is shown."""
        value = self.tuned.result.conditions.get(condition) if self.tuned else None
        return float(value) if isinstance(value, (int, float)) else None

    def _legend(self, text: Text, *entries: tuple[str, str]) -> None:
        for word, style in entries:
            text.append("⠒⠒ ", style)
            text.append(f"{word}    ", self.palette.dim)

    def needs(self) -> tuple[Need, ...]:
        """What is there and what is missing for a start."""
        if missing := self.link_needs():
            return missing
        connection = self.session.connection
        if self.aim.heater not in self.session.document.machine.heaters:
            return (Need(f"no {self.aim.heater} heater is declared in the machine file", False),)
        machine = self.session.document.machine
        return self.control.needs(machine, self.aim, lambda sensor: connection.channel(f"sensors.{sensor}"))

    def live_option(self) -> str:
        """Name of the option whose gains are live now."""
        if self.tuned is None:
            return ""
        if self.session.live(f"heaters.{self.aim.heater}.control") == ON_OFF:
            return ON_OFF
        root = self.session.gains_root(self.aim.heater, self.shown_target)
        for option in self.tuned.result.options:
            if all(self.session.live(f"{root}.{key}") == option.figures.get(key) for key in ("kp", "ki", "kd")):
                return option.name
        return ""

    def verified_live(self) -> bool:
        """Whether the verification was of the gains that are live now."""
        if self.verified is None:
            return False
        start = f"heaters.{self.aim.heater}."
        settings = [rest for rest in self.verified.rests if rest.kind == "setting" and rest.path.startswith(start)]
        held = [rest for rest in settings if not rest.path.endswith(PLANT_KEYS)]
        return all(rest.holds(self.session.live(rest.path)) for rest in held)

    @property
    def shown_target(self) -> float:
        """The target of the tuning that is shown; else what is aimed at."""
        return self._noted("target_c") or self.aim.target

    @property
    def option(self) -> Option | None:
        """The chosen gains."""
        return self.query_one(Settlement).option

    # what can be done

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        running = self.watched is not None
        ready = self.session.usable
        option = self.option if self.is_mounted and self.tuned else None
        if action == "cancel":
            return running
        if action == "choose":
            return not running and self.tuned is not None
        if action == "start":
            return not running and ready
        if action == "heater":
            return not running and len(self.control.heaters(self.session.document.machine)) > 1
        if action == "target":
            return not running
        if action == "keep":
            return bool(ready and not running and option and option.proposals and option.name != self.live_option())
        if action == "drop":
            return ready and not running and bool(self.session.unsaved())
        if action == "verify":
            return ready and not running and self.tuned is not None
        if action in ("export", "sets"):
            return not running and self.tuned is not None
        if action == "label":
            return not running and option is not None and option.name not in (AS_FOUND, ON_OFF)
        return True

    def commands(self) -> Iterable[tuple[str, str, str]]:
        """For the command palette."""
        return (
            ("start", f"Start {self.title.lower()}", "start"),
            ("target", "Set the temperature to tune at", "target"),
            ("keep", "Keep the chosen gains", "keep"),
            ("drop", "Drop what was kept and not saved", "drop"),
            ("verify", "Verify by a step from cold", "verify"),
            ("gain sets", "Known gain sets at every material's temperature", "sets"),
            ("note set", "Note the chosen gains as a labelled set in the machine file", "label"),
            ("export", "Export the record as CSV, SVG and PDF", "export"),
            ("cancel", "Cancel the running trial", "cancel"),
        )

    def help_words(self) -> str:
        """Why and how."""
        return self.help

    def action_start(self) -> None:
        """Run hotend control."""
        blocking = [need.words for need in self.needs() if need.blocking and not need.met]
        if blocking:
            self.tell(f"Not started: {'; '.join(blocking)}.", self.palette.stop)
            return
        self._launch(self.control, self.aim)

    def action_verify(self) -> None:
        """Check the live gains by a step from cold."""
        assert self.control.verify is not None
        self._launch(self.verify, verify_parameters(self.control, self.aim))

    def _launch(self, spec: TrialSpec, parameters: Part) -> None:
        self.told = None
        self.verifying = spec is self.verify
        self.watched = TrialWatch(self._ask, self.undone)
        self.refresh_state()
        self.run_worker(self._run(spec, parameters), group="trial", exclusive=True)

    async def _run(self, spec: TrialSpec, parameters: Part) -> None:
        assert self.watched is not None
        try:
            entered = await self.session.run(spec, parameters, self.watched)
        except LedgerError as error:
            self.told = (f"✗ {error}", self.palette.stop)
        else:
            result = entered.ran.result
            if entered.note:
                self.told = (f"! {entered.note}", self.palette.focus)
            elif result.outcome == "proven":
                self.told = None if spec is self.control else (f"✓ Verified: {result.why}.", self.palette.good)
            else:
                self.told = (f"✗ {result.why}", self.palette.stop)
            if spec is self.control and result.outcome == "proven":
                self.query_one(Settlement).chosen = 99  # the newest recommendation is chosen
        self.watched = None
        self.reload()

    async def _ask(self, question: Question) -> str:
        answer = await self.app.push_screen_wait(QuestionDialog(question, self.palette))
        return answer or question.answers[-1]

    def action_cancel(self) -> None:
        """Stop the trial; everything goes off."""
        self.session.runner.cancel()

    def action_heater(self) -> None:
        """The next heater of this kind."""
        self.aim = self.aim.model_copy(update={"heater": self.heater_after(self.control, self.aim.heater)})
        self.told = None
        self.reload()

    def action_target(self) -> None:
        """Type another temperature."""

        def check(value: float) -> str | None:
            declared = next(item for item in self.control.declared() if item.path == "target")
            reason = refusal_of(declared, "target", value)
            heater = self.session.document.machine.heaters.get(self.aim.heater)
            headroom = demands_of(self.session.document.machine, self.aim.heater).headroom_c
            if reason is None and heater and value > heater.maximum_c - headroom:
                return f"too near the maximum: at most {heater.maximum_c - headroom:g} °C"
            return reason

        def take(answer: str | None) -> None:
            if answer:
                self.aim = self.aim.model_copy(update={"target": float(answer)})
                self.refresh_state()

        title = f"Temperature to tune the {self.aim.heater} at"
        self.app.push_screen(QuantityDialog(title, "°C", self.aim.target, check), take)

    async def action_keep(self) -> None:
        """Write the chosen gains to the live machine."""
        option = self.option
        if option is None or self.tuned is None:
            return
        try:
            await self.session.keep(option, self.tuned.id)
        except NotEntered as error:
            self.tell(f"! Live on the board. {error}", self.palette.focus)
            return
        except Trouble as error:
            self.tell(f"Not kept: {error}", self.palette.stop)
            return
        self.tell(
            f"✓ {option.name} is live on the board. It is lost at power-off until it is saved.", self.palette.proposal
        )

    async def action_drop(self) -> None:
        """Put the saved gains back."""
        try:
            count = await self.session.drop()
        except Trouble as error:
            self.tell(f"Not dropped: {error}", self.palette.stop)
            return
        self.tell(f"Dropped: {count} settings are back at their saved values.", self.palette.text)

    def action_sets(self) -> None:
        """Every known set of gains at every material's temperature."""
        self.run_worker(self._show_sets(), group="sets", exclusive=True)

    async def _show_sets(self) -> None:
        from ublet.session.gain_sets import served
        from ublet.tui.gain_sets import GainSetsDialog

        try:
            found = await served(self.session, self.aim.heater, self.control.name)
        except (ValueError, LedgerError) as error:
            self.tell(f"✗ {error}", self.palette.stop)
            return
        await self.app.push_screen_wait(GainSetsDialog(self.session, self.aim.heater, found, self.palette))
        self.post_message(self.Edited())
        self.refresh_state()

    def action_label(self) -> None:
        """Note the chosen gains in the machine file, labelled with where they were found."""
        from ublet.session.gain_sets import note_set

        at, option = self._noted("target_c"), self.option
        if at is None or option is None:
            return
        label = note_set(self.session, self.aim.heater, at, option)
        self.told = (
            f"✓ Noted as the set “{label}” in the draft of the machine file: ctrl+s writes it.",
            self.palette.proposal,
        )
        self.post_message(self.Edited())

    def action_export(self) -> None:
        """Write the newest record as CSV, SVG and PDF beside the machine file."""
        self.run_worker(self._export(), group="export")

    async def _export(self) -> None:
        from ublet.session.export import heat_files

        entry = self.verified or self.tuned
        assert entry is not None
        series = self.verified_series if self.verified else self.tuned_series
        folder = self.session.document.path.parent
        self.tell("Writing CSV, SVG and PDF …", self.palette.dim)
        try:
            files = await asyncio.to_thread(heat_files, entry, series, folder)
        except (OSError, ValueError) as error:
            self.tell(f"Not exported: {error}", self.palette.stop)
            return
        names = ", ".join(file.name for file in files)
        self.tell(f"✓ Exported to {folder}: {names}", self.palette.good)

    def tell(self, words: str, style: str) -> None:
        """Say something in the line below the settlement."""
        self.told = (words, style)
        self.refresh_state()

    def action_choose(self, by: int) -> None:
        """Choose other gains and show what they are predicted to do."""
        self.query_one(Settlement).choose(by)
        self.refresh_state()


class HotendBench(HeaterBench):
    """The nozzle's heater."""

    kind = "heat"
    title = "Hotend control"
    why = "gains that hold the nozzle steady"
    help = HOTEND_HELP

    def first_aim(self) -> HotendParameters:
        """The first material's nozzle temperature."""
        machine = self.session.document.machine
        material = next(iter(machine.materials.values()), None)
        heater = next(iter(hotends(machine)), "hotend")
        return HotendParameters(heater=heater, target=material.nozzle_c if material else 215.0)


class BedBench(HeaterBench):
    """The bed's heater, or a chamber's."""

    kind = "bed"
    title = "Bed control"
    why = "gains that hold the bed steady"
    help = BED_HELP

    def first_aim(self) -> BedParameters:
        """The first material's bed temperature."""
        machine = self.session.document.machine
        wanted = [material.bed_c for material in machine.materials.values() if material.bed_c >= COOLEST_BED_C]
        heater = next(iter(slow_heaters(machine)), "bed")
        return BedParameters(heater=heater, target=wanted[0] if wanted else 60.0)
