"""Questions at a bench: put in the panel, answered by keys or typed; in the demonstration with hands and eyes."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from rich.text import Text
from textual.events import Key

from ublet.core.acts import PressSwitch, ReleaseSwitch
from ublet.core.observations import DragGauge, MakeRoom, noticed
from ublet.core.questions import Live, Measure, Question
from ublet.session.bench.builder import hot_now
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.trial.bench import StationBench
from ublet.tui.trial.question import QuestionPanel, answer_for, is_typed, keys_of, refusal_of

REPEATED_S = 0.12
"""Keys that follow one another faster than this are one that is held down: it repeats itself 8 to 40 times a second."""

FIRST_REPEAT_S = 1.0
"""A key that is held down repeats itself for the first time within this."""


class HeldKeys:
    """Lets a key that is held down count once. A terminal does not say which of its keys are repeats.

    A key long after the one before it acts at once. One that follows soon may be the first repeat: it acts when no
    further one comes right behind it.
    """

    def __init__(self) -> None:
        self._last_s: dict[str, float] = {}
        self._waiting: dict[str, asyncio.TimerHandle] = {}

    def pressed(self, key: str, act: Callable[[], None]) -> None:
        """A key came."""
        loop = asyncio.get_running_loop()
        since = loop.time() - self._last_s.get(key, float("-inf"))
        self._last_s[key] = loop.time()
        if (waiting := self._waiting.pop(key, None)) is not None:
            waiting.cancel()
        if since > FIRST_REPEAT_S:
            act()
        elif since >= REPEATED_S:
            self._waiting[key] = loop.call_later(REPEATED_S, act)


KEPT_KEYS = ("escape", "f8", "ctrl+q", "ctrl+c")
"""Keys that keep their meaning where any key answers: they cancel, halt and leave."""


class Asking(StationBench):
    """A bench with a panel of questions. A field that is open while nothing is asked types what the bench wants."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.question: tuple[Question, asyncio.Future[str]] | None = None
        self._held = HeldKeys()

    def take_typed(self, text: str) -> None:
        """A line was typed that answers no question."""
        raise NotImplementedError

    def action_cancel(self) -> None:
        """Stop the trial; everything goes off."""
        self.session.runner.cancel()

    @property
    def panel(self) -> QuestionPanel:
        """The panel of questions."""
        return self.query_one(QuestionPanel)

    def _draw_question(self) -> None:
        if self.question is None:
            return
        question, notes = self.question[0], Text()
        if (hands := self.hands) is not None:
            seen = hands.look(question.cue)
            notes.append(f"\nat the machine: {noticed(question.cue, seen)}", Ink.dim)
            if self._pressing(question):
                keys = "  ".join(f"{number} {name}" for number, name in enumerate(seen.switches, start=1))
                notes.append(f"\nin the demonstration these keys press and let go: {keys}", Ink.proposal)
        hot = hot_now(self.session.document.machine, self.session.connection) if question.by_hand else ""
        self.panel.ask(question, notes, hot)

    def _pressing(self, question: Question) -> bool:
        """Whether it asks for a switch to be pressed or let go."""
        return isinstance(question.cue, PressSwitch | ReleaseSwitch)

    async def _ask(self, question: Question) -> str:
        self.question = (question, asyncio.get_running_loop().create_future())
        self._draw_question()
        if is_typed(question):
            unit = question.unit if isinstance(question, Measure) else ""
            self.panel.open_field("", refusal_of(question), unit, self.preferences.length_unit, question.answers)
        self.refresh_bindings()
        self.asked(question)
        self.ring()
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
        elif (
            hands is not None and (answer,) == question.answers[1:2] and isinstance(question.cue, MakeRoom | DragGauge)
        ):
            hands.act(question.cue.instead)
        self.question[1].set_result(answer)

    def _close_question(self) -> None:
        self.question = None
        if not self.is_mounted or not self.query(QuestionPanel):
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
        if event.key.isdigit() and hands is not None and self._pressing(question):
            names, at = hands.look().switches, int(event.key) - 1
            if 0 <= at < len(names):
                hands.press(names[at], names[at] not in hands.look().pressed)
                self._draw_question()
            event.stop()
            return
        keys = keys_of(question)
        named = keys.get(event.key) if "enter" not in keys else answer_for(question.answers, event.key)
        if named is None and isinstance(question, Live) and question.any_key and event.key not in KEPT_KEYS:
            event.stop()
            event.prevent_default()
            self._use(question.answers[0])
            return
        if named is not None and event.key != "enter":
            event.stop()
            event.prevent_default()
            if isinstance(question, Live):
                self._held.pressed(event.key, lambda: self._use(named))
            else:
                self.answer(named)

    def _use(self, control: str) -> None:
        """Use a control of the live question that is open by now."""
        if self.question is None or control not in keys_of(self.question[0]).values():
            return
        question, hands = self.question[0], self.hands
        if isinstance(question, Live) and hands is not None and (act := question.acts.get(control)) is not None:
            hands.act(act)
        self.answer(control)
