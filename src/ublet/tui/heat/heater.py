"""The bench of heater control, for a hotend or a bed: its record, the gains to choose from, and the check by a step."""

from __future__ import annotations

import asyncio
from dataclasses import replace

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding

from ublet.core.heat.candidates import AS_FOUND
from ublet.core.heat.demands import demands_of, hotends, slow_heaters
from ublet.core.heat.elsewhere import MIDDLE, tuning_temperatures
from ublet.core.heat.report import ON_OFF
from ublet.core.heat.trials import BedParameters, ControlAim, HotendParameters
from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.core.route import station_with
from ublet.core.run import Option, Series, TrialResult
from ublet.core.settings import Part, refusal_of
from ublet.core.trial import Need, TrialSpec
from ublet.core.units import show, with_uncertainty
from ublet.ledger.entries import RunEntry
from ublet.ledger.errors import LedgerError
from ublet.session.orders import verify_parameters
from ublet.session.record import local_time
from ublet.session.session import Session
from ublet.tui.frame.dialogs import QuantityDialog
from ublet.tui.frame.theme import Ink
from ublet.tui.heat.charts import cycles, duty, fan_start, heat_up, last_minute, reached_at, steps
from ublet.tui.heat.gains_table import GainOptions, gains_table
from ublet.tui.heat.heater_words import BED_HELP, HOTEND_HELP
from ublet.tui.heat.record_charts import RecordCharts
from ublet.tui.trial.settlement import key_words
from ublet.tui.trial.trial_bench import TrialBench

COOLEST_BED_C = 30.0
SHORT_BELOW = 30
"""A lower bench shows no model beside its next step, rows."""

IDLE_BEATS = 3
"""While nothing is recorded the live trace is drawn at every so many beats."""

HELD_BY = ("holding", "air")
"""How a heater is held, of all that its settings act in: the rest is what it is."""


