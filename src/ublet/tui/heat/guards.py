"""The bench of the guards: what each watches, with which parameters, and how soon the last drill saw it trip."""

from __future__ import annotations

import math
from dataclasses import dataclass

from rich.text import Text
from textual.binding import Binding

from ublet.core.heat.demands import material_targets
from ublet.core.heat.drills import DRILLS, RAIL_S, SensorLag, drills_for, live_heater, silence_window_s, warming_s
from ublet.core.heat.part_limits import SENSOR, lowest_limit, part_limits
from ublet.core.heat.prediction import slowest_rise
from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.core.machine.heat_parts import Heater
from ublet.core.run import Finding, Option, Proposal, TrialResult
from ublet.core.settings import number_or, refusal_of
from ublet.core.trouble import Trouble
from ublet.core.units import show
from ublet.ledger.errors import NotEntered
from ublet.link.replies import Hello
from ublet.session.heaters import tuned_model
from ublet.session.session import Session
from ublet.tui.frame.dialogs import QuantityDialog
from ublet.tui.frame.help import Help
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.picture import Picture
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

COLUMNS = (19, 44, 9, 15, 9)


GUARDED: tuple[tuple[str, str], ...] = (
    ("guards.rise_c", "at full power it must rise by"),
    ("guards.rise_window_s", "within"),
    ("guards.drift_c", "once reached, it may leave its target by"),
    ("guards.drift_window_s", "for no longer than"),
    ("maximum_c", "and never get hotter than"),
)
"""The settings of a heater's guards, below its path, with what each says."""

NARROW, LOW, ROOMY = 115, 16, 26
"""Below this width and this height less is said; from the last height on the rows of the drill stand apart."""

ENOUGH = 1.5
"""A normal climb should rise so many times as much as the guard wants."""

HELP = Help(
    """\
    A heater that runs away burns. The board watches every heater by itself, also when nobody looks and no host is
    there; these guards have parameters and no switch.
    """,
    """\
    Enter drills them: each fault is made on purpose, and the board must notice it by itself, in time. On a real
    machine only the drills that cannot harm it are done. ↑↓ chooses a parameter and t types another value, within
    bounds; it is live at once and saved with ctrl+s. What changed a guard makes its drill stale.
    """,
)


@dataclass(frozen=True)
class Room:
    """How much room there is; apart: what stands between two rows of the drill."""

    narrow: bool
    low: bool
    apart: str


