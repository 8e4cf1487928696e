"""Widgets by themselves: what they show for a state, at several widths."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

import pytest
from rich.text import Text
from textual.app import App, ComposeResult
from textual.strip import Strip
from textual.widget import Widget

from tests.conftest import virtually
from ublet.core.catalogue import TRIALS
from ublet.core.questions import Question
from ublet.core.route import ROUTE, StationState
from ublet.core.run import Finding, Option, Progress, Proposal, TrialResult
from ublet.core.units import parse
from ublet.session.saving import Saved
from ublet.tui.frame.dialogs import QuantityDialog, QuestionDialog, SaveDialog
from ublet.tui.frame.pickers import LineDialog
from ublet.tui.frame.pulse import HeaterState, Pulse, PulseState
from ublet.tui.frame.route import Route
from ublet.tui.frame.theme import THEMES, ink_theme
from ublet.tui.frame.title import Title
from ublet.tui.heat.gains_table import GainOptions, gains_table
from ublet.tui.instruments.drawing import Drawing
from ublet.tui.trial.asking import HeldKeys
from ublet.tui.trial.parameters import parameter_words
from ublet.tui.trial.question import answer_for, answer_keys
from ublet.tui.trial.watch import TrialWatch


class Themed(App[None]):
    """An app with our themes."""

    def __init__(self) -> None:
        super().__init__()
        for theme in THEMES:
            self.register_theme(theme)
        self.theme = "soot"
        self.console.push_theme(ink_theme("soot"))


Keys = Callable[[Any], Awaitable[None]]


def shown(widget: Widget, width: int = 160, height: int = 47, then: Keys | None = None) -> str:
    """The screen's text with this widget alone on it."""

    class Holder(Themed):
        def compose(self) -> ComposeResult:
            yield widget

    async def run() -> str:
        holder = Holder()
        async with holder.run_test(size=(width, height)) as pilot:
            await pilot.pause()
            if then is not None:
                await then(pilot)
                await pilot.pause()
            lines = widget.render_lines(widget.outer_size.region)
            return "\n".join(line.text for line in lines)

    return asyncio.run(run())


HEATERS = (
    HeaterState("hotend", 213.84, 215.0, 0.42, tuple(210 + n % 7 for n in range(40))),
    HeaterState("bed", None, None, 0.0, ()),
)


def pulse(reading: PulseState, width: int = 160) -> str:
    widget = Pulse()
    widget.set_reactive(Pulse.reading, reading)
    return shown(widget, width)


def test_the_pulse_shows_heaters_targets_and_halt() -> None:
    text = pulse(PulseState(HEATERS, (("part", 1.0),), "ready"))
    assert "213.8 / 215 °C" in text and "duty  42 %" in text and "✗ no reading" in text
    assert "part fan 100 %" in text and "F8 HALT" in text
    assert "◆ hotend heating" in text and "hot to the touch: hotend 214 °C" in text


@pytest.mark.parametrize("width", [80, 100, 130, 160, 200])
def test_halt_never_falls_off_the_edge(width: int) -> None:
    text = pulse(PulseState(HEATERS, (("part", 1.0), ("hotend", 0.0)), "ready"), width)
    first = text.split("\n")[0]
    assert first.rstrip().endswith("F8 HALT") and len(first) <= width


@pytest.mark.parametrize(
    ("reading", "words"),
    [
        (PulseState(HEATERS, (), "halted", "Halted by you."), "■ HALTED Halted by you. Everything is off. r releases"),
        (PulseState(HEATERS, (), "tripped", "No rise."), "■ GUARD TRIPPED No rise."),
        (PulseState((), (), "unlinked", "It is gone."), "✗ no link  It is gone."),
        (
            PulseState(
                HEATERS, (), "ready", "", "hotend control", Progress("cycle 5", 0.5, 110.0, "period 15 s"), 75.0, 110.0
            ),
            "cycle 5 · 1 min 15 s gone, about 1 min 50 s left · period 15 s",
        ),
        (
            PulseState(HEATERS, (), "ready", "", "hotend control", Progress("heating up", 0.1)),
            "heating up · 0 s gone, time left not known yet",
        ),
        (
            PulseState(
                HEATERS, (), "ready", "", "advance lines", Progress("to be read", 0.95), 75.0, 4.0, (), waits=True
            ),
            "to be read · 1 min 15 s gone, waits for you",
        ),
        (PulseState(HEATERS, (), "ready", "", "hotend control", waits=True), "◆ hotend control  waits for you"),
    ],
)
def test_the_pulse_says_what_runs_and_what_is_wrong(reading: PulseState, words: str) -> None:
    assert words in pulse(reading)


def test_the_route_lists_every_station_and_folds_to_glyphs() -> None:
    route = Route()
    route.set_reactive(Route.standings, {"hotend control": StationState("proven", "0.17 ±0.06")})
    text = shown(route)
    for station in ROUTE:
        assert station.name in text and station.leg in text
    assert "● hotend control" in text and "0.17 ±0.06" in text

    folded = Route()
    folded.styles.width = 12
    text = shown(folded, 100, 30)
    assert "Extrude" in text and "machine file" not in text and "○○○○○○" in text


