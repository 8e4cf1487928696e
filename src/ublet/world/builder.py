"""The scripted builder: answers a trial's questions from what it would see, and does what it is asked to do."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Any

import numpy as np

from ublet.core.extrude.pushing import GONE, NONE_LEFT
from ublet.core.level.first_layer import BARE, GOOD, HIGH, LOW, VERDICTS
from ublet.core.level.first_layer_trials import FURTHER, NEARER
from ublet.core.motion.lift_directions import ALL_CLOSED, ALL_OPENED, CLOSED, STOOD, UNCLEAR
from ublet.core.motion.motor_trials import motor_words
from ublet.core.questions import Jog, Judge, Live, Question
from ublet.world.hands import Hands
from ublet.world.laid import Looks
from ublet.world.scenario import Scenario

LEAST_SEEN_MM = 0.3
"""A smaller move of a lift nobody sees, mm."""

READS_TO = 0.1
"""A reading is noted to this share of its instrument's largest error."""

CLEAR_MM = 1.5
"""So far from a hard stop the builder calls it the edge, mm."""

FINE_MM = 0.1

SLACK_MM = 0.6
"""A spring pressed together by less than this looks slack, one that has less left to go looks flat, mm."""

STEP_MARGIN = 1.3
"""A step down is taken while the gap is so many times as wide."""

FINE_DRAG_MM = 0.025
"""A gauge that is felt to be off by less than this drags well enough, mm."""

EYES_OFF = 20.0
"""A gap that is only looked at is judged so many times worse than one that is felt."""

TURN_ERROR = 5 / 360
"""A screw is turned so much too far or not far enough, at most: 5 degrees."""

TURNS_SHARE = 0.1
"""A lead screw turned by hand goes so much too far or not far enough, at most."""

HAND_MM = 0.1
"""A probe pushed up or down in its mount ends so far off at most, mm."""

CREST_SHARE = 0.08
"""The crest of a ripple is seen to this share of it, standard."""

PULL_SHARE = 0.02
"""A belt is tightened so much too far or not far enough, at most."""

NUDGES_S = 3.0
"""Between two nudges some lines are looked at, s."""

LOOKS_S = 0.2
"""Beside something that goes on this builder looks so often, by the loop's clock, s."""


