"""Benches of the leg Wire: a trial that asks the builder to do and to look, with what the machine says meanwhile."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable
from typing import TYPE_CHECKING

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.events import Key
from textual.widgets import Static

from ublet.core.catalogue import TRIALS
from ublet.core.route import ROUTE
from ublet.core.trial import Need, Question, TrialResult
from ublet.core.typed import shown_value
from ublet.ledger.book import LedgerError, TrialEntry
from ublet.link.client import BoardRefused, LinkLost
from ublet.session.session import Session
from ublet.tui.bench import Bench
from ublet.tui.theme import Palette
from ublet.tui.watch import TrialWatch
from ublet.tui.wire_pictures import PICTURES

if TYPE_CHECKING:
    from ublet.session.hands import DemoHands

WHY = {
    "inputs": "Inputs by hand   an endstop that lies lets an axis run into its end",
    "pairing": "Heaters paired   a heater with another one's sensor burns before a guard can know",
    "motors": "Motors   small steps first: what turns, and is it the one that was told",
    "directions": "Directions   an axis that runs the wrong way never finds its end",
    "homing": "Homing   every position counts from the ends",
    "fans": "Fans   the one that cools the hotend must not be the one that cools the part",
}
HELP = """\
WHY   {why}.

HOW   Enter starts: the trial says what will turn or warm, and asks you to do or to look at one thing after the other.
      Enter gives the first answer, the first letter any of them. What came out wrong is named with what would mend
      it. Keep writes the mend to the live machine; then start again: only what the second round confirms is proven.
      Save puts it into the board's store and the machine file. A wire that must be mended by hand is named as such.

      In the demonstration the number keys press the switches of the simulated machine, and let them go again; what
      you would see and feel there stands in the line “at the machine”.

