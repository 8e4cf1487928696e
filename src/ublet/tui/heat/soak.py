"""The bench of the soak: the bed and its surface since it was given a target, and how long until it stands still."""

from __future__ import annotations

import numpy as np
from rich.text import Text
from textual.app import ComposeResult
from textual.widgets import Static

from ublet.core.heat.demands import beds
from ublet.core.heat.soak_trials import SoakParameters
from ublet.core.heat.start import surface_sensor
from ublet.core.run import Series
from ublet.core.trial import TrialSpec
from ublet.core.units import duration, show, with_uncertainty
from ublet.session.heaters import drift_wanted, soaking
from ublet.tui.frame.help import Help
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.heat.charts import roomy
from ublet.tui.instruments.chart import ChartLine, Mark, Picture, StripChart
from ublet.tui.instruments.drawing import Drawing
from ublet.tui.trial.trial_bench import TrialBench

HELP = Help(
    """\
    A bed's sensor sits below; what you print on lies above, and lags it by minutes. What is probed or printed before
    the surface stands still holds for a shape that the bed soon no longer has.
    """,
    """\
    Enter heats the bed from cold and holds it until its surface drifts by less than the limit. With a sensor on the
    surface (bed.surface_sensor in the machine file) its drift is read, with an uncertainty. Without one the bed's
    power is used: while heat flows into the sheet, the bed takes more power than for holding. The time left comes from
    the bed's model; the clock at the target also runs when you heat the bed at the station temperatures. k keeps the
    wait as bed.soak_s.
    """,
)
SHORTEST_S = 120.0
ROOM_C = 22.0
SKETCH_S, HEAT_UP_S, LAG_S, SURFACE_BELOW = 900.0, 240.0, 120.0, 0.06
"""Of the sketch: its length, the climb, how far the surface lags, s; how far below it stays, as a share."""

COOLEST_BED_C = 30.0