class ScriptedBuilder:
    """Stands in for the person at the machine; eyes and instruments err as the scenario says."""

    def __init__(self, scenario: Scenario, hands: Hands, seed: int = 1) -> None:
        self._scenario = scenario
        self._hands = hands
        self._random = np.random.default_rng([seed, 7])
        self._on_filament: dict[float, float] = {}  # where marks really are, by where they should be, mm
        self._aimed = False  # it was put over the dot already
        self._nudged_at: float | None = None  # the gap that was looked at last
        self._common: dict[str, float] = {}  # the error of each instrument that is the same at every reading

    async def answer(self, question: Question) -> str:
        """The answer that this builder gives."""
        if isinstance(question, Live):
            return await self._use(question)
        seen = self._hands.look()
        match question.cue:
            case ("press", name):
                self._hands.press(name, True)
                return "held" if name in seen["switches"] else "out of reach"
            case ("let go", name):
                self._hands.press(name, False)
            case ("look", "pin"):
                return "yes" if seen["pin_down"] else "no"
            case ("look", "fans"):
                return next((name for name in seen["turning"] if name in question.answers), "none")
            case ("look", "motor"):
                names = [motor_words(f"axes.{role.replace('.', '.motors.')}") for role in seen["turned"] if "." in role]
                names += ["extruder"] if "extruder" in seen["turned"] else []
                return next((name for name in names if name in question.answers), "nothing")
            case ("look", "lifts"):
                saw = _lifts_seen(seen["lift_moves"])
                return saw if saw in question.answers else question.answers[-1]
            case ("look", "direction"):
                return str(seen["moved"])
            case ("feel", *blocks):
                return next((name for name in seen["warm"] if name in blocks), "cannot tell")
            case ("mark", _):
                self._hands.mark()
            case ("mark filament", *marks, instrument):
                return self._mark_filament(question, [float(mark) for mark in marks], instrument)
            case ("left", mark, instrument):
                return self._left(float(mark), instrument)
            case ("measure", place, instrument):
                return self._read(seen["from_mark"][place], instrument)
            case ("gap at", lift, instrument):
                return self._read(seen["lifts"][lift], instrument)
            case ("turn lift", lift, mm):
                off = float(self._random.uniform(-1, 1)) * TURNS_SHARE
                self._hands.do({"do": "turn lift", "of": lift, "by": float(mm) * (1 + off)})
            case ("turn screw", screw, turns):
                off = float(self._random.uniform(-1, 1)) * TURN_ERROR
                self._hands.do({"do": "turn screw", "of": screw, "by": float(turns) + off})
                pressed, most = self._hands.look()["springs"][screw]
                return question.answers[1] if pressed >= most else question.answers[0]
            case ("room", screw, mm):
                return self._make_room(screw, float(mm), seen["gap"], question)
            case ("drag", screw, mm):
                return self._drag(screw, float(mm), seen["gap"], question)
            case ("lower", gauge) if isinstance(question, Jog):
                return self._lower(question, float(gauge), seen["gap"])
            case ("dot",):
                self._hands.do({"do": "dot"})
            case ("aim", what) if isinstance(question, Jog):
                stands = (seen["nozzle"]["x"], seen["nozzle"]["y"]) if what == "nozzle" else seen["probe"]
                return self._aim(question, stands, seen["dot"])
            case ("probe to trigger",):
                self._hands.do({"do": "probe to trigger", "off": abs(self._hand())})
            case ("raise probe", mm):
                self._hands.do({"do": "lower probe", "by": self._hand() - float(mm)})
            case ("stowed gap", instrument):
                return self._read(seen["stowed_gap"], instrument)
            case ("springs",):
                return self._springs(seen["springs"], question)
            case ("ripples", axis, mm_s, count):
                return self._ripples(axis, float(mm_s), int(count), question)
            case ("mount sensor" | "tighten belt", *_):
                self._hands.do(self._at_the_sensor(question.cue))
            case ("load bed", kg):
                self._hands.do({"do": "load bed", "kg": float(kg)})
            case ("clean sheet",):
                self._hands.do({"do": "clean sheet"})
            case ("half springs",):
                self._hands.do({"do": "half springs"})
            case ("fault", kind, heater):
                self._hands.fault(kind, heater)
            case ("bathe", sensor, bath):
                self._hands.bathe(sensor, bath)
            case ("thermometer", sensor):
                true = self._hands.look()["baths"][sensor]
                self._hands.bathe(sensor, "")
                half = self._scenario.builder.thermometer_c
                return f"{true + float(self._random.uniform(-half, half)):.1f}"
            case ("jog", *place) if isinstance(question, Jog):
                return self._jog(question, tuple(place), seen)
        if isinstance(question, Judge):
            return self._judge(question)
        if "wait" in question.answers and not self._scenario.builder.waits:
            return next(answer for answer in question.answers if answer != "wait")
        return question.answers[0]

    async def undo(self, question: Question) -> bool:
        """Do by hand what a trial that was cut off left to be done."""
        await self.answer(question)
        return True

    def _mark_filament(self, question: Question, marks: list[float], instrument: str) -> str:
        """Mark filament, each mark from the one before it; where there is not enough of it, say so."""
        if self._hands.look()["spool"] < max(marks):
            return NONE_LEFT
        self._hands.mark()
        half, off = self._half(instrument), 0.0
        for mark in marks:
            off += float(self._random.uniform(-half, half))
            self._on_filament[mark] = mark + off
        return question.answers[0]

    def _left(self, mark: float, instrument: str) -> str:
        """What is left to a mark on the filament, or that it is gone."""
        seen = self._hands.look()
        left = self._on_filament.get(mark, mark) - seen["from_mark"]["filament"]
        if left > 0:
            return self._read(left, instrument)
        return NONE_LEFT if seen["spool"] <= 0 else GONE

    def _half(self, instrument: str) -> float:
        """Largest error of an instrument that is new at each placing, mm."""
        return float(getattr(self._scenario.builder, f"{instrument.replace('-', '_')}_mm"))

    def _read(self, truth_mm: float, instrument: str) -> str:
        """A length as it is read: off by what is new at each placing and by what is the same every time."""
        half, named = self._half(instrument), instrument.replace("-", "_")
        common = float(getattr(self._scenario.builder, f"{named}_common_mm"))
        if instrument not in self._common:
            self._common[instrument] = float(self._random.uniform(-common, common))
        read = truth_mm + self._common[instrument] + float(self._random.uniform(-half, half))
        return f"{round(read / (READS_TO * half)) * READS_TO * half if half else read:.4f}"

    async def _use(self, controls: Live) -> str:
        """Look again and again beside what goes on; use a control when the cue's sight asks for it, else let it be."""
        bold = self._scenario.builder.bold_to_mm_s
        if controls.cue[:2] == ("watch", "first layer"):
            return await self._nudge(float(controls.cue[2]))
        if controls.cue == ("nearer",):
            await asyncio.sleep(LOOKS_S)
            return next(iter(controls.controls or {}))  # it was nudged because lines lay apart
        if controls.cue != ("watch", "speed") or not bold:
            return str(await asyncio.get_running_loop().create_future())  # nothing to look out for
        loop = asyncio.get_running_loop()
        before, before_s = self._hands.look()["nozzle"], loop.time()
        while True:
            await asyncio.sleep(LOOKS_S)
            here, now_s = self._hands.look()["nozzle"], loop.time()
            passed = max(now_s - before_s, LOOKS_S)
            fastest = max((abs(here[axis] - before[axis]) / passed for axis in here), default=0.0)
            before, before_s = here, now_s
            if fastest > bold:
                return controls.answers[0]

    async def _nudge(self, spacing_mm: float) -> str:
        """Look at the lines that are laid until they look wrong; which nudge they ask for."""
        part = self._scenario.builder
        while True:
            await asyncio.sleep(NUDGES_S)
            looks = self._hands.latest(spacing_mm)
            if looks is None or looks.gap_mm == self._nudged_at:
                continue  # nothing new was laid
            self._nudged_at = looks.gap_mm
            seen = looks.error_mm + float(self._random.uniform(-part.layer_eye_mm, part.layer_eye_mm))
            if abs(seen) > part.layer_good_mm + part.layer_eye_mm / 2:
                way = NEARER if seen > 0 else FURTHER
                return next((word for word, mm in way.items() if abs(mm) <= abs(seen)), list(way)[-1])

    def _make_room(self, screw: str, mm: float, gap: float, question: Question) -> str:
        """Look whether there is about as much room as there should be; lower the corner where there is far less."""
        if gap > mm / 2:
            return question.answers[0]
        self._hands.do({"do": "adjust screw", "of": screw, "to": mm + self._feels() * EYES_OFF})
        return question.answers[1]

    def _lower(self, question: Jog, mm: float, gap: float) -> str:
        """The next step down, the smaller the nearer; until the gauge drags."""
        left = gap - mm - self._feels()
        if left <= 0:
            return question.answers[0]
        step = next((each for each in question.steps if left > STEP_MARGIN * each), question.steps[-1])
        return f"z-{step:g}"

    def _aim(self, question: Jog, stands: tuple[float, float], dot: tuple[float, float]) -> str:
        """Towards the dot in one go; it then looks right, and the eye is off by what it was off by."""
        if self._aimed:
            self._aimed = False
            return question.answers[0]
        self._aimed, half = True, self._scenario.builder.dot_mm
        x, y = (d - s + float(self._random.uniform(-half, half)) for s, d in zip(stands, dot, strict=True))
        return f"x{x:+.2f} y{y:+.2f}"

    def _drag(self, screw: str, mm: float, gap: float, question: Question) -> str:
        """Feel the gauge; turn the screw where it does not just drag."""
        if abs(gap - mm + self._feels()) <= FINE_DRAG_MM:
            return question.answers[0]
        self._hands.do({"do": "adjust screw", "of": screw, "to": mm + self._feels()})
        return question.answers[1]

    def _feels(self) -> float:
        """How far off the drag of a gauge is felt, mm."""
        half = self._scenario.builder.gauge_mm
        return float(self._random.uniform(-half, half))

    def _hand(self) -> float:
        """How far off a probe is put that is pushed in its mount, mm."""
        return float(self._random.uniform(-HAND_MM, HAND_MM))

    def _springs(self, pressed: Mapping[str, tuple[float, float]], question: Question) -> str:
        """How the springs look."""
        slack = any(now < SLACK_MM for now, _ in pressed.values())
        flat = any(now > most - SLACK_MM for now, most in pressed.values())
        looks = "slack one" if slack else "flat one" if flat else "about half"
        return looks if looks in question.answers else question.answers[0]

    def _judge(self, question: Judge) -> str:
        """A verdict for each place: the first, which is the usual, where this world has nothing to see of it."""
        if question.cue[:1] == ("patches",):
            spacing = float(question.cue[1])
            return question.taken(" ".join(self._feel(self._hands.patch(each, spacing)) for each in question.cue[2:]))
        return question.taken(",".join([question.verdicts[0]] * question.places))

    def _feel(self, looks: Looks | None) -> str:
        """The number of what a finger says of a patch."""
        if looks is None:
            return str(VERDICTS.index(BARE) + 1)
        part = self._scenario.builder
        felt = looks.error_mm + float(self._random.uniform(-part.finger_mm, part.finger_mm))
        verdict = GOOD if abs(felt) <= part.layer_good_mm else HIGH if felt > 0 else LOW
        return str(VERDICTS.index(verdict) + 1)

    def _ripples(self, axis: str, mm_s: float, count: int, question: Question) -> str:
        """Measure over ripples on a wall; their crests are placed by eye, at both ends."""
        hz = self._hands.rings(axis)
        if hz is None:
            return question.answers[0]
        one = mm_s / hz
        seen = sum(float(self._random.normal(0, CREST_SHARE * one)) for _ in range(2))
        return self._read(count * one + seen, "callipers")

    def _at_the_sensor(self, cue: tuple[str, ...]) -> dict[str, Any]:
        """What is done to the sensor's place, or to a belt; that is pulled a little too much or too little."""
        if cue[0] == "mount sensor":
            return {"do": cue[0], "of": cue[1]}
        off = 1 + float(self._random.uniform(-1, 1)) * PULL_SHARE
        return {"do": cue[0], "of": cue[1], "by": float(cue[2]) * off}

    def _jog(self, question: Jog, place: tuple[str, ...], seen: Mapping[str, Any]) -> str:
        """The next step towards the bed's corner, or towards an edge; ``here`` when the eye sees no way left."""
        eye = self._scenario.builder.eye_mm
        for axis in question.axes:
            if place == ("corner",):
                left = -seen["nozzle"][axis]
            else:
                low, high = seen["room"][axis]
                left = CLEAR_MM - low if place[1] == "low" else high - CLEAR_MM
            if abs(left) > eye:
                judged = left + float(self._random.uniform(-eye, eye))
                return f"{axis}{round(judged / FINE_MM) * FINE_MM:+.2f}"
        return question.answers[0]


def _lifts_seen(moves: Mapping[str, float]) -> str:
    """What is seen of lifts that were to open their gap together."""
    stood = [name for name, mm in moves.items() if abs(mm) < LEAST_SEEN_MM]
    closed = [name for name, mm in moves.items() if mm <= -LEAST_SEEN_MM]
    if not stood and not closed:
        return ALL_OPENED
    if len(closed) == len(moves):
        return ALL_CLOSED
    if len(stood) + len(closed) > 1:
        return UNCLEAR
    return f"{closed[0]} {CLOSED}" if closed else f"{stood[0]} {STOOD}"