class GuardsBench(TrialBench):
    """Guards that cannot be switched off, proven one by one."""

    kind = "guards"
    title = "Guards"
    why = "the board switches off by itself, also when nobody looks"
    help = HELP
    BINDINGS = [
        Binding("t", "bound", "value", tooltip="Type another value of the chosen parameter; it is live at once")
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.parameter = 0

    def picture(self) -> Picture:
        """Guards of the chosen heater, and its maximum."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            heater = session.document.machine.heaters.get(self.heater)
            if heater is None:
                return Text(f"no heater “{self.heater}” is declared", Ink.stop)
            running = watched.latest.about if watched is not None and watched.latest is not None else ""
            about = session.connection.about
            silence = about.heartbeat_window_s * about.clock if about is not None else None
            room = Room(width < NARROW, height < LOW, "\n" if height >= ROOMY else "")
            now = live_heater(self.heater, heater, session.live)
            result = self.result if watched is None else _so_far(session, watched)
            text = guards_text(self.heater, now, result, running, silence, room)
            if about is not None and about.language and not room.low:
                text.append_text(language_text(session, about))
            text.append_text(parameters_text(session, self.heater, heater, self.parameter, room))
            return text

        return draw

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Parameters can be chosen and typed while no drill runs."""
        if action == "choose":
            return self.watched is None
        if action == "bound":
            return self.watched is None and self.session.usable
        return super().check_action(action, parameters)

    def action_choose(self, by: int) -> None:
        """Another parameter."""
        self.parameter = (self.parameter + by) % len(GUARDED)
        self.refresh_state()

    def action_bound(self) -> None:
        """Type another value of the chosen parameter; it is live at once."""
        key, words = GUARDED[self.parameter]
        path, heater = f"heaters.{self.heater}.{key}", self.session.document.machine.heaters.get(self.heater)
        declared, now = BOARD_SETTINGS.find(path), self.session.live(path)
        if heater is None or declared is None or not isinstance(now, (int, float)):
            return
        highest, part = lowest_limit(declared.high or 0.0, part_limits(self.session.document.machine, self.heater))

        def check(value: float) -> str | None:
            if key == "maximum_c" and part and value > highest:
                return f"at most {highest:g} °C, the limit of its {part}"
            return refusal_of(declared, words, value)

        def take(answer: str | None) -> None:
            if answer:
                self.run_worker(self._bind(path, declared.unit, now, float(answer)), group="keep")

        title = f"The {self.heater}: {words}   ({declared.allowed()})"
        self.app.push_screen(QuantityDialog(title, declared.unit, float(now), check), take)

    async def _bind(self, path: str, unit: str, before: float, after: float) -> None:
        option = Option("guard", "", (Proposal(path, before, after, unit, "by hand"),), {})
        try:
            await self.session.keep(option, None, self.station)
        except NotEntered as error:
            self.message = (f"! Live on the board. {error}", Ink.focus)
        except Trouble as error:
            self.message = (f"✗ Not kept: {error}", Ink.stop)
        else:
            self.message = (f"✓ {path} is {show(after, unit)}, live on the board. Drill again.", Ink.proposal)
        self.refresh_state()


def watches(heater: Heater) -> dict[str, str]:
    """What each guard watches, by the drill that proves it, in words with this heater's parameters."""
    guards = heater.guards
    return {
        "sensor pulled out": "the sensor reads open while it heats",
        "sensor shorted": "the sensor reads shorted while it heats",
        "cold room": "below 5 °C while it heats",
        "heater falls out": f"at full power it rises {guards.rise_c:g} °C in {guards.rise_window_s:g} s",
        "switch stuck on": f"within {guards.drift_c:g} °C of its target, or back in {guards.drift_window_s:g} s",
        "over maximum": f"never above {heater.maximum_c:g} °C",
        "link cut": "messages from the host while it heats",
    }


def _so_far(session: Session, watched: TrialWatch) -> TrialResult:
    """What the drill that runs has found up to now."""
    about, series, findings = session.connection.about, watched.series("drills"), list[Finding]()
    drills = [drill.name for drill in drills_for(about is not None and about.simulated)] + ["over maximum", "link cut"]
    for number, seconds, window, peak, limit in series.rows.tolist() if series is not None else []:
        subject = {"drill": drills[int(number)].replace(" ", "-")}
        findings.append(Finding("noticed", seconds, None, "s", window, subject))
        if not math.isnan(peak):
            findings.append(Finding("peak", peak, None, "°C", limit, subject))
    return TrialResult("proven", "", {}, tuple(findings))


def guards_text(
    name: str,
    heater: Heater,
    result: TrialResult | None,
    running: str,
    silence_s: float | None,
    room: Room,
) -> Text:
    """The table of guards; without what each watches where it is narrow, without titles where it is low."""
    text = Text(no_wrap=True)
    titles = ("drill", f"what the board watches at the {name}", "allowed", "noticed after", "peak")
    shown_columns = [number for number in range(len(COLUMNS)) if number != 1 or not room.narrow]
    for number in [] if room.low else shown_columns:
        title, columns = titles[number], COLUMNS[number]
        text.append(f"{title:<{columns}}" if columns > 15 else f"{title:>{columns}}", Ink.dim)
    text.append("" if room.low else "\n")
    shown = result if result is not None and result.all_of("noticed") else None
    harmless = {drill.name: drill.harmless for drill in DRILLS}
    for drill, words in watches(heater).items():
        seen = shown.finding("noticed", drill=drill.replace(" ", "-")) if shown is not None else None
        peak = shown.finding("peak", drill=drill.replace(" ", "-")) if shown is not None else None
        now = drill == running
        text.append(room.apart)
        text.append(f"{drill:<{COLUMNS[0]}}", f"bold {Ink.focus}" if now else Ink.text)
        text.append("" if room.narrow else f"{words:<{COLUMNS[1]}}", Ink.dim)
        allowed = (
            show(seen.limit, "s", 3)
            if seen is not None and seen.limit is not None
            else _allowed(drill, heater, silence_s)
        )
        text.append(f"{allowed:>{COLUMNS[2]}}", Ink.dim)
        text.append(f"{f'{seen.value:.1f} s' if seen else '–':>{COLUMNS[3]}}", f"bold {Ink.focus}" if seen else Ink.dim)
        text.append(f"{f'{peak.value:.0f} °C' if peak else '–':>{COLUMNS[4]}}", Ink.text if peak else Ink.dim)
        if now:
            text.append("   ◆ now", f"bold {Ink.focus}")
        elif seen is not None:
            good = seen.within and (peak is None or peak.within)
            text.append("   ● in time" if good else "   ✗ too late", Ink.good if good else Ink.stop)
        elif not harmless.get(drill, True):
            text.append("   simulated only", Ink.quiet)
        text.append("\n")
    return text


def language_text(session: Session, about: Hello) -> Text:
    """What is known of the guards of a board whose language is described in a file."""
    text = Text()
    if about.host_guards:
        text.append(f"\nonly Ublet watches for {', '.join(about.host_guards)}, while it runs", Ink.focus)
    text.append(f"\nthe board speaks {about.language}: ", Ink.dim)
    if not about.switches_off:
        return text.append("it does not switch off when nobody talks to it\n", Ink.stop)
    style = Ink.good if session.silence.tried else Ink.focus
    text.append(f"off after {about.heartbeat_window_s:g} s of silence\n", Ink.dim)
    return text.append(f"  {session.silence.words()}\n", style)


def _allowed(drill: str, heater: Heater, silence_s: float | None) -> str:
    """How soon a guard must trip, before it was drilled."""
    known = next((known_drill for known_drill in DRILLS if known_drill.name == drill), None)
    if known is not None:
        least = known.allowance(heater.guards, warming_s(known, heater), SensorLag(0.0, 0.0)).seconds
        return f"{'> ' if 'no rise' in known.guards else ''}{show(least, 's', 3)}"  # its climb will show how much more
    if drill == "link cut":
        return show(silence_window_s(silence_s), "s", 3) if silence_s is not None else "–"
    return f"{RAIL_S:g} s"


def parameters_text(session: Session, name: str, heater: Heater, chosen: int, room: Room) -> Text:
    """The guards' parameters as they are live, what bounds the maximum, and whether a normal climb keeps clear."""
    text = Text("" if room.low else "\n")
    for number, (key, words) in enumerate(GUARDED):
        path = f"heaters.{name}.{key}"
        declared, live, file = BOARD_SETTINGS.find(path), session.live(path), session.document.value(path)
        here = number == chosen
        text.append("▸ " if here else "  ", Ink.focus)
        text.append(f"{words:<42}", f"bold {Ink.focus}" if here else Ink.text)
        unit = declared.unit if declared is not None else ""
        value_words = show(float(live), unit) if isinstance(live, (int, float)) else "–"
        text.append(f"{value_words:>9}", f"bold {Ink.focus}" if here else f"bold {Ink.text}")
        if isinstance(live, (int, float)) and isinstance(file, (int, float)) and live != file:
            text.append(f"   ! the file says {show(float(file), unit)}", Ink.focus)
        if key == "maximum_c":
            text.append_text(_bounds(session, name, heater, room))
        elif declared is not None:
            text.append(f"   {declared.allowed()}", Ink.dim)
        text.append("\n")
    if not room.low:
        text.append_text(_margin(session, name, room))
    return text


def _bounds(session: Session, name: str, heater: Heater, room: Room) -> Text:
    """What each part stands; the lowest wins."""
    text, limits = Text(), part_limits(session.document.machine, name, session.document.board.adc_bits)
    limit, part = lowest_limit(1e9, limits)
    if part:
        text.append(f"   {'' if room.narrow else 'bounded '}by its {part}, {limit:g} °C", Ink.text)
    others = ", ".join(f"{key} {celsius:g}" for key, celsius in limits.items() if key not in (part, SENSOR))
    text.append(f"   ({others})" if others and not room.narrow else "", Ink.dim)
    return text


def _margin(session: Session, name: str, room: Room) -> Text:
    """How much more than the guard wants a normal climb rises, by the model of the heater's tuning."""
    machine, text = session.document.machine, Text()
    targets = material_targets(machine, name).values()
    model = tuned_model(session, name)
    read = (session.live(f"heaters.{name}.guards.{key}") for key in ("rise_c", "rise_window_s", "drift_c"))
    rise, window, drift = (float(value) if isinstance(value, (int, float)) else 0.0 for value in read)
    if model is None or not targets or not rise:
        return Text("Tune this heater to see how far a normal heat-up stays clear of these.", Ink.dim)
    limit = number_or(session.live(f"heaters.{name}.power_limit"), 1.0)
    least = slowest_rise(model, max(targets), drift, window, limit)
    clear, times = least >= ENOUGH * rise, f"{least / rise:.1f} × the rise the guard requires"
    text.append("● " if clear else "! ", Ink.good if clear else Ink.focus)
    heat_up = "heat-up" if room.narrow else f"normal heat-up to {max(targets):g} °C"
    text.append(f"A {heat_up} rises by at least {least:.1f} °C in {window:g} s: ", Ink.text)
    text.append(times, Ink.text if clear else Ink.focus)
    text.append("" if clear else ". It may trip without a fault: allow more time.", Ink.focus)
    return text