def test_the_route_moves_by_stations_and_by_legs() -> None:
    route = Route()

    async def keys(pilot: Any) -> None:
        route.focus()
        await pilot.press("down", "down", "pagedown", "pagedown", "up")

    shown(route, then=keys)
    assert route.station.name == "motors"


OPTIONS = (
    Option("as found", "before the trial", (), {"kp": 0.022, "overshoot_c": 11.9, "settle_s": None, "ripple_c": 1.0}),
    Option(
        "balanced",
        "SIMC",
        (Proposal("heaters.hotend.kp", 0.022, 0.141, "/°C", ""),),
        {"kp": 0.141, "ki": 0.00986, "kd": 0.241, "overshoot_c": 0.2, "settle_s": 94.0, "ripple_c": 0.2},
    ),
)


def settlement(width: int, outcome: str | None = None) -> str:
    findings = (Finding("overshoot", 2.4), Finding("ripple", 0.2), Finding("settle", 92.0))
    measured = TrialResult(outcome, "", findings=findings) if outcome else None  # type: ignore[arg-type]
    return gains_table(GainOptions(OPTIONS, OPTIONS[1], "balanced", "as found", measured), width).plain


def test_the_settlement_is_a_table_of_what_to_expect() -> None:
    text = settlement(120)
    found = next(line for line in text.split("\n") if "● as found" in line)
    assert "never" in found and "+11.9 °C" in found and "live now" in found
    chosen = next(line for line in text.split("\n") if "▸" in line)
    assert "0.141" in chosen and "1 min 34 s" in chosen and "recommended" in chosen
    columns = [line.index("°C") for line in text.split("\n") if "+" in line]
    assert len(set(columns)) == 1  # right-aligned


def test_the_settlement_keeps_its_lines_where_it_is_narrow() -> None:
    lines = [line for line in settlement(84).split("\n") if line.strip()]
    assert len(lines) == 3 and "+0.2 °C" in lines[2] and "Kp" not in lines[0]


@pytest.mark.parametrize(("outcome", "mark"), [("proven", "✓ measured"), ("failed", "✗ measured")])
def test_the_measurement_stands_below_the_predictions(outcome: str, mark: str) -> None:
    assert mark in settlement(120, outcome) and "+2.4 °C" in settlement(120, outcome)


def test_the_title_tells_what_is_not_saved() -> None:
    title = Title()
    title.set_reactive(Title.machine, "Tern 280")
    title.set_reactive(Title.link, "larch-6 on x · link 2 ms")
    title.set_reactive(Title.unsaved, 2)
    assert shown(title).rstrip().endswith("2 kept, not saved: ctrl+s")


@pytest.mark.parametrize(("linked", "message"), [(True, True), (False, False)])
def test_nothing_is_called_saved_without_a_board(linked: bool, message: bool) -> None:
    title = Title()
    title.set_reactive(Title.link, "no board")
    title.set_reactive(Title.linked, linked)
    assert ("all saved" in shown(title)) is message


def answers(dialog: Any, *keys: str) -> Any:
    """Push a dialog, press keys, and return its answer and the text it showed."""
    got: list[Any] = []

    class Holder(Themed):
        def on_mount(self) -> None:
            self.push_screen(dialog, got.append)

    async def run() -> None:
        async with Holder().run_test(size=(120, 40)) as pilot:
            await pilot.pause()
            await pilot.press(*keys)
            await pilot.pause()

    asyncio.run(run())
    return got[0] if got else "open"


@pytest.mark.parametrize(
    ("keys", "answer"),
    [(("w",), "wait"), (("enter",), "wait"), (("c",), "cancel"), (("escape",), "cancel"), (("x",), "open")],
)
def test_a_question_is_answered_by_first_letters(keys: tuple[str, ...], answer: str) -> None:
    assert answers(QuestionDialog(Question("Wait?", ("wait", "cancel"))), *keys) == answer


def test_saving_needs_enter() -> None:
    kp, ki = "heaters.hotend.kp", "heaters.hotend.ki"
    changes = [Saved(kp, 0.024, 0.022, 0.141), Saved(ki, 0.002, 0.002, 0.01)]
    assert answers(SaveDialog(changes, "tern.toml", ""), "enter") == f"{kp}\n{ki}"
    assert answers(SaveDialog(changes, "tern.toml", ""), "space", "enter") == ki
    assert answers(SaveDialog(changes, "tern.toml", ""), "down", "space", "enter") == kp
    assert answers(SaveDialog(changes, "tern.toml", ""), "space", "down", "space", "enter") == "open"
    assert answers(SaveDialog(changes, "tern.toml", ""), "escape") is None