class SoakBench(TrialBench):
    """How long the bed needs after its sensor has reached the target."""

    kind = "soak"
    title = "Soak time"
    why = "the surface follows the bed's sensor minutes later"
    help = HELP
    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    def first_aim(self, spec: TrialSpec) -> SoakParameters:
        """The first bed, at the temperature of the first material that wants it warm."""
        machine = self.session.document.machine
        material = next((material for material in machine.materials.values() if material.bed_c >= COOLEST_BED_C), None)
        target = material.bed_c if material else 60.0
        return SoakParameters(heater=next(iter(beds(machine)), "bed"), target=target)

    def compose_instrument(self) -> ComposeResult:
        """The clock, the chart, what is predicted."""
        yield Static(id="clock")
        yield StripChart(id="chart")
        yield Static(id="legend")
        yield Drawing(id="picture")

    @property
    def busy(self) -> bool:
        """Followed at every beat also while the bed is heated by hand."""
        return super().busy or self.heater in self.session.soaking.held

    def reload(self) -> None:
        """Take the newest result and its record from the ledger."""
        entry = self.session.ledger.latest(self.spec.name, subject={"heater": self.heater})
        self.record = self.session.ledger.streams(entry.id).get("soak") if entry else None
        super().reload()

    def draw(self) -> None:
        """Clock, chart and table."""
        self.write("clock", self._clock())
        series, target, reached = self._shown()
        drawn = self._chart(series, target, reached) if series is not None else self._sketch()
        self.query_one("#chart", StripChart).show(drawn)
        legend = Text(no_wrap=True)
        legend.append("⠒⠒ ", Ink.focus)
        legend.append("the bed's sensor, °C    ", Ink.dim)
        if series is not None and _has_surface(series):
            legend.append("⠒⠒ ", Ink.proposal)
            legend.append("its surface    ", Ink.dim)
        legend.append(f"since it was heated, s{'' if self._live() else ' (the last record)'}", Ink.dim)
        if series is None:
            legend = Text("what to expect: bed and surface, a sketch; nothing was measured yet", Ink.dim, no_wrap=True)
        self.write("legend", legend)
        self.write("picture", self._predicted())

    def _live(self) -> bool:
        return self.watched is not None or self.heater in self.session.soaking.held

    def running_words(self) -> str:
        """The phase: the clock below says the rest."""
        progress = self.watched.latest if self.watched is not None else None
        return (
            f"{self.spec.announce(self.session.document.machine, self.aim)}" if progress is not None else "◆ starting"
        )

    def _clock(self) -> Text:
        """Where the soak stands, in one line that can be read from afar."""
        text = Text()
        drift = float(getattr(self.aim, "drift", 0.0)) if self.watched is not None else drift_wanted(self.session)
        state = soaking(self.session, self.heater, drift)
        held = self.session.soaking.held.get(self.heater)
        if state is None or held is None:
            wait = self.session.live("bed.soak_s")
            kept = f"the wait that is live: {duration(float(wait))}" if isinstance(wait, (int, float)) and wait else ""
            text.append(f"the {self.heater} is off", Ink.text)
            text.append(f"    {kept}" if kept else "    no wait is set yet", Ink.dim)
            return text
        left = state.left_s
        if self.watched is not None and self.watched.latest is not None and self.watched.latest.left_s is not None:
            left = self.watched.latest.left_s
        if state.held_s is None:
            text.append(f"◆ heating to {held.target_c:g} °C", f"bold {Ink.focus}")
            if self.watched is not None and left is not None:
                text.append(f"    soaked in about {duration(left)}", Ink.text)
            return text
        text.append(f"◆ at {held.target_c:g} °C for {duration(state.held_s)}", f"bold {Ink.focus}")
        if self.watched is not None and left is not None and left < 1:
            text.append("    it should stand still now: being confirmed", f"bold {Ink.text}")
        elif left is not None and left > 0:
            text.append(f"    soaked in about {duration(left)}", f"bold {Ink.text}")
        elif left is not None:
            text.append("    ● soaked", f"bold {Ink.good}")
        else:
            text.append("    not soaked before: the time left is not known yet", Ink.dim)
        if state.drift is not None:
            slope = with_uncertainty(state.drift.c_min, state.drift.uncertainty, "°C/min")
            text.append(f"\nthe surface drifts {slope}; below {show(drift, '°C/min')} it stands still", Ink.dim)
        return text

    def _shown(self) -> tuple[Series | None, float, float | None]:
        """The record to draw, its target, and when that was reached: live, or the last one."""
        held = self.session.soaking.held.get(self.heater)
        if held is not None and len(held.rows) > 2:
            time_s, bed, surface = held.columns()
            known = {"time_s": time_s, "temperature_c": bed}
            if np.isfinite(surface).any():
                known["surface_c"] = surface
            reached = held.reached_s - held.began_s if held.reached_s is not None else None
            return Series(tuple(known), np.stack(list(known.values()), 1)), held.target_c, reached
        result = self.result
        target = result.conditions.get("target_c") if result is not None else None
        if self.record is None or result is None or not isinstance(target, (int, float)):
            return None, 0.0, None
        heated = result.finding("heated_in")
        return self.record, float(target), heated.value if heated else None

    def _chart(self, series: Series | None, target: float, reached: float | None) -> Picture | None:
        if series is None or len(series.rows) < 3:
            return None
        time_s = series.column("time_s")
        curves = [ChartLine(time_s, series.column("temperature_c"), Ink.focus)]
        if _has_surface(series):
            surface = series.column("surface_c")
            good = np.isfinite(surface)
            curves.append(ChartLine(time_s[good], surface[good], Ink.proposal))
        marks = [Mark(reached, "target reached", Ink.dim)] if reached is not None else []
        result = self.result
        soak = result.finding("soak") if result is not None and not self._live() else None
        if soak is not None and reached is not None:
            marks.append(Mark(reached + soak.value, "stands still", Ink.good))
        lowest = min(float(curve.y.min()) for curve in curves)
        highest = max(target, *(float(curve.y.max()) for curve in curves))
        return Picture(
            curves,
            (0.0, roomy(float(time_s[-1]), SHORTEST_S)),
            (lowest - 2, highest + 4),
            level=target,
            marks=marks,
        )

    def _sketch(self) -> Picture:
        """What it looks like when a bed is soaked, before it was: at the target, and then the surface comes after."""
        target = float(getattr(self.aim, "target", 60.0))
        room = self.session.document.machine.machine.room_c or ROOM_C
        time_s = np.linspace(0.0, SKETCH_S, 200)
        heat_up = np.minimum(target, room + (target - room) * time_s / HEAT_UP_S)
        follows = np.full_like(time_s, room)
        for at in range(1, len(time_s)):
            step = (time_s[1] - time_s[0]) / LAG_S
            follows[at] = follows[at - 1] + step * (heat_up[at] - SURFACE_BELOW * (target - room) - follows[at - 1])
        marks = [Mark(HEAT_UP_S, "target reached", Ink.dim), Mark(HEAT_UP_S + 3 * LAG_S, "stands still", Ink.dim)]
        curves = [ChartLine(time_s, heat_up, Ink.dim), ChartLine(time_s, np.maximum(room, follows), Ink.quiet)]
        return Picture(curves, (0.0, SKETCH_S), (room - 2, target + 4), level=target, marks=marks)

    def _predicted(self) -> Text:
        """What is predicted for every material."""
        text, result = Text(no_wrap=True), self.result
        machine = self.session.document.machine
        surface = surface_sensor(machine, self.heater)
        if result is None or result.finding("soak") is None:
            if surface is None:
                text.append("No sensor on the surface is declared (bed.surface_sensor): ", Ink.dim)
                text.append("the bed's own power will show it.", Ink.text)
            else:
                text.append(f"The {surface} sensor reads the surface.", Ink.text)
            return text
        rows = [
            (name, material.bed_c, result.finding("predicted_soak", material=name))
            for name, material in machine.materials.items()
        ]
        known = [(name, celsius, predicted) for name, celsius, predicted in rows if predicted is not None]
        for name, celsius, predicted in known:
            text.append(f"{name:<8}", Ink.text)
            text.append(f"{celsius:>5g} °C", Ink.dim)
            text.append(f"   soaked {duration(predicted.value):>12}", f"bold {Ink.focus}")
            text.append(" after the target is reached, from cold at full power\n", Ink.dim)
        if not known:
            text.append("Tune the bed, then start again: its model predicts the soak of every material.\n", Ink.dim)
        lag, below = result.finding("sheet_lag"), result.finding("surface_below")
        if lag is not None:
            lagging = with_uncertainty(lag.value, lag.uncertainty or 0.0, "s")
            text.append(f"The sheet lags the bed by {lagging}", Ink.dim)
        if below is not None:
            under = with_uncertainty(below.value, below.uncertainty or 0.0, "°C")
            text.append(f" and stays {under} below its sensor", Ink.dim)
        return text


def _has_surface(series: Series) -> bool:
    """Whether a record holds the surface: without a sensor on it nothing was read there."""
    return "surface_c" in series.columns and bool(np.isfinite(series.column("surface_c")).any())
