"""The scripted builder: answers a trial's questions from what it would see, and does what it is asked to do."""

from __future__ import annotations

import asyncio
import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import assert_never

import numpy as np

from ublet.core.acts import (
    AdjustScrew,
    BatheSensor,
    CleanSheet,
    ClearWay,
    LoadBed,
    LoadSpool,
    LowerProbeToTrigger,
    MakeFault,
    MarkDot,
    MarkFilament,
    MarkPlace,
    MountSensor,
    PressSwitch,
    RaiseProbe,
    ReleaseSwitch,
    SetHalfSprings,
    TightenBelt,
    TurnLift,
    TurnScrew,
)
from ublet.core.extrude.pushing import GONE, NONE_LEFT
from ublet.core.level.mesh.first_layer import BARE, GOOD, HIGH, LOW, VERDICTS
from ublet.core.level.mesh.first_layer_trials import FURTHER, NEARER
from ublet.core.motion.lift_directions import ALL_CLOSED, ALL_OPENED, CLOSED, STOOD, UNCLEAR
from ublet.core.motion.measuring import Instrument
from ublet.core.motion.motor_trials import motor_words
from ublet.core.observations import (
    BULGE_MM,
    EVEN_MM,
    GAP_FRACTION,
    GHOST_MM,
    HOLE_FRACTION,
    LEAST_SEEN_MM,
    RAGGED_MM,
    SHIFT_MM,
    STRING_MM,
    TOUCHES_MM,
    AimAtDot,
    AimAtScrew,
    CheckFilament,
    ComparePair,
    ConfirmNearer,
    DragGauge,
    FeelBlocks,
    FreeAgain,
    JogToCorner,
    JogToEdge,
    JudgePatches,
    JudgePosts,
    LookAround,
    LookAtDirection,
    LookAtFans,
    LookAtLifts,
    LookAtMotors,
    LookAtPiece,
    LookAtPin,
    LookAtSprings,
    LowerOntoGauge,
    MakeRoom,
    PieceLooks,
    ReadBesideScrew,
    ReadFilament,
    ReadGap,
    ReadLines,
    ReadLineWidth,
    ReadPiece,
    ReadRipples,
    ReadStowedGap,
    ReadThermometer,
    ReadTower,
    ReadTravel,
    SettleOnPick,
    WatchClearance,
    WatchFirstLayer,
    WatchProgram,
    WatchSpeed,
    beside_screw_mm,
    post_words,
    room_mm,
)
from ublet.core.questions import Jog, Judge, Live, Pick, Question
from ublet.world.eye import ALL_BULGE, Eye
from ublet.world.hands import Hands
from ublet.world.laid import Looks
from ublet.world.scenario import Scenario

READS_TO = 0.1
"""A reading is noted to this share of its instrument's largest error."""

CLEAR_MM = 1.5
"""Distance from a hard stop that the builder calls the edge, mm."""

FINE_MM = 0.1
MOST_JOGS = 4
"""Jogs without coming nearer after which an axis is given up."""

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

TURNS_FRACTION = 0.1
"""A lead screw turned by hand goes so much too far or not far enough, at most."""

PLACED_MM = 0.5
"""Standard error of where callipers are put along a line, mm."""

HAND_MM = 0.1
"""A probe pushed up or down in its mount ends so far off at most, mm."""

CREST_FRACTION = 0.08
"""The crest of a ripple is seen to this share of it, standard."""

PULL_FRACTION = 0.02
"""A belt is tightened so much too far or not far enough, at most."""

NUDGES_S = 3.0
"""Between two nudges some lines are looked at, s."""