KEYS  enter start, or the first answer    k keep the mend    d drop it    esc cancel
"""


class WireBench(Bench):
    """One trial of the leg Wire. Its picture shows what the machine says, live; questions stand below it."""

    DEFAULT_CSS = """
    WireBench { layout: vertical; width: 1fr; height: 1fr; padding: 0 1; }
    WireBench #heading { height: auto; padding: 1 1 0 1; }
    WireBench #picture { height: 1fr; min-height: 5; padding: 0 1; margin-top: 1; }
    WireBench #question { height: auto; padding: 1 2; margin: 0 1; background: $panel; border-left: thick $primary; }
    WireBench #question.empty { display: none; }
    WireBench #detail { height: 10; padding: 0 1; margin-top: 1; }
    WireBench.running #detail { height: 2; margin-top: 0; }
    """
    BINDINGS = [
        Binding("enter", "go", "start / answer"),
        Binding("k", "keep", "keep"),
        Binding("d", "drop", "drop"),
        Binding("escape", "cancel", "cancel"),
    ]
    kind = "inputs"

    def __init__(self, session: Session, palette: Palette) -> None:
        super().__init__(session, palette)
        station = next(station for station in ROUTE if station.bench == self.kind)
        self.spec = TRIALS[station.trials[0]]
        self.aim = self.spec.parameters()
        self.entry: TrialEntry | None = None
        self.question: tuple[Question, asyncio.Future[str]] | None = None
        self.told: tuple[str, str] | None = None

    def compose(self) -> ComposeResult:
        """Heading, picture, question, what was found."""
        yield Static(id="heading")
        yield Static(id="picture")
        yield Static(id="question", classes="empty")
        yield Static(id="detail")

    def on_mount(self) -> None:
        """Show what the ledger holds."""
        self.reload()

    def on_resize(self) -> None:
        """The picture follows the size."""
        self.call_after_refresh(self.beat)

    # what is shown

    @property
    def hands(self) -> DemoHands | None:
        """The demonstration's hands, when this is one."""
        demo = getattr(self.app, "demo", None)
        return demo.hands if demo is not None else None

    @property
    def result(self) -> TrialResult | None:
        """The newest result that was not cancelled."""
        return self.entry.result if self.entry and self.entry.result.outcome != "halted" else None

    def reload(self) -> None:
        """Take the newest result from the ledger."""
        self.entry = self.session.ledger.latest(self.spec.name)
        self.refresh_state()

    def refresh_state(self) -> None:
        """Bring words and keys up to date."""
        if not self.is_mounted:
            return
        self.set_class(self.watched is not None, "running")
        self.write("detail", self._detail())
        self.beat()
        self.refresh_bindings()

    def beat(self) -> None:
        """Draw what the machine says now."""
        if not self.is_mounted:
            return
        place = self.query_one("#picture", Static)
        width, height = max(40, place.content_size.width), max(5, place.content_size.height)
        place.update(PICTURES[self.kind](self.session, self.watched, width, height, self.palette), layout=False)
        self.write("heading", self._heading())
        if self.question is not None:
            self._draw_question()

    def _heading(self) -> Text:
        palette, text = self.palette, Text()
        title, _, why = WHY[self.kind].partition("   ")
        text.append(title, f"bold {palette.text}")
        text.append(f"   {why}\n", palette.dim)
        if self.watched is not None:
            progress = self.watched.latest
            text.append(f"◆ {progress.phase}, {progress.detail}" if progress else "◆ starting", f"bold {palette.focus}")
            return text
        for need in self.needs():
            text.append("✓ " if need.met else "✗ ", palette.good if need.met else palette.stop)
            text.append(f"{need.words}  ", palette.text)
        return text

    def needs(self) -> tuple[Need, ...]:
        """What is there and what is missing for a start."""
        connection = self.session.connection
        if not connection.linked:
            return (Need("no link to the board", False),)
        if connection.state.mode != "ready":
            return (Need(f"the board is {connection.state.mode}: r releases it", False),)
        if not connection.samples:
            return (Need("waiting for the first readings", False),)
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
        text.append("enter", palette.focus)
        text.append(f" {'starts again' if result else 'starts'}. ", palette.text)
        text.append(self.spec.announce(self.session.document.machine, self.aim), palette.text)
        return text

    def _proposals(self, text: Text, result: TrialResult) -> None:
        palette = self.palette
        if not result.proposals:
            if result.outcome == "failed":
                text.append("Nothing in the settings mends this: look at the wire.\n", palette.text)
            return
        for proposal in result.proposals:
            now = self.session.live(proposal.setting)
            kept = now == proposal.after
            text.append(f"  {proposal.setting:<32}", palette.text)
            text.append(f"{shown_value(now):>8} on the board   ", palette.dim)
            text.append("kept" if kept else f"→ {shown_value(proposal.after)}", f"bold {palette.proposal}")
            text.append(f"   {proposal.effect}\n", palette.dim)
        if self._keepable():
            text.append("k", palette.focus)
            text.append(" keeps them on the live board; then start again to confirm.\n", palette.text)

    def _draw_question(self) -> None:
        if self.question is None:
            return
        question, _ = self.question
        palette, text = self.palette, Text()
        text.append(f"{question.text}\n", f"bold {palette.text}")
        for key, answer in answer_keys(question.answers).items():
            text.append(f"{key} ", palette.focus)
            text.append(f"{answer}    ", palette.text)
        if (hands := self.hands) is not None:
            seen = hands.look()
            notes = [f"the {name} fan turns" for name in seen.turning]
            notes += [f"the {name} is warm" for name in seen.warm]
            notes += ["the pin is down"] if seen.pin_down else []
            notes += [f"{name} is pressed" for name in seen.pressed]
            if question.cue[1:] == ("motor",):
                notes.append(f"turned: {', '.join(seen.turned) or 'nothing'}")
            if question.cue[1:] == ("direction",):
                notes.append(f"the nozzle went: {seen.moved}")
            text.append(f"\nat the machine: {', '.join(notes) or 'nothing to notice'}", palette.dim)
            if question.cue[:1] in (("press",), ("let go",)):
                keys = "  ".join(f"{number} {name}" for number, name in enumerate(seen.switches, start=1))
                text.append(f"\nin the demonstration these keys press and let go: {keys}", palette.proposal)
        self.write("question", text)

    # what can be done

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Only the keys that work now are shown."""
        ready = self.session.connection.linked and self.session.connection.state.mode == "ready"
        if action == "go":
            asked = self.question is not None and "enter" in answer_keys(self.question[0].answers)
            return ready and (self.watched is None or asked)
        if action == "cancel":
            return self.watched is not None
        if action == "keep":
            return ready and self._keepable()
        if action == "drop":
            return ready and self.watched is None and bool(self.session.unsaved())
        return True

    def _keepable(self) -> bool:
        result = self.result
        wanted = result.proposals if result is not None else ()
        return self.watched is None and any(self.session.live(p.setting) != p.after for p in wanted)

    def action_go(self) -> None:
        """Start; or give the first answer to the question."""
        if self.question is not None:
            if (answer := answer_keys(self.question[0].answers).get("enter")) is not None:
                self._answer(answer)
            return
        blocking = [need.words for need in self.needs() if need.blocking and not need.met]
        if blocking:
            self.told = (f"Not started: {'; '.join(blocking)}.", self.palette.stop)
            self.refresh_state()
            return
        self.told = None
        self.watched = TrialWatch(self._ask)
        self.refresh_state()
        self.run_worker(self._run(), group="trial", exclusive=True)

    async def _run(self) -> None:
        assert self.watched is not None
        try:
            entered = await self.session.run(self.spec, self.aim, self.watched)
        except LedgerError as error:
            self.told = (f"It ran, but is not in the ledger: {error}", self.palette.stop)
        else:
            if entered.ran.result.outcome == "halted":
                self.told = (f"✗ {entered.ran.result.why}", self.palette.stop)
        self.watched = None
        self._close_question()
        self.reload()
        self.post_message(self.Edited())

    async def _ask(self, question: Question) -> str:
        self.question = (question, asyncio.get_running_loop().create_future())
        self.query_one("#question").remove_class("empty")
        self._draw_question()
        self.refresh_bindings()
        try:
            return await self.question[1]
        finally:
            self._close_question()

    def _answer(self, answer: str) -> None:
        if self.question is not None and not self.question[1].done():
            self.question[1].set_result(answer)

    def _close_question(self) -> None:
        self.question = None
        self.query_one("#question").add_class("empty")

    def on_key(self, event: Key) -> None:
        """Letters answer; in the demonstration numbers press switches."""
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
        named = answer_keys(question.answers).get(event.key)
        if named is not None and event.key != "enter":
            event.stop()
            event.prevent_default()
            self._answer(named)

    def action_cancel(self) -> None:
        """Stop the trial; everything goes off."""
        self.session.runner.cancel()

    async def action_keep(self) -> None:
        """Write the mend to the live machine."""
        result = self.result
        if result is None or result.choice is None or self.entry is None:
            return
        try:
            await self.session.keep(result.choice, self.entry.id)
        except (LinkLost, BoardRefused, LedgerError) as error:
            self.told = (f"✗ Not kept: {error}", self.palette.stop)
        else:
            self.told = (
                "✓ Live on the board, lost at power-off until saved. Start again to confirm.",
                self.palette.proposal,
            )
        self.refresh_state()

    async def action_drop(self) -> None:
        """Put the saved values back."""
        try:
            count = await self.session.drop()
        except (LinkLost, BoardRefused, LedgerError) as error:
            self.told = (f"✗ Not dropped: {error}", self.palette.stop)
        else:
            self.told = (f"Dropped: {count} settings are back at their saved values.", self.palette.text)
        self.refresh_state()

    def commands(self) -> Iterable[tuple[str, str, str]]:
        """For the command palette."""
        return (
            ("start", self.spec.summary, "go"),
            ("keep", "Keep what would mend it", "keep"),
            ("drop", "Drop what was kept and not saved", "drop"),
            ("cancel", "Cancel the running trial", "cancel"),
        )

    def help_words(self) -> str:
        """Why and how."""
        return HELP.format(why=WHY[self.kind].replace("   ", ": "))


def answer_keys(answers: tuple[str, ...]) -> dict[str, str]:
    """The key of each answer: enter for the first; first letters where no two are the same, else numbers."""
    letters = [answer[0].lower() for answer in answers[1:]]
    if len(set(letters)) == len(letters) and not {"k", "q"} & set(letters) and len(answers) < 7:
        return {"enter": answers[0], **dict(zip(letters, answers[1:], strict=True))}
    return {str(number): answer for number, answer in enumerate(answers, start=1)}


class InputsBench(WireBench):
    """Switches pressed by hand."""

    kind = "inputs"


class PairingBench(WireBench):
    """Each heater with its own sensor."""

    kind = "pairing"


class MotorsBench(WireBench):
    """Each motor by itself."""

    kind = "motors"


class DirectionsBench(WireBench):
    """Each axis the right way."""

    kind = "directions"


class HomingBench(WireBench):
    """Every axis to its end."""

    kind = "homing"


class FansBench(WireBench):
    """Each fan by itself."""

    kind = "fans"