def test_a_quantity_is_taken_only_when_it_is_good() -> None:
    def check(value: float) -> str | None:
        return None if value <= 270 else "too hot"

    assert answers(QuantityDialog("T", "°C", 215.0, check), *"200", "enter") == "200.0"
    assert answers(QuantityDialog("T", "°C", 215.0, check), *"300", "enter") == "open"
    assert answers(QuantityDialog("T", "°C", 215.0, check), *"abc", "enter") == "open"
    assert answers(QuantityDialog("T", "°C", 215.0, check), "escape") is None
    assert parse("200.0", "°C") == 200.0


def test_the_watch_collects_rows_and_asks() -> None:
    async def ask(question: Question) -> str:
        return question.answers[-1]

    watch = TrialWatch(ask, lambda question: True, lambda: 0.0)
    assert watch.series("relay") is None
    watch.row("relay", ("time_s", "duty"), (0.0, 1.0))
    watch.row("relay", ("time_s", "duty"), (0.1, 0.0))
    series = watch.series("relay")
    assert series is not None and series.column("duty").tolist() == [1.0, 0.0] and watch.fresh
    assert asyncio.run(watch.answer(Question("?", ("a", "b")))) == "b"


def test_two_quick_answers_close_a_dialog_once() -> None:
    got: list[str | None] = []

    class Host(Themed):
        def on_mount(self) -> None:
            self.push_screen(LineDialog("a line", "word", lambda text: None), got.append)

    async def work() -> list[str | None]:
        host = Host()
        async with host.run_test() as pilot:
            await pilot.pause()
            dialog = host.screen
            assert isinstance(dialog, LineDialog)
            dialog.close_with("one")
            dialog.close_with("two")
            await pilot.pause()
            assert len(host.screen_stack) == 1
            return got

    assert asyncio.run(work()) == ["one"]


def test_every_answer_has_its_letter_and_the_first_one_enter_too() -> None:
    asked = ("wait", "cancel")
    assert answer_keys(asked) == {"enter": "wait", "c": "cancel"}
    assert [answer_for(asked, key) for key in ("w", "c", "x")] == ["wait", "cancel", None]
    alike = ("stop", "start here")
    assert answer_for(alike, "s") == "start here" and answer_keys(alike)["enter"] == "stop"
    assert answer_for(("right", "rest", "roll"), "1") == "right" and answer_for((), "w") is None


def test_a_drawing_paints_only_the_lines_that_changed_and_cuts_long_ones() -> None:
    painted: list[int] = []

    class Watched(Drawing):
        def render_line(self, y: int) -> Strip:
            painted.append(y)
            return super().render_line(y)

    class Shows(App[None]):
        def compose(self) -> ComposeResult:
            yield Watched(id="drawn")

    async def work() -> None:
        async with Shows().run_test(size=(20, 10)) as pilot:
            drawn = pilot.app.query_one(Watched)
            drawn.update(Text("\n").join([Text(f"line {n}", "bold") for n in range(6)]))
            await pilot.pause()
            painted.clear()
            drawn.update(Text("\n").join([Text(f"line {n if n != 3 else 33}", "bold") for n in range(6)]), layout=False)
            await pilot.pause()
            assert painted == [3]
            drawn.update(Text("x" * 50), layout=True)
            await pilot.pause()
            assert drawn.size.height == 1 and "".join(piece.text for piece in drawn.render_line(0)) == "x" * 19 + "…"
            drawn.update(drawn.content, layout=False)
            assert str(drawn.content) == "x" * 50, "another theme draws it again as it is"

    asyncio.run(work())


@pytest.mark.parametrize("trial", TRIALS)
def test_parameters_read_as_words_with_a_value_each(trial: str) -> None:
    """No parameter ends in nothing, in its unit's name, or says its unit twice."""
    spec = TRIALS[trial]
    message = [each for each in parameter_words(spec, spec.parameters()).split(", ") if each]
    assert len(message) == len(spec.declared())
    for each, declared in zip(message, spec.declared(), strict=True):
        name, _, value = each.partition(" ")
        assert value and name not in value.split() and "_" not in each, each
        assert not declared.unit or each.split().count(declared.unit) <= 1, each


@pytest.mark.parametrize("delay_s", [0.25, 0.5, 0.66])
@pytest.mark.parametrize("rate_hz", [10.0, 30.0])
def test_a_key_that_is_held_counts_once_and_pressed_keys_count_each(delay_s: float, rate_hz: float) -> None:
    async def work() -> tuple[int, int]:
        counted, keys = [0], HeldKeys()

        def act() -> None:
            counted[0] += 1

        keys.pressed("1", act)
        await asyncio.sleep(delay_s)
        for _ in range(50):
            keys.pressed("1", act)
            await asyncio.sleep(1 / rate_hz)
        await asyncio.sleep(1.0)
        held = counted[0]
        for _ in range(5):  # a builder who taps
            keys.pressed("1", act)
            await asyncio.sleep(0.2)
        await asyncio.sleep(1.0)
        return held, counted[0] - held

    assert virtually(work) == (1, 5)