LOADS_S = 20.0
"""Duration of loading new filament, by the loop's clock, s."""

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
        self._eye = Eye(scenario.builder.width_eye_mm, self._random)
        self._jogged: dict[tuple[str, str], tuple[float, int]] = {}  # nearest that an axis came, mm; jogs since then
        self._nudged_at: float | None = None  # the gap that was looked at last
        self._common: dict[str, float] = {}  # the error of each instrument that is the same at every reading

    async def answer(self, question: Question) -> str:
        """The answer that this builder gives."""
        if isinstance(question, Live):
            return await self._use(question)
        hands, cue = self._hands, question.cue
        seen = hands.look()
        match cue:
            case None:
                pass
            case PressSwitch(name):
                hands.perform(cue)
                return "held" if name in seen.switches else "out of reach"
            case TurnLift(_, mm):
                off = float(self._random.uniform(-1, 1)) * TURNS_FRACTION
                hands.perform(replace(cue, mm=mm * (1 + off)))
            case TurnScrew(screw, turns):
                off = float(self._random.uniform(-1, 1)) * TURN_ERROR
                pressed, most = hands.perform(replace(cue, turns=turns + off)).springs_mm[screw]
                return question.answers[1] if pressed >= most else question.answers[0]
            case MarkFilament(marks_mm, instrument):
                return self._mark_filament(question, marks_mm, instrument)
            case LowerProbeToTrigger():
                hands.perform(LowerProbeToTrigger(abs(self._hand())))
            case RaiseProbe(mm):
                hands.perform(RaiseProbe(mm - self._hand()))
            case TightenBelt(_, ratio):
                off = 1 + float(self._random.uniform(-1, 1)) * PULL_FRACTION
                hands.perform(replace(cue, ratio=ratio * off))
            case (
                ReleaseSwitch()
                | MarkPlace()
                | MarkDot()
                | MountSensor()
                | LoadBed()
                | CleanSheet()
                | LoadSpool()
                | ClearWay()
                | SetHalfSprings()
                | AdjustScrew()
                | MakeFault()
                | BatheSensor()
            ):
                hands.perform(cue)
            case LookAtPin():
                return "yes" if seen.pin_down else "no"
            case LookAtFans():
                return next((name for name in seen.turning if name in question.answers), "none")
            case LookAtMotors():
                names = [motor_words(f"axes.{role.replace('.', '.motors.')}") for role in seen.turned if "." in role]
                names += ["extruder"] if "extruder" in seen.turned else []
                return next((name for name in names if name in question.answers), "nothing")
            case LookAtLifts():
                saw = _lifts_seen(seen.lift_moves_mm)
                return saw if saw in question.answers else question.answers[-1]
            case LookAtDirection():
                return seen.moved
            case FeelBlocks(blocks):
                return next((name for name in seen.warm if name in blocks), "cannot tell")
            case ReadFilament(mark_mm, instrument):
                return self._left(mark_mm, instrument)
            case ReadTravel(place, instrument):
                return self._read(seen.from_mark_mm[place], instrument)
            case ReadGap(lift, instrument):
                return self._read(seen.lifts_mm[lift], instrument)
            case ReadStowedGap(instrument):
                return self._read(seen.stowed_gap_mm, instrument)
            case ReadThermometer(sensor):
                hands.perform(BatheSensor(sensor))
                half = self._scenario.builder.thermometer_c
                return f"{seen.baths_c[sensor] + float(self._random.uniform(-half, half)):.1f}"
            case ReadRipples():
                return self._ripples(cue, question)
            case MakeRoom():
                return self._make_room(cue, seen.gap_mm, question)
            case DragGauge():
                return self._drag(cue, seen.gap_mm, question)
            case LookAtSprings():
                return self._springs(seen.springs_mm, question)
            case LowerOntoGauge(gauge_mm) if isinstance(question, Jog):
                return self._lower(question, gauge_mm, seen.gap_mm)
            case AimAtDot(part) if isinstance(question, Jog):
                nozzle = (seen.nozzle_mm["x"], seen.nozzle_mm["y"])
                return self._aim(question, nozzle if part == "nozzle" else seen.probe_mm or nozzle, seen.dot_mm)
            case AimAtScrew(screw) if isinstance(question, Jog):
                return self._jog(question, beside_screw_mm(seen, screw))
            case ReadBesideScrew(screw, axis, instrument):
                return self._read(beside_screw_mm(seen, screw)[axis], instrument)
            case FreeAgain(axis, end) if isinstance(question, Jog):
                return self._free(question, axis, room_mm(seen, axis, end), 1 if end == "low" else -1)
            case JogToCorner(axes) if isinstance(question, Jog):
                return self._jog(question, {axis: -seen.nozzle_mm[axis] for axis in axes})
            case JogToEdge(axis, end) if isinstance(question, Jog):
                low, high = seen.room_mm[axis]
                return self._jog(question, {axis: CLEAR_MM - low if end == "low" else high - CLEAR_MM})
            case JudgePatches() if isinstance(question, Judge):
                return self._judge(cue, question)
            case ReadLines() | ReadTower() if isinstance(question, Pick):
                return self._pick(hands.observe(cue).felt_mm, question)
            case SettleOnPick(looks):
                return question.answers[1 if looks < self._scenario.builder.looks else 0]
            case ReadLineWidth(line, place):
                off = float(self._random.normal(0.0, PLACED_MM))
                felt = hands.observe(ReadLineWidth(line, replace(place, mm=place.mm + off))).felt_mm[0]
                return f"{max(0.0, float(self._read(felt or 0.0, 'callipers'))):.4f}"  # a bare line: nothing
            case JudgePosts() if isinstance(question, Judge):
                return self._posts(hands.observe(cue).felt_mm, question)
            case ReadPiece():
                felt = hands.observe(cue).felt_mm[0]
                return self._read(felt if felt is not None else cue.size_mm, "callipers")
            case LookAtPiece() if isinstance(question, Judge):
                return self._walls(hands.observe(cue).felt_mm, question)
            case ComparePair():
                old, new = (self._eye.seen(mm or 0.0) for mm in hands.observe(cue).felt_mm)
                return question.answers[2 if abs(abs(old) - abs(new)) < EVEN_MM / 2 else int(abs(old) < abs(new))]
            case (
                LookAround()
                | CheckFilament()
                | ReadLines()
                | ReadTower()
                | LookAtPiece()
                | JudgePosts()
                | LowerOntoGauge()
                | AimAtDot()
                | AimAtScrew()
                | JogToCorner()
                | JogToEdge()
                | JudgePatches()
                | WatchClearance()
                | FreeAgain()
                | WatchSpeed()
                | WatchProgram()
                | WatchFirstLayer()
                | ConfirmNearer()
                | SettleOnPick()
            ):
                pass  # there is nothing to be done for it besides the usual answer
            case _:
                assert_never(cue)
        if isinstance(question, Judge):  # nothing that it asks about is simulated
            return question.taken(",".join([question.verdicts[0]] * question.places))
        if "wait" in question.answers and not self._scenario.builder.waits:
            return next(answer for answer in question.answers if answer != "wait")
        return question.answers[0]

    async def undo(self, question: Question) -> bool:
        """Do by hand what a trial that was cut off left to be done."""
        await self.answer(question)
        return True

    def _mark_filament(self, question: Question, marks: tuple[float, ...], instrument: Instrument) -> str:
        """Mark filament, each mark from the one before it; where there is not enough of it, say so."""
        if self._hands.look().spool_mm < max(marks):
            return NONE_LEFT
        self._hands.perform(MarkFilament(marks, instrument))
        half, off = self._half(instrument), 0.0
        for mark in marks:
            off += float(self._random.uniform(-half, half))
            self._on_filament[mark] = mark + off
        return question.answers[0]

    def _left(self, mark: float, instrument: Instrument) -> str:
        """What is left to a mark on the filament, or that it is gone."""
        seen = self._hands.look()
        left = self._on_filament.get(mark, mark) - seen.from_mark_mm["filament"]
        if left > 0:
            return self._read(left, instrument)
        return NONE_LEFT if seen.spool_mm <= 0 else GONE

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
        for word, act in controls.acts.items():
            if isinstance(act, LoadSpool):
                await asyncio.sleep(LOADS_S)
                self._hands.perform(act)
                return word
        bold = self._scenario.builder.bold_to_mm_s
        if isinstance(controls.cue, WatchFirstLayer):
            return await self._nudge(controls, controls.cue.width_mm)
        if isinstance(controls.cue, WatchClearance):
            return await self._watch_clearance(controls.cue, controls.answers[0])
        if isinstance(controls.cue, ConfirmNearer):
            await asyncio.sleep(LOOKS_S)
            return next(iter(controls.controls or {}))  # it was nudged because lines lay apart
        if not isinstance(controls.cue, WatchSpeed) or not bold:
            return str(await asyncio.get_running_loop().create_future())  # nothing to look out for
        loop = asyncio.get_running_loop()
        before, before_s = self._hands.look().nozzle_mm, loop.time()
        while True:
            await asyncio.sleep(LOOKS_S)
            here, now_s = self._hands.look().nozzle_mm, loop.time()
            passed = max(now_s - before_s, LOOKS_S)
            fastest = max((abs(here[axis] - before[axis]) / passed for axis in here), default=0.0)
            before, before_s = here, now_s
            if fastest > bold:
                return controls.answers[0]

    async def _nudge(self, controls: Live, spacing_mm: float) -> str:
        """Look at the lines that are laid until they look wrong; which nudge, or which screw, they ask for."""
        part = self._scenario.builder
        while True:
            await asyncio.sleep(NUDGES_S)
            looks = self._hands.latest(spacing_mm)
            if looks is None or looks.gap_mm == self._nudged_at:
                continue  # nothing new was laid
            self._nudged_at = looks.gap_mm
            seen = looks.error_mm + float(self._random.uniform(-part.layer_eye_mm, part.layer_eye_mm))
            if abs(seen) > part.layer_good_mm + part.layer_eye_mm / 2:
                if part.trams and (turned := self._turn_here(controls, raises=seen > 0)):
                    return turned
                direction = NEARER if seen > 0 else FURTHER
                return next((word for word, mm in direction.items() if abs(mm) <= abs(seen)), list(direction)[-1])

    async def _watch_clearance(self, cue: WatchClearance, stop: str) -> str:
        """Look until something touches, then press a key a moment later."""
        while True:
            await asyncio.sleep(LOOKS_S)
            if room_mm(self._hands.look(), cue.axis, cue.end) <= TOUCHES_MM:
                return stop

    def _free(self, question: Jog, axis: str, left_mm: float, back: int) -> str:
        """A step back while it still touches; else it is free."""
        return question.answers[0] if left_mm > TOUCHES_MM else f"{axis}{back * question.steps[-1]:+g}"

    def _turn_here(self, controls: Live, raises: bool) -> str:
        """Turn the screw that the nozzle prints over, if it prints near one, and enter it; else nothing."""
        seen = self._hands.look()
        here = (seen.nozzle_mm["x"], seen.nozzle_mm["y"])
        middle = np.mean(list(seen.screws_mm.values()), axis=0)
        nearest = min(seen.screws_mm, key=lambda name: math.dist(here, seen.screws_mm[name]))
        if math.dist(here, seen.screws_mm[nearest]) > math.dist(here, (float(middle[0]), float(middle[1]))):
            return ""
        way = "raises" if raises else "lowers"
        for word, act in controls.acts.items():
            if isinstance(act, TurnScrew) and act.screw == nearest and way in (controls.controls or {})[word]:
                self._hands.perform(replace(act, turns=act.turns + float(self._random.uniform(-1, 1)) * TURN_ERROR))
                return word
        return ""

    def _make_room(self, room: MakeRoom, gap: float, question: Question) -> str:
        """Look whether there is about as much room as there should be; lower the corner where there is far less."""
        if gap > room.gap_mm / 2:
            return question.answers[0]
        self._hands.perform(AdjustScrew(room.screw, room.gap_mm + self._feels() * EYES_OFF))
        return question.answers[1]

    def _lower(self, question: Jog, mm: float, gap: float) -> str:
        """The next step down, the smaller the nearer; until the gauge drags."""
        left = gap - mm - self._feels()
        if left <= 0:
            return question.answers[0]
        step = next((step for step in question.steps if left > STEP_MARGIN * step), question.steps[-1])
        return f"z-{step:g}"

    def _aim(self, question: Jog, stands: tuple[float, float], dot: tuple[float, float]) -> str:
        """Towards the dot in one go; it then looks right, and the eye is off by what it was off by."""
        if self._aimed:
            self._aimed = False
            return question.answers[0]
        self._aimed, half = True, self._scenario.builder.dot_mm
        x, y = (d - s + float(self._random.uniform(-half, half)) for s, d in zip(stands, dot, strict=True))
        return f"x{x:+.2f} y{y:+.2f}"

    def _drag(self, drag: DragGauge, gap: float, question: Question) -> str:
        """Feel the gauge; turn the screw where it does not just drag."""
        if abs(gap - drag.gauge_mm + self._feels()) <= FINE_DRAG_MM:
            return question.answers[0]
        self._hands.perform(AdjustScrew(drag.screw, drag.gauge_mm + self._feels()))
        return question.answers[1]

    def _pick(self, felt_mm: Sequence[float | None], question: Pick) -> str:
        """The lines that look even; where all bulge or all are thin, that."""
        even = self._eye.even(felt_mm)
        if isinstance(even, str):
            return question.answers[1 if even == ALL_BULGE else 0]
        low, high = even
        return f"{low + 1}" if low == high else f"{low + 1}-{high + 1}"

    def _posts(self, felt: Sequence[float | None], question: Judge) -> str:
        """A verdict for each pair of posts; what oozed and what is lacking is seen to a fifth."""
        numbers = []
        for oozed, lacks in zip(felt[::2], felt[1::2], strict=True):
            seen = [
                (mm or 0.0) + float(self._random.normal(0.0, least / 5))
                for mm, least in ((oozed, STRING_MM), (lacks, GAP_FRACTION))
            ]
            numbers.append(str(question.verdicts.index(post_words(*seen)) + 1))
        return question.taken(" ".join(numbers))

    def _walls(self, felt: Sequence[float | None], question: Judge) -> str:
        """Whether a printed piece has each of the looks that are asked about; what is little is seen to a fifth."""
        least = PieceLooks(GHOST_MM, BULGE_MM, SHIFT_MM, HOLE_FRACTION, RAGGED_MM)
        seen = [(mm or 0.0) + float(self._random.normal(0.0, of / 5)) for mm, of in zip(felt, least, strict=False)]
        words = PieceLooks(*seen).words if len(seen) == len(least) else []
        return question.taken(" ".join("2" if name in words else "1" for name in question.names))

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

    def _judge(self, asked: JudgePatches, question: Judge) -> str:
        """A verdict for each patch."""
        felt = (self._feel(self._hands.patch(patch, asked.width_mm)) for patch in asked.patches)
        return question.taken(" ".join(felt))

    def _feel(self, looks: Looks | None) -> str:
        """The number of what a finger says of a patch."""
        if looks is None:
            return str(VERDICTS.index(BARE) + 1)
        part = self._scenario.builder
        felt = looks.error_mm + float(self._random.uniform(-part.finger_mm, part.finger_mm))
        verdict = GOOD if abs(felt) <= part.layer_good_mm else HIGH if felt > 0 else LOW
        return str(VERDICTS.index(verdict) + 1)

    def _ripples(self, asked: ReadRipples, question: Question) -> str:
        """Measure over ripples on a wall; their crests are placed by eye, at both ends."""
        hz = self._hands.rings(asked.axis)
        if hz is None:
            return question.answers[0]
        one = asked.speed_mm_s / hz
        seen = sum(float(self._random.normal(0, CREST_FRACTION * one)) for _ in range(2))
        return self._read(asked.count * one + seen, "callipers")

    def _jog(self, question: Jog, left_mm: Mapping[str, float]) -> str:
        """The next step along an axis that has some way left; the first answer when the eye sees none, the last when
        an axis does not come, however often it is jogged.
        """
        eye = self._scenario.builder.eye_mm
        for axis, left in left_mm.items():
            if abs(left) > eye:
                before, tries = self._jogged.get((question.text, axis), (math.inf, 0))
                tries = 0 if abs(left) < before - eye else tries + 1
                self._jogged[question.text, axis] = min(before, abs(left)), tries
                if tries > MOST_JOGS:
                    self._jogged.clear()
                    return question.answers[-1]
                judged = left + float(self._random.uniform(-eye, eye))
                return f"{axis}{round(judged / FINE_MM) * FINE_MM:+.2f}"
        self._jogged.clear()
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