class HeaterBench(TrialBench):
    """Tunes one heater, and checks the gains that are live. It holds no physics."""

    BINDINGS = [
        Binding("t", "target", "target", tooltip="Type the temperature to tune at"),
        Binding("m", "material", "as for", tooltip="Tune at the next material's temperature, or in the middle"),
        Binding("v", "verify", "verify", tooltip="Check the live gains by a step from cold, against the prediction"),
        Binding("g", "sets", "gain sets", tooltip="Every known set of gains at every material's temperature"),
        Binding("n", "label", "note set", tooltip="Note the chosen gains in the machine file, as a set with a label"),
        Binding("e", "export", "export", tooltip="Write the newest record beside the file, as CSV, SVG and PDF"),
    ]

    def __init__(self, session: Session) -> None:
        self.tuned_series: dict[str, Series] = {}
        self.verified: RunEntry | None = None
        self.verified_series: dict[str, Series] = {}
        self.verifying = False
        self._beats = 0
        super().__init__(session)
        self.control, self.verify = self.specs

    def first_aim(self, spec: TrialSpec) -> Part:
        """What the trial aims at before anybody chose; the check's follows it."""
        control = spec.name == station_with(self.kind).trials[0]
        return self.first_target() if control else super().first_aim(spec)

    def first_target(self) -> ControlAim:
        """Heater and temperature before anybody chose."""
        raise NotImplementedError

    def compose_instrument(self) -> ComposeResult:
        """Charts."""
        yield RecordCharts()

    # what is shown

    @property
    def tuning(self) -> ControlAim:
        """What would be tuned, and at what temperature."""
        aim = self.aim
        assert isinstance(aim, ControlAim)
        return aim

    @property
    def tuned(self) -> TrialResult | None:
        """The newest tuning that succeeded."""
        return self.entry.result if self.entry else None

    def reload(self) -> None:
        """Take the newest results from the ledger."""
        ledger, subject, chosen = self.session.ledger, {"heater": self.heater}, self.taken
        before = self.entry.id if self.entry else None
        self.entry = ledger.latest(self.spec.name, "proven", subject)
        self.tuned_series = ledger.streams(self.entry.id) if self.entry else {}
        newest = ledger.latest(self.verify.name, subject=subject)
        self.verified = newest if newest and self.entry and newest.id > self.entry.id else None
        if self.verified and self.verified.result.outcome == "halted":
            self.verified = None
        self.verified_series = ledger.streams(self.verified.id) if self.verified else {}
        same = self.entry is not None and self.entry.id == before
        self.taken = chosen if same else ""
        if self.entry is not None and not self.taken:
            self.taken = self.live_option() if self.live_option() != AS_FOUND else ""
        self.refresh_state()

    def draw(self) -> None:
        """What is recorded now, else the newest tuning, else the last minute."""
        watched = self.watched
        if watched is not None and not watched.fresh and self._beats % IDLE_BEATS:
            self._beats += 1
            return
        self._beats += 1
        if watched is not None:
            watched.fresh = False
        charts = self.query_one(RecordCharts)
        relay = watched.series("relay") if watched else None
        step = watched.series("step") if watched else None
        if watched is None and self.tuned is not None:
            self._draw_steps(charts)
        elif relay is not None:
            self._draw_relay(charts, relay)
        elif watched is not None and step is not None:
            self._draw_check(charts, step, watched.series("predicted"))
        elif self._beats % IDLE_BEATS == 1:
            self._draw_last_minute(charts)

    def _draw_relay(self, charts: RecordCharts, series: Series) -> None:
        target = self.tuning.target
        cycling = reached_at(series, target) is not None
        picture = cycles(series, target) if cycling else replace(heat_up(series, target, ""), x_labels=False)
        entries = (("temperature, °C", Ink.focus), ("duty, %", Ink.text))
        charts.show(picture, duty(series, picture.x_limits), entries, heat_up(series, target) if cycling else None)

    def _draw_last_minute(self, charts: RecordCharts) -> None:
        """Before there is a record: the live reading of the last minute."""
        heater = self.session.document.machine.heaters.get(self.heater)
        sensor = heater.sensor if heater else ""
        picture, below = last_minute(self.session.connection, self.heater, sensor)
        charts.show(picture, below, (("temperature now, °C: the last minute", Ink.focus), ("duty, %", Ink.text)))

    def _draw_check(self, charts: RecordCharts, measured: Series, predicted: Series | None) -> None:
        """The step that is measured now over the one that was predicted for it."""
        known = {"live gains": predicted} if predicted is not None else {}
        picture = steps(known, measured, "live gains", self.tuning.target, fan_start(measured))
        entries = (("measured", Ink.focus), ("predicted", Ink.proposal), ("duty, %", Ink.text))
        charts.show(picture, duty(measured, picture.x_limits), entries, heat_up(measured, self.tuning.target))

    def _draw_steps(self, charts: RecordCharts) -> None:
        """Predicted steps, the measured one when there is one, and beside them the record that they come from."""
        prefix = "predicted "
        predicted = {name.removeprefix(prefix): s for name, s in self.tuned_series.items() if name.startswith(prefix)}
        chosen = self.option.name if self.option else ""
        measured, relay = self.verified_series.get("step"), self.tuned_series.get("relay")
        fan_at = fan_start(measured)
        fan_at = self._noted("fan_at_s") if fan_at is None else fan_at
        target = self.shown_target  # a stored result is drawn around its own target, whatever is aimed at next
        picture = steps(predicted, measured, chosen, target, fan_at)
        below = measured if measured is not None else predicted.get(chosen)
        entries = [(f"predicted, {chosen}", Ink.proposal)]
        if measured is not None:
            entries.insert(0, ("measured", Ink.focus))
        if AS_FOUND in predicted and chosen != AS_FOUND:
            entries.append((f"predicted, {AS_FOUND}", Ink.dim))
        entries.append(("duty, %", Ink.text))
        sweep_moves = replace(cycles(relay, target), title="the cycles", marks=()) if relay is not None else None
        charts.show(
            picture,
            duty(below, picture.x_limits) if below is not None else None,
            entries,
            heat_up(relay, target) if relay is not None else None,
            sweep_moves,
        )

    def _noted(self, condition: str) -> float | None:
        """A number among the conditions of the tuning that is shown."""
        value = self.tuned.conditions.get(condition) if self.tuned else None
        return float(value) if isinstance(value, (int, float)) else None

    def heading_words(self) -> Text:
        """Title and aim; what will heat, and how hot."""
        text = Text().append(self.title, f"bold {Ink.text}")
        text.append(f"   {self.why} at {self.tuning.target:g} °C\n", Ink.dim)
        return text

    def watch_words(self) -> str:
        """What to look at while it runs."""
        if self.verifying:
            return "The measured step should follow the predicted one."
        return "The gains come from the last cycles, once three agree within 2 %."

    def start_words(self) -> Text:
        """What a start would heat, and how hot."""
        text = Text()
        again = "starts again" if self.tuned else "starts"
        key_words(text, "enter", f"{again}. {self.spec.announce(self.session.document.machine, self.aim)}\n")
        key_words(text, "t", "another target")
        if len(self.temperatures) > 1:
            places = ", ".join(f"{name} {celsius:g}" for name, celsius in self.temperatures.items())
            key_words(text, "   m", f"the next of: {places} °C")
        return text

    def needs(self) -> tuple[Need, ...]:
        """What is there and what is missing for a start."""
        if self.heater not in self.session.document.machine.heaters:
            return self.link_needs() or (Need(f"no {self.heater} heater is declared in the machine file", False),)
        return super().needs()

    def settlement(self) -> Text:
        """The gains to choose from; what was said last, and what comes next."""
        text = Text()
        if self.watched is None and self.tuned is not None:
            measured = self.verified.result if self.verified and self.verified_live() else None
            gains = GainOptions(self.tuned.options, self.option, self.tuned.recommended, self.live_option(), measured)
            text.append_text(gains_table(gains, self.content_size.width))
        text.append_text(self._next_steps())
        return text

    def _next_steps(self) -> Text:
        """What was said last, and what can be done next."""
        text = Text()
        if self.message is not None:
            text.append(f"{self.message[0]}\n", self.message[1])
        if self.watched is not None:
            text.append(f"{self.watch_words()}  ", Ink.dim)
            key_words(text, "esc", "cancels, F8 halts: everything goes off.")
        elif self.tuned is None:
            text.append_text(self.start_words())
            text.append_text(self._shadows())
        else:
            text.append_text(self._after_tuning())
        return text

    def _after_tuning(self) -> Text:
        text = Text()
        assert self.tuned is not None and self.entry is not None
        live, unsaved = self.live_option(), self.session.unsaved()
        tuned = self.tuned
        delay = tuned.finding("delay")
        gain, lag = tuned.finding("gain"), tuned.finding("time_constant")
        if gain and lag and delay and self.size.height > SHORT_BELOW:
            text.append(f"model of {local_time(self.entry.at)}   ", Ink.dim)
            for word, finding in (("gain", gain), ("time constant", lag), ("dead time and lag", delay)):
                value = with_uncertainty(finding.value, finding.uncertainty or 0.0, finding.unit)
                text.append(f"{word} {value}   ", Ink.dim)
            text.append("\n")
        option = self.option
        if not live or live == AS_FOUND:
            text.append(f"recommended: {tuned.why}.  ", Ink.proposal)
        if live == AS_FOUND == tuned.recommended and not unsaved and not self.verified_live():
            key_words(text, "v", "verifies them by a step from cold.")
        if option is not None and option.name not in (live, AS_FOUND):
            key_words(text, "k", f"keeps {option.name}: live, not yet saved.  ")
        if unsaved:
            key_words(text, "v", "verifies by a step from cold.  ")
            text.append("ctrl+s", Ink.focus)
            unverified = "" if self.verified_live() else ", without a verification"
            text.append(f" saves to board and file{unverified}.  ", Ink.text)
            key_words(text, "d", "drops it.")
        elif live and live != AS_FOUND:
            text.append(f"{live} is live and saved. ", Ink.good)
            if not self.verified_live():
                key_words(text, "v", "verifies it by a step from cold.")
        text.append("\n" if text.plain and not text.plain.endswith("\n") else "")
        text.append_text(self.start_words())
        return text

    def _shadows(self) -> Text:
        """Stored values on the board that hide what the file says of this heater."""
        text = Text()
        root = f"heaters.{self.heater}."
        for shadow in self.session.shadowed():
            if shadow.path.startswith(root):
                stored, file = (show(v) if isinstance(v, float) else str(v) for v in (shadow.stored, shadow.file))
                text.append("\n! ", Ink.focus)
                text.append(f"{shadow.path}: the board's store says {stored} and wins; ", Ink.text)
                text.append(f"the file says {file}.", Ink.text)
        return text

    def live_option(self) -> str:
        """Name of the option whose gains are live now."""
        if self.tuned is None:
            return ""
        if self.session.live(f"heaters.{self.heater}.control") == ON_OFF:
            return ON_OFF
        root = self.session.gains_root(self.heater, self.shown_target)
        for option in self.tuned.options:
            if all(self.session.live(f"{root}.{key}") == option.figures.get(key) for key in ("kp", "ki", "kd")):
                return option.name
        return ""

    def verified_live(self) -> bool:
        """Whether what the check rested on, of all that acts in how the heater is held, is so now."""
        if self.verified is None:
            return False
        start = f"heaters.{self.heater}."
        for rest in self.verified.rests:
            if rest.kind == "setting" and rest.path.startswith(start):
                declared = BOARD_SETTINGS.find(rest.path)
                if declared is not None and declared.acts in HELD_BY and not rest.holds(self.session.live(rest.path)):
                    return False
        return True

    @property
    def shown_target(self) -> float:
        """The target of the tuning that is shown; else what is aimed at."""
        return self._noted("target_c") or self.tuning.target

    # what can be done

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        idle, tuned = self.watched is None, self.tuned is not None
        match action:
            case "choose" | "export" | "sets":
                return idle and tuned
            case "target":
                return idle
            case "material":
                return idle and len(self.temperatures) > 1
            case "verify":
                return self.session.usable and idle and tuned
            case "label":
                return idle and self.option is not None and self.option.name not in (AS_FOUND, ON_OFF)
            case "other" | "go_on" | "parameters":
                return False
        return super().check_action(action, parameters)

    def action_go(self) -> None:
        """Tune; or answer."""
        if self.question is None:
            self.verifying = False
        super().action_go()

    def action_verify(self) -> None:
        """Check the live gains by a step from cold."""
        self.verifying = True
        self.launch(self.verify, verify_parameters(self.control, self.tuning))

    def ended(self, spec: TrialSpec, result: TrialResult) -> None:
        """The newest recommendation is chosen; why one failed is said, since only good tunings are shown."""
        if spec is self.control and result.outcome == "proven":
            self.taken = ""
        elif result.outcome == "proven":
            self.message = (f"✓ Verified: {result.why}.", Ink.good)
        else:
            self.message = (f"✗ {result.why}", Ink.stop)

    def kept_words(self, option: Option) -> str:
        """What is said once it is live."""
        return f"{option.name} is live on the board. It is lost at power-off until it is saved."

    def action_target(self) -> None:
        """Type another temperature."""
        machine, heater = self.session.document.machine, self.heater

        def check(value: float) -> str | None:
            declared = next(item for item in self.control.declared() if item.path == "target")
            known, headroom = machine.heaters.get(heater), demands_of(machine, heater).headroom_c
            reason = refusal_of(declared, "target", value)
            if reason is None and known and value > known.maximum_c - headroom:
                return f"too near the maximum: at most {known.maximum_c - headroom:g} °C"
            return reason

        def take(answer: str | None) -> None:
            if answer:
                self.aims[self.spec.name] = self.tuning.model_copy(update={"target": float(answer)})
                self.refresh_state()

        self.app.push_screen(
            QuantityDialog(f"Temperature to tune the {heater} at", "°C", self.tuning.target, check), take
        )

    @property
    def temperatures(self) -> dict[str, float]:
        """Where one may tune: at each material's own temperature, or in the middle of them."""
        return tuning_temperatures(self.session.document.machine, self.heater)

    def action_material(self) -> None:
        """The next temperature at which one may tune."""
        known = self.temperatures
        values = list(known.values())
        at = values.index(self.tuning.target) + 1 if self.tuning.target in values else 0
        name, celsius = list(known.items())[at % len(known)]
        self.aims[self.spec.name] = self.tuning.model_copy(update={"target": celsius})
        self.say(f"Tunes at {celsius:g} °C, {name if name == MIDDLE else f'as {name} is printed'}.", Ink.text)

    def action_sets(self) -> None:
        """Every known set of gains at every material's temperature."""
        self.run_worker(self._show_sets(), group="sets", exclusive=True)

    async def _show_sets(self) -> None:
        from ublet.session.gain_sets import served
        from ublet.tui.heat.gain_sets import GainSetsDialog

        try:
            sets = await served(self.session, self.heater, self.control.name)
        except (ValueError, LedgerError) as error:
            self.say(f"✗ {error}", Ink.stop)
            return
        await self.app.push_screen_wait(GainSetsDialog(self.session, self.heater, sets))
        self.post_message(self.Edited())
        self.refresh_state()

    def action_label(self) -> None:
        """Note the chosen gains in the machine file, labelled with where they were found."""
        from ublet.session.gain_sets import note_set

        at, option = self._noted("target_c"), self.option
        if at is not None and option is not None:
            label = note_set(self.session, self.heater, at, option)
            self.message = (
                f"✓ Noted as the set “{label}” in the draft of the machine file: ctrl+s writes it.",
                Ink.proposal,
            )
            self.post_message(self.Edited())

    def action_export(self) -> None:
        """Write the newest record as CSV, SVG and PDF beside the machine file."""
        self.run_worker(self._export(), group="export")

    async def _export(self) -> None:
        from ublet.session.export import heat_files

        entry = self.verified or self.entry
        assert entry is not None
        series = self.verified_series if self.verified else self.tuned_series
        folder = self.session.document.path.parent
        self.say("Writing CSV, SVG and PDF …", Ink.dim)
        try:
            files = await asyncio.to_thread(heat_files, entry, series, folder)
        except (OSError, ValueError) as error:
            self.say(f"✗ Not exported: {error}", Ink.stop)
            return
        self.say(f"✓ Exported to {folder}: {', '.join(file.name for file in files)}", Ink.good)


class HotendBench(HeaterBench):
    """The nozzle's heater."""

    kind = "heat"
    title = "Hotend control"
    why = "gains that hold the nozzle steady"
    help = HOTEND_HELP

    def first_target(self) -> HotendParameters:
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

    def first_target(self) -> BedParameters:
        """The first material's bed temperature."""
        machine = self.session.document.machine
        wanted = [material.bed_c for material in machine.materials.values() if material.bed_c >= COOLEST_BED_C]
        heater = next(iter(slow_heaters(machine)), "bed")
        return BedParameters(heater=heater, target=wanted[0] if wanted else 60.0)
