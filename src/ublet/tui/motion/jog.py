"""The jog bench: the machine to scale, moved by keys or by typed targets; the station of travel limits."""

from __future__ import annotations

from functools import partial

from rich.text import Text
from textual.binding import Binding
from textual.events import Key

from ublet.core.motion.caps import Speed
from ublet.core.motion.targets import EXAMPLES, parse_targets
from ublet.core.questions import Jog, Question
from ublet.core.units import NotAQuantity
from ublet.core.words import several
from ublet.link.errors import BoardRefused, LinkLost
from ublet.session.jogging import jog, jog_speed
from ublet.session.session import Session
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.machine_map import map_picture
from ublet.tui.instruments.picture import Picture
from ublet.tui.trial.trial_bench import TrialBench
from ublet.tui.trial.watch import TrialWatch

STEPS_MM = (0.1, 1.0, 10.0, 50.0)
JOG_MM_S = 40.0
AHEAD = 2.0
"""While a key is held, at most so many steps are waiting: the axis stops soon after it is let go."""

TYPES_TARGET = {"x", "y", "z", "plus", "minus", "equals_sign"}


class JogBench(TrialBench):
    """Jogging, and marking where the machine ends."""

    kind = "travel"
    title = "Travel limits"
    why = "the nozzle must reach the bed, and never its own frame"
    BINDINGS = [
        Binding(
            "right", "jog('x', 1)", "x", key_display="← →", tooltip="Move X to the left or right, one step a press"
        ),
        Binding("left", "jog('x', -1)", show=False),
        Binding("up", "jog('y', 1)", "y", key_display="↑ ↓", tooltip="Move Y to the front or back"),
        Binding("down", "jog('y', -1)", show=False),
        Binding("pageup", "jog('z', 1)", "z", key_display="pgup pgdn", tooltip="Move Z up or down"),
        Binding("pagedown", "jog('z', -1)", show=False),
        Binding("comma", "step(-1)", "step", key_display=", .", tooltip="A smaller step; . a larger one"),
        Binding("full_stop", "step(1)", show=False),
        Binding(
            "t", "target", "type a target", tooltip="Type where to, or how far: x120 +5 (also begun by x, y, z, + or -)"
        ),
        Binding("h", "home", "home", tooltip="Home every axis"),
    ]

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.step_mm = min(STEPS_MM, key=lambda mm: abs(mm - self.preferences.jog_step_mm))
        self._usual_mm: float | None = None  # while a question lets the builder jog: the step before it
        self.last_axis = "x"
        self._ahead: dict[str, float] = {}
        self._last_way: dict[str, float] = {}
        self._jogging = False
        self._begins = True  # the next question that lets the builder jog is a new one

    @property
    def steps(self) -> tuple[float, ...]:
        """The steps to choose from, the chosen one among them: those of a question that lets the builder jog, else the
        usual ones.
        """
        question = self.question[0] if self.question is not None else None
        offered = question.steps if isinstance(question, Jog) else STEPS_MM
        return tuple(sorted({*offered, self.step_mm}))

    @property
    def busy(self) -> bool:
        """Followed at every beat while it moves."""
        return self._jogging or super().busy

    def picture(self) -> Picture:
        """The machine to scale, with the next step."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            drawn = map_picture(session, self.step_mm, self._free(), width, height - 2)
            return drawn + Text("\n") + self.next_line(width)

        return draw

    def _free(self) -> tuple[str, ...]:
        """The axes that can be jogged now."""
        if self.watched is None:
            return () if self.session.runner.running is not None else ("x", "y", "z")
        question = self.question[0] if self.question is not None else None
        return question.axes if isinstance(question, Jog) else ()

    def next_line(self, width: int) -> Text:
        """What a key would do: how far, how fast, and what caps it."""
        text = Text(no_wrap=True)
        free = self._free()
        steps = Text("step ", Ink.dim)
        for step in self.steps:
            here = step == self.step_mm
            steps.append(f" {step:g} ", f"bold {Ink.ground} on {Ink.focus}" if here else Ink.text)
        steps.append(" mm   ", Ink.dim)
        text.append_text(steps)
        if not free:
            text.append("a trial moves by itself now", Ink.dim)
            return text
        by_speed: dict[str, list[str]] = {}
        for axis in free:
            asked = getattr(self.aim, "speed_mm_s", JOG_MM_S) if self.watched is not None else JOG_MM_S
            by_speed.setdefault(self._jog_speed(axis, asked).words, []).append(axis.upper())
        words = "; ".join(f"{several(axes)} at {speed}" for speed, axes in by_speed.items())
        before = f"a key moves {self.step_mm:g} mm: "
        room = width - text.cell_len - len(words)
        text.append(f"{before if room >= len(before) else ''}{words}", Ink.text)
        text.truncate(width, overflow="ellipsis")
        return text

    def _jog_speed(self, axis: str, asked_mm_s: float) -> Speed:
        return jog_speed(self.session.connection, self.session.document.board, axis, asked_mm_s)

    # jogging

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Jog keys while nothing runs, or while the trial lets the builder jog."""
        ready = self.session.usable and "motion" in self.session.connection.can
        if action == "jog":
            return ready and parameters[0] in self._free()
        if action in ("target", "step"):
            return ready and bool(self._free())
        if action == "home":
            return ready and self.session.runner.running is None and not self._jogging
        if action == "cancel" and self._jogging:
            return True
        return super().check_action(action, parameters)

    def action_step(self, by: int) -> None:
        """A smaller or larger step; the usual one is kept for the next time."""
        steps = self.steps
        self.step_mm = steps[max(0, min(len(steps) - 1, steps.index(self.step_mm) + by))]
        if self.question is None:
            self.prefer(jog_step_mm=self.step_mm)
        self.beat()

    def action_jog(self, axis: str, way: int) -> None:
        """One step; while one is still moving, a few more wait."""
        self._want(axis, way * self.step_mm)

    def _want(self, axis: str, mm: float, typed: bool = False) -> None:
        self._shrink(axis, mm)
        self.last_axis = axis
        wanted = self._ahead.get(axis, 0.0) + mm
        limit = abs(mm) if typed else AHEAD * self.step_mm
        self._ahead[axis] = max(-limit, min(limit, wanted))
        if self.question is not None:
            self._pass_on()
        elif self.watched is None and not self._jogging:
            self._jogging = True
            self.message = None
            self.run_worker(self._drive(), group="jog", exclusive=True)

    def _shrink(self, axis: str, mm: float) -> None:
        """Towards a floor the step shrinks whenever the direction turns: that is how a gauge is felt for."""
        question = self.question[0] if self.question is not None else None
        before, self._last_way[axis] = self._last_way.get(axis, mm), mm
        if isinstance(question, Jog) and question.floor and before * mm < 0:
            self.step_mm = question.smaller(self.step_mm)

    def _pass_on(self) -> None:
        """To a trial that lets the builder jog: its answers move."""
        words = [f"{axis}{mm:+.4g}" for axis, mm in self._ahead.items() if mm]
        self._ahead.clear()
        if words:
            self.answer(" ".join(words))

    def answer(self, answer: str) -> None:
        """Give an answer; one that ends the jogging lets the next begin with large steps again."""
        self._begins = self.question is not None and answer in self.question[0].answers
        super().answer(answer)
        if self._begins:
            self._end_of_jogging()

    def asked(self, question: Question) -> None:
        """What was wanted while the trial moved is wanted still. Towards a floor one begins with the largest step."""
        if isinstance(question, Jog):
            if self._usual_mm is None:
                self._usual_mm = self.step_mm
                smaller = [step for step in question.steps if step <= self.step_mm]
                self.step_mm = max(smaller, default=min(question.steps))
                if self._begins and question.floor:
                    self.step_mm = max(question.steps)
            self._begins = False
            if self.last_axis not in question.axes:
                self.last_axis = question.axes[0]
            self._ahead = {axis: mm for axis, mm in self._ahead.items() if axis in question.axes}
            self._pass_on()

    def _close_question(self) -> None:
        super()._close_question()
        if self.watched is None:
            self._end_of_jogging()

    def _end_of_jogging(self) -> None:
        """After a question the step is what it was before, and never larger than the last one in it."""
        if self._usual_mm is not None:
            self.step_mm = min(self._usual_mm, self.step_mm)
            self._usual_mm = None

    async def _drive(self) -> None:
        try:
            while wanted := next(((a, mm) for a, mm in self._ahead.items() if abs(mm) > 1e-9), None):
                axis, mm = wanted
                self._ahead.pop(axis)
                self.refresh_bindings()
                await jog(self.session.connection, axis, mm, self._jog_speed(axis, JOG_MM_S).mm_s)
                if self.session.connection.state.mode != "ready":
                    break
        except (LinkLost, BoardRefused) as error:
            self.message = (f"✗ Not moved: {error}.", Ink.stop)
        self._ahead.clear()
        self._jogging = False
        self.refresh_state()

    def action_cancel(self) -> None:
        """Stop what moves; a running trial ends."""
        self._ahead.clear()
        if self._jogging:
            self.run_worker(self.session.runner.all_off(), group="stop")
        else:
            super().action_cancel()

    def action_home(self) -> None:
        """Home every axis."""
        self.message = None
        self.watched = TrialWatch(self._ask, self.undone, lambda: self.session.connection.board_time)
        self.refresh_state()
        self.run_worker(self._home(), group="trial", exclusive=True)

    async def _home(self) -> None:
        assert self.watched is not None
        result = (await self.session.home(self.watched)).result
        good = result.outcome == "proven"
        self.message = (f"{'✓' if good else '✗'} {result.why}", Ink.good if good else Ink.stop)
        self.watched = None
        self.refresh_state()

    # typed targets

    def on_key(self, event: Key) -> None:
        """A letter of an axis, or a sign, begins a typed target."""
        if event.key in TYPES_TARGET and not self.panel.typing and self.check_action("target", ()):
            event.stop()
            event.prevent_default()
            self.action_target(event.character or "")

    def action_target(self, begun: str = "") -> None:
        """Open the field for a target."""
        words = Text()
        words.append("Where to\n", f"bold {Ink.text}")
        words.append(EXAMPLES, Ink.dim)
        if self.question is None:
            self.panel.say(words)
        self.panel.open_field(begun, partial(self._target_refusal))

    def _position(self) -> dict[str, float | None]:
        return {axis: self.session.connection.channel(f"axes.{axis}.mm") for axis in ("x", "y", "z")}

    def _target_refusal(self, text: str) -> str | None:
        try:
            targets = parse_targets(text, self.last_axis, self._position(), self.preferences.length_unit)
        except NotAQuantity as error:
            return str(error)
        barred = [target.axis.upper() for target in targets if target.axis not in self._free()]
        return f"{barred[0]} is not to be moved now" if barred else None

    def take_typed(self, text: str) -> None:
        """A target, or parameters."""
        if "=" in text:
            super().take_typed(text)
            return
        self.panel.say(Text())
        self._go(text)

    def _go(self, text: str) -> None:
        for target in parse_targets(text, self.last_axis, self._position(), self.preferences.length_unit):
            self._want(target.axis, target.by_mm, typed=True)
