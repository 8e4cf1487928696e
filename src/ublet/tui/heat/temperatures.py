"""The bench of temperatures: targets and presets by hand, each heater's trace, a recorder, all off with one key."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical
from textual.events import Key
from textual.widgets import Static

from ublet.core.capabilities import lacking_words
from ublet.core.heat.demands import demands_of
from ublet.core.heat.prediction import far_from, predict_step, time_to, time_to_cool
from ublet.core.heat.report import step_situation
from ublet.core.heat.start import part_fan
from ublet.core.run import Series, TrialFailed
from ublet.core.settings import number_or
from ublet.core.units import duration
from ublet.core.words import several
from ublet.link.errors import BoardRefused, LinkLost
from ublet.session.heaters import soaking, tuned_by, tuned_model
from ublet.session.recorder import Recorder, write_records
from ublet.session.session import Session
from ublet.tui.frame.dialogs import QuantityDialog
from ublet.tui.frame.help import Help
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.heat.charts import last_minute
from ublet.tui.instruments.chart import StripChart
from ublet.tui.trial.bench import StationBench

HELP = Help(
    """\
    To look at what heat does before a program does it: each material's temperatures, a step, a fan, a cooling.
    """,
    """\
    A digit sets a preset: the nozzle's and the bed's temperatures of a material. t sets the chosen heater alone, f
    turns the part fan on and off, 0 switches every heater and fan off. The time to a target comes from the model
    that the heater's tuning found; a target far from where its gains were found is pointed out, with the overshoot
    that the model predicts there. c records everything from now on; c again writes a table and a figure for each
    heater beside the machine file: `ublet analyse heat` reads it.

    Every link to the board begins with everything off. What had been held until then is offered: a sets it again.
    """,
)
OFF_C = 30.0
"""A target below this is none, °C."""

WARM_C = 40.0
"""Cooler than this nothing burns, °C."""


class TemperaturesBench(StationBench):
    """Heaters by hand. It holds no physics: it asks the board, and shows what the session knows."""

    kind = "control"
    title = "Temperatures"
    why = "presets, targets by hand, the last minute of each heater"
    help = HELP
    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False
    BINDINGS = [
        Binding("up", "choose(-1)", "heater", key_display="↑↓", tooltip="Choose the heater"),
        Binding("down", "choose(1)", show=False),
        Binding("t", "target", "target", tooltip="Type the chosen heater's target"),
        Binding("f", "fan", "part fan", tooltip="The part fan full on, or off"),
        Binding("0", "off", "all off", tooltip="Every heater and fan off"),
        Binding("c", "record", "record", tooltip="Record every heater from now on; again ends it and writes tables"),
        Binding("a", "again", "hold again", tooltip="Hold again what was held before the link was made anew"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        machine = session.document.machine
        self.heaters = tuple(machine.heaters)
        self.presets = tuple(machine.materials)[:9]
        self.chosen = 0
        self.recorder = Recorder(session.connection, machine)
        self.warned: dict[str, str] = {}

    def compose(self) -> ComposeResult:
        """Heading, a column for each heater, presets, what was said."""
        yield Static(id="heading")
        with Horizontal(id="charts"):
            for name in self.heaters:
                with Vertical(classes="heater"):
                    yield Static(id=f"title-{name}", classes="title")
                    yield StripChart(id=f"trace-{name}", classes="trace")
                    yield StripChart(id=f"duty-{name}", classes="duty")
        yield Static(id="presets")
        yield Static(id="detail")

    def on_mount(self) -> None:
        """Show the machine."""
        self.refresh_state()

    def on_unmount(self) -> None:
        """A recorder that runs is ended; its table was not asked for."""
        if self.recorder.on:
            self.recorder.stop()

    @property
    def busy(self) -> bool:
        """Followed at every beat while something heats or is recorded."""
        return self.recorder.on or any(self._target(name) is not None for name in self.heaters)

    # what is shown

    def refresh_state(self) -> None:
        """Bring words and keys up to date."""
        if not self.is_mounted:
            return
        self.write("presets", self._presets())
        self.write("detail", self._detail())
        self.beat()
        self.refresh_bindings()

    def beat(self) -> None:
        """Draw each heater's last minute."""
        if not self.is_mounted:
            return
        self.write("heading", self._heading())
        machine, connection = self.session.document.machine, self.session.connection
        for number, name in enumerate(self.heaters):
            self.write(f"title-{name}", self._title(number, name))
            picture, below = last_minute(connection, name, machine.heaters[name].sensor)
            self.query_one(f"#trace-{name}", StripChart).show(picture)
            self.query_one(f"#duty-{name}", StripChart).show(below)
        if self.recorder.on:
            self.write("detail", self._detail())

    def _heading(self) -> Text:
        text = Text()
        text.append_text(self.heading_words())
        connection = self.session.connection
        if not connection.linked:
            text.append("✗ no link to the board", Ink.stop)
        elif lacking := lacking_words(("heat",), connection.can):
            text.append(f"✗ {lacking}", Ink.stop)
        elif connection.state.mode != "ready":
            text.append(f"✗ the board is {connection.state.mode}: r releases it", Ink.stop)
        elif why := self.session.barred():
            text.append(f"✗ {why}", Ink.stop)
        elif self.session.runner.running is not None:
            name = self.session.runner.running.name.replace("-", " ")
            text.append(f"! {name} runs: it has the heaters", Ink.focus)
        elif hot := [name for name in self.heaters if self._target(name) is not None]:
            text.append(f"◆ {several(hot)} heated; 0 switches everything off", f"bold {Ink.focus}")
        else:
            text.append("✓ ready: nothing heats until a target is set", Ink.good)
        return text

    def _title(self, number: int, name: str) -> Text:
        text = Text(no_wrap=True)
        chosen = number == self.chosen
        text.append("▸ " if chosen else "  ", Ink.focus)
        text.append(name, f"bold {Ink.focus}" if chosen else f"bold {Ink.text}")
        celsius, target = self._celsius(name), self._target(name)
        text.append("   no reading" if celsius is None else f"   {celsius:.1f} °C", f"bold {Ink.focus}")
        text.append("   off" if target is None else f"   → {target:g} °C", Ink.text)
        text.append(f"\n  {self._outlook(name, celsius, target)}", Ink.dim)
        text.append(f"\n  {self.warned[name]}" if target is not None and name in self.warned else "\n", Ink.focus)
        return text

    def _outlook(self, name: str, celsius: float | None, target: float | None) -> str:
        """What comes next, by the model of its tuning."""
        model = tuned_model(self.session, name)
        if celsius is None:
            return "check its sensor"
        if model is None:
            return "not tuned yet: time to target unknown"
        if target is None:
            left = time_to_cool(model, celsius, WARM_C)
            return f"cool to the touch in about {duration(left)}" if left else "cool"
        limit = number_or(self.session.live(f"heaters.{name}.power_limit"), 1.0)
        if abs(celsius - target) < 1.0:
            return f"holds{self._soaked(name)}"
        if celsius > target:
            left = time_to_cool(model, celsius, target + 1)
            return f"cools, about {duration(left)}" if left else "holds"
        left = time_to(model, celsius, target, limit)
        return "too weak for this target" if left is None else f"there in about {duration(left)}"

    def _soaked(self, name: str) -> str:
        """How long a slow heater has held, and when its surface will stand still."""
        state = soaking(self.session, name)
        if state is None or state.held_s is None:
            return ""
        how_long = f", for {duration(state.held_s)}"
        if state.left_s is None:
            return how_long
        return f"{how_long}; soaked in about {duration(state.left_s)}" if state.left_s > 0 else f"{how_long}; soaked"

    def _presets(self) -> Text:
        text = Text(no_wrap=True)
        machine = self.session.document.machine
        fan = part_fan(machine)
        for number, name in enumerate(self.presets, start=1):
            material = machine.materials[name]
            text.append(f"{number} ", Ink.focus)
            text.append(f"{name:<10}", Ink.text)
            effect = f"heats the nozzle to {material.nozzle_c:g} °C and the bed to {material.bed_c:g} °C"
            text.append(f"{effect}\n", Ink.dim)
        text.append("0 ", Ink.focus)
        text.append("switches every heater and fan off", Ink.text)
        if fan is not None:
            text.append("     f ", Ink.focus)
            text.append(f"turns the {fan} fan {'off' if self._fan_duty() else 'full on'}", Ink.text)
        return text

    def _detail(self) -> Text:
        text = Text()
        if self.recorder.on:
            text.append(f"◆ recording, {duration(self.recorder.seconds)}: c ends it and writes a table\n", Ink.focus)
        if holds := self.session.holds_before:
            text.append("a", Ink.focus)
            named = several([f"the {name} at {celsius:g} °C" for name, celsius in holds.items()])
            text.append(f" holds {named} again, as before the link was made anew\n", Ink.text)
        if self.message is not None:
            text.append(self.message[0], self.message[1])
        return text

    # what is known

    def _celsius(self, name: str) -> float | None:
        return self.session.connection.channel(f"sensors.{self.session.document.machine.heaters[name].sensor}")

    def _target(self, name: str) -> float | None:
        return self.session.connection.channel(f"heaters.{name}.target_c")

    def _fan_duty(self) -> float:
        fan = part_fan(self.session.document.machine)
        return self.session.connection.channel(f"fans.{fan}") or 0.0 if fan is not None else 0.0

    # what can be done

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        connection = self.session.connection
        ready = self.session.usable and self.session.runner.running is None and "heat" in connection.can
        if action in ("target", "fan"):
            return ready
        if action == "again":
            return ready and bool(self.session.holds_before)
        if action == "off":
            return connection.linked and self.session.runner.running is None
        return True

    def action_choose(self, by: int) -> None:
        """Another heater."""
        if self.heaters:
            self.chosen = max(0, min(len(self.heaters) - 1, self.chosen + by))
            self.refresh_state()

    def on_key(self, event: Key) -> None:
        """A digit sets a preset."""
        if event.key.isdigit() and 0 < int(event.key) <= len(self.presets) and self.check_action("target", ()):
            event.stop()
            self.run_worker(self._preset(self.presets[int(event.key) - 1]), group="heat")

    def action_again(self) -> None:
        """Hold again what was held when the link was made, and was switched off then."""
        self.run_worker(self._heat(dict(self.session.holds_before), "as before"), group="heat")

    async def _preset(self, name: str) -> None:
        machine = self.session.document.machine
        material = machine.materials[name]
        wanted = {
            heater: material.nozzle_c if part.part == "hotend" else material.bed_c
            for heater, part in machine.heaters.items()
            if part.part in ("hotend", "bed")
        }
        await self._heat({heater: celsius if celsius > 0 else None for heater, celsius in wanted.items()}, name)

    def action_target(self) -> None:
        """Type the chosen heater's target."""
        if not self.heaters:
            return
        name = self.heaters[self.chosen]
        maximum = self.session.live(f"heaters.{name}.maximum_c")
        highest = float(maximum) if isinstance(maximum, (int, float)) else 0.0

        def check(value: float) -> str | None:
            good = OFF_C <= value <= highest
            return None if good else f"allowed: {OFF_C:g} to {highest:g} °C; 0 on the bench switches off"

        def take(answer: str | None) -> None:
            if answer:
                self.run_worker(self._heat({name: float(answer)}, "by hand"), group="heat")

        now = self._target(name)
        self.app.push_screen(QuantityDialog(f"Target of the {name}", "°C", now or min(60.0, highest), check), take)

    async def _heat(self, wanted: Mapping[str, float | None], why: str) -> None:
        try:
            for name, celsius in wanted.items():
                await self.session.connection.controller.target(name, celsius)
        except (LinkLost, BoardRefused) as error:
            self.message = (f"✗ Not set: {error}", Ink.stop)
            self.refresh_state()
            return
        self.session.on_before = ()  # what was asked for now counts; the offer is over
        said = ", ".join(f"{name} {celsius:g} °C" if celsius else f"{name} off" for name, celsius in wanted.items())
        self.message = (f"◆ {why}: {said}. 0 switches everything off, F8 halts.", Ink.focus)
        self.refresh_state()
        for name, celsius in wanted.items():
            if celsius:
                await self._warn(name, celsius)
        self.refresh_state()

    async def _warn(self, name: str, target: float) -> None:
        """A target far from where the gains were found, with what the model predicts there."""
        self.warned.pop(name, None)
        tuned, model = tuned_by(self.session, name), tuned_model(self.session, name)
        at = tuned.conditions.get("target_c") if tuned is not None else None
        at = self.session.live(f"{self.session.gains_root(name, target)}.at_c") or at  # a set has its own
        if model is None or not isinstance(at, (int, float)) or not far_from(target, float(at), model.ambient_c):
            return
        gains = self.session.live_gains(name, target)
        machine = self.session.document.machine
        limit = number_or(self.session.live(f"heaters.{name}.power_limit"), 1.0)
        try:
            situation = step_situation(model, target, model.ambient_c, 0.0, None, limit, demands_of(machine, name))
        except TrialFailed as error:
            self.warned[name] = f"! {error}"
            return
        step = await asyncio.to_thread(predict_step, model, gains, situation)
        over = f"+{step.measure.overshoot_c:.1f} °C of overshoot predicted"
        self.warned[name] = f"! gains found at {at:g} °C: {over}"

    async def action_off(self) -> None:
        """Every heater and fan off."""
        unconfirmed = await self.session.runner.all_off()
        self.warned.clear()
        self.session.on_before = ()
        self.message = ("Every heater and fan is off, the board confirmed it.", Ink.text)
        if unconfirmed:
            self.message = (
                f"✗ It is not known whether everything is off: {unconfirmed}. Look at the machine.",
                Ink.stop,
            )
        self.refresh_state()

    async def action_fan(self) -> None:
        """The part fan full on, or off."""
        fan = part_fan(self.session.document.machine)
        if fan is None:
            self.message = ("✗ No part fan is declared.", Ink.stop)
        else:
            duty = 0.0 if self._fan_duty() else 1.0
            try:
                await self.session.connection.controller.fan(fan, duty)
            except (LinkLost, BoardRefused) as error:
                self.message = (f"✗ Not set: {error}", Ink.stop)
            else:
                self.message = (f"The {fan} fan is {'full on' if duty else 'off'}.", Ink.text)
        self.refresh_state()

    def action_record(self) -> None:
        """Begin to record; or end it and write tables and figures."""
        if not self.recorder.on:
            self.recorder.start()
            self.message = None
        else:
            self.message = ("Writing tables and figures …", Ink.dim)
            self.run_worker(self._write(self.recorder.stop()), group="record")
        self.refresh_state()

    async def _write(self, series: Mapping[str, Series]) -> None:
        folder = self.session.document.path.parent
        try:
            files = await asyncio.to_thread(write_records, series, folder)
        except OSError as error:
            self.message = (f"✗ Not written: {error.strerror or error}", Ink.stop)
        else:
            tables = ", ".join(file.name for file in files if file.suffix == ".csv")
            written = (
                f"{tables}, each with its figure as .svg and .pdf" if tables else "nothing: no sensor read throughout"
            )
            self.message = (f"✓ Written to {folder}: {written}", Ink.good)
        self.refresh_state()
