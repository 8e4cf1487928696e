"""Hands that press switches, eyes that see what turns: a person at the machine.

Every act of ``core/acts.py`` and every observation of ``core/observations.py`` is done here and nowhere else. They are
no part of the link: a real machine stands on the bench. The demonstration reaches them over a Unix socket, a line for
each.
"""

from __future__ import annotations

import asyncio
import contextlib
import math
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import assert_never

from ublet.core.acts import (
    Act,
    AdjustScrew,
    BatheSensor,
    CleanSheet,
    ClearWay,
    FaultKind,
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
    Seen,
    SetHalfSprings,
    TightenBelt,
    TurnLift,
    TurnScrew,
)
from ublet.core.acts_json import decoded, is_act, is_observation, seen_as_json
from ublet.core.observations import (
    DIAGONALS,
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
    LineArea,
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
    Observation,
    PatchArea,
    PostArea,
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
)
from ublet.core.settings import Value
from ublet.world.frame import OVER_THE_BED
from ublet.world.laid import NEAR_MM, Laid, Looks
from ublet.world.mechanics import seen
from ublet.world.piece import Impulses, PrintedBox, ghost_mm
from ublet.world.world import World

BATHS_C = {"ice water": 0.4, "warm water": 41.0, "boiling water": 99.4, "hot water": 74.0}
"""How warm the baths are that a builder has at hand, °C."""

COLD_C = 1.0
ADJUSTS = 6
"""Turns back and forth until a screw is where it should be."""

JUST_MM = 0.05
"""How far hands push a probe past its first trigger before they stop, mm."""

LATEST_MM = 30.0
"""Length of the newest lines that is looked at while they are laid, mm."""

LEAST_MM = 0.3
"""Less than this nobody sees, mm."""

ON_LINE_MM = 0.05
"""Least height above the first layer of what is laid on a line below, mm."""

JAWS_MM = 3.0
"""Length of a line on which the jaws of callipers rest, mm."""

BESIDE_MM = 1.0
"""Half-width of the strip in which a wall is looked for, and the part beside a corner that is not judged, mm."""

WARM_C = 6.0
"""Temperature above the room that a finger feels, °C."""

PRINTED = ReadLines | ReadTower | ReadLineWidth | ComparePair | JudgePosts | ReadPiece | LookAtPiece
"""What asks about a print that lies there."""


class Hands:
    """What a person at the machine does and notices.

    labels: the settings by which whoever plugged it all named things; lamp: the board's mode, as its lamp shows it;
    impulses: what the steps of an axis are spread over.
    """

    def __init__(
        self,
        world: World,
        labels: Callable[[], Mapping[str, Value]],
        lamp: Callable[[], str],
        impulses: Callable[[str], Impulses],
    ) -> None:
        self._world = world
        self._labels, self._lamp, self._impulses = labels, lamp, impulses
        self._marked: dict[str, float] = {}
        self._dot = (0.0, 0.0)
        self._printed: tuple[int, dict[Observation, tuple[float | None, ...]]] = (-1, {})
        self.mark()

    def press(self, name: str, down: bool) -> None:
        """Press a switch or let it go; one that is not there is left alone."""
        if name in self._world.switches:
            self._world.press(name, down)

    def mark(self) -> None:
        """Put a mark where everything stands now; lengths are read from there."""
        self._marked = self._places()

    def _bathe(self, sensor: str, place: str) -> None:
        """Put a sensor, by its name on the board, into a bath; an unknown place takes it out."""
        socket = self._label(f"sensors.{sensor}.socket")
        self._world.baths.pop(socket, None)
        if place in BATHS_C:
            self._world.baths[socket] = BATHS_C[place]

    def _fault(self, kind: FaultKind, heater: str) -> None:
        """Make a fault at a heater, by its name on the board, or put it right again."""
        world = self._world
        plant = world.scenario.heaters.get(self._label(f"heaters.{heater}.socket"), "")
        socket = self._label(f"sensors.{self._label(f'heaters.{heater}.sensor')}.socket")
        if kind in ("sensor-out", "sensor-short", "sensor-back") and socket in world.adcs:
            world.adcs[socket].fault = {"sensor-out": "open", "sensor-short": "short"}.get(kind)
        elif kind == "cartridge-out":
            world.dead_heaters.add(plant)
        elif kind == "stuck":
            world.stuck_heaters.add(plant)
        elif kind == "chill" and plant in world.plants:
            world.plants[plant].put_at(COLD_C)
        elif kind == "warm-up" and plant in world.plants:
            world.plants[plant].put_at(world.ambient_c)
        world.dead_heaters -= {plant} if kind == "cartridge-back" else set()
        world.stuck_heaters -= {plant} if kind == "power-off" else set()

    def patch(self, area: PatchArea, spacing_mm: float) -> Looks | None:
        """How a patch looks whose lines are this far apart, mm."""
        return self._world.laid.patch(area.x, area.y, area.wide, area.deep, spacing_mm)

    def rings(self, axis: str) -> float | None:
        """How fast ripples follow one another that an axis makes in a print, 1/s: nozzle against bed, damped."""
        bed = self._world.bed
        where = {"x": bed.width / 2, "y": bed.depth / 2}
        response = self._world.frame.rings({axis: 1.0}, {axis: 1.0}, OVER_THE_BED, where)
        return response[0].frequency_hz * (1 - response[0].damping_ratio ** 2) ** 0.5 if response else None

    def _uneven(self, line: LineArea, look_mm: float) -> float | None:
        """How much wider a line is behind the place where it slows down than before, and thinner behind the one where
        it speeds up: the mean of both, mm.
        """
        _, fast, slowed, _ = line.x
        begins = (fast - look_mm - BESIDE_MM, fast, slowed - look_mm, slowed)
        widths = [mm for x in begins if (mm := self._width(line, x, look_mm)) is not None]
        if len(widths) < len(begins):
            return None
        before, early, late, after = widths
        return _uneven_mm(before, early, late, after)

    def _tower(self, tower: ReadTower) -> tuple[float | None, ...]:
        """How uneven a tower's corners are, band by band: as a line's changes of speed, both times round, mm."""
        (left, right), (front, back), look = tower.x, tower.y, tower.look_mm
        middle, mean = (left + right) / 2, self._world.laid.mean_width

        def inward(corner: float, towards: float) -> tuple[float, float]:
            sign = 1 if towards > corner else -1
            return corner + sign * BESIDE_MM, corner + sign * look

        values: list[float | None] = []
        for band in tower.bands:
            z, ways = (band.low_mm, band.high_mm), []
            for slow_y, fast_x, begins_y in ((back, right, front), (front, left, back)):
                on_slow, on_fast = ((at - BESIDE_MM, at + BESIDE_MM) for at in (slow_y, fast_x))
                widths = (
                    mean(inward(fast_x, middle), on_slow, z),  # slowed down just now
                    mean(inward(left, middle), (back - BESIDE_MM, back + BESIDE_MM), z),  # slow for long
                    mean(on_fast, inward(slow_y, begins_y), z),
                    mean(on_fast, inward(begins_y, slow_y), z),  # sped up just now
                )
                if None not in widths:
                    after, slow, late, early = (mm or 0.0 for mm in widths)
                    ways.append(_uneven_mm(slow, early, late, after))
            values.append(sum(ways) / len(ways) if ways else None)
        return tuple(values)

    def _mean_uneven(self, lines: tuple[LineArea, ...], look_mm: float) -> float | None:
        values = [mm for line in lines if (mm := self._uneven(line, look_mm)) is not None]
        return sum(values) / len(values) if values else None

    def _width(self, line: LineArea, begins: float, length_mm: float) -> float | None:
        """How wide a line is from a place along X on, over a length, mm."""
        beside = (line.y - NEAR_MM, line.y + NEAR_MM)
        return self._world.laid.mean_width((begins, begins + length_mm), beside, (ON_LINE_MM, math.inf))

    def _piece(self, what: str, size_mm: float) -> float | None:
        """A length of the cube as it cooled: as far as the axes really went on their frame, and shrunk."""
        printed = self._world.scenario.printed
        try:
            box = PrintedBox(self._world.laid, size_mm).lengths(math.tan(math.radians(printed.skew_deg)))
        except LookupError:
            return None
        lengths = dict(zip(("x", "y", "z", *DIAGONALS), box, strict=True))
        return lengths[what] * (1 - printed.shrinks_percent / 100)

    def _looks_of_piece(self, piece: LookAtPiece) -> tuple[float, ...]:
        """What its walls look like; nothing where nothing is printed."""
        world, bed = self._world, self._world.bed
        try:
            box = PrintedBox(world.laid, piece.size_mm)
        except LookupError:
            return ()
        impulses = {axis: self._impulses(axis) for axis in ("x", "y")}
        where = {"x": bed.width / 2, "y": bed.depth / 2}
        return box.looks(ghost_mm(world.frame, where, world.laid.corners, impulses), piece.width_mm, piece.layer_mm)

    def latest(self, spacing_mm: float) -> Looks | None:
        """How the lines look that are laid just now."""
        return self._world.laid.latest(LATEST_MM, spacing_mm)

    def perform(self, act: Act) -> Seen:
        """Do it, and look."""
        world = self._world
        match act:
            case PressSwitch(name):
                self.press(name, True)
            case ReleaseSwitch(name):
                self.press(name, False)
            case MarkPlace() | MarkFilament():
                self.mark()
            case MakeFault(kind, heater):
                self._fault(kind, heater)
            case BatheSensor(sensor, bath):
                self._bathe(sensor, bath)
            case TurnLift(lift, mm):
                world.bed.turn_lift(lift, mm)
            case TurnScrew(screw, turns):
                world.bed.turn_screw(screw, turns)
            case AdjustScrew(screw, gap_mm):
                self._adjust(screw, gap_mm)
            case SetHalfSprings():
                world.bed.half_springs()
            case MarkDot():
                self._dot = (world.mechanics.where["x"], world.mechanics.where["y"])
            case RaiseProbe(mm):
                self._lower_probe(-mm)
            case LowerProbeToTrigger(beyond_mm):
                self._probe_to_trigger(beyond_mm)
            case CleanSheet():
                world.laid.forget()
            case MountSensor(part):
                if world.accelerometer is not None:
                    world.accelerometer.on = part
            case LoadSpool():
                world.new_spool()
            case ClearWay(axis, end):
                world.mechanics.clear(axis, end)
            case TightenBelt(axis, ratio):
                world.frame.tighten(axis, ratio)
            case LoadBed(kg):
                world.frame.lay(kg)
            case _:
                assert_never(act)
        return self.look()

    def observe(self, observation: Observation) -> Seen:
        """Look, and feel or read what it asks about. Looks at a print are kept until something else is laid."""
        if not isinstance(observation, PRINTED):
            return self.look(self._felt(observation))
        changes = self._world.laid.changes
        if self._printed[0] != changes:
            self._printed = changes, {}
        known = self._printed[1]
        if observation not in known:
            known[observation] = self._felt(observation)
        return self.look(known[observation])

    def _felt(self, observation: Observation) -> tuple[float | None, ...]:
        """What is felt or read of it, mm; what is seen without looking closely is in every :class:`Seen`."""
        match observation:
            case WatchFirstLayer(width_mm):
                return (_error_mm(self.latest(width_mm)),)
            case JudgePatches(width_mm, patches):
                return tuple(_error_mm(self.patch(patch, width_mm)) for patch in patches)
            case ReadLines(lines, look_mm):
                return tuple(self._uneven(line, look_mm) for line in lines)
            case ReadTower():
                return self._tower(observation)
            case ReadLineWidth(line, place):
                return (self._width(line, place.at_mm(line) - JAWS_MM / 2, JAWS_MM),)
            case ComparePair(first, others, look_mm):
                return tuple(self._mean_uneven(lines, look_mm) for lines in (first, others))
            case JudgePosts(pairs):
                return tuple(mm for pair in pairs for mm in world_posts(self._world.laid, pair))
            case ReadPiece(what, size_mm):
                return (self._piece(what, size_mm),)
            case LookAtPiece():
                return self._looks_of_piece(observation)
            case ReadRipples(axis, speed_mm_s, count):
                hz = self.rings(axis)
                return (count * speed_mm_s / hz if hz is not None else None,)
            case (
                LookAround()
                | LookAtPin()
                | LookAtFans()
                | LookAtMotors()
                | LookAtDirection()
                | LookAtLifts()
                | FeelBlocks()
                | CheckFilament()
                | LookAtSprings()
                | ReadTravel()
                | ReadFilament()
                | ReadGap()
                | ReadStowedGap()
                | ReadThermometer()
                | LowerOntoGauge()
                | MakeRoom()
                | DragGauge()
                | AimAtDot()
                | AimAtScrew()
                | ReadBesideScrew()
                | JogToCorner()
                | JogToEdge()
                | WatchClearance()
                | FreeAgain()
                | WatchSpeed()
                | WatchProgram()
                | ConfirmNearer()
                | SettleOnPick()
            ):
                return ()
            case _:
                assert_never(observation)

    def look(self, felt_mm: tuple[float | None, ...] = ()) -> Seen:
        """What a person would notice now."""
        world, mechanics = self._world, self._world.mechanics
        now, baths = self._places(), world.baths
        warm = {name: plant.block_c - world.ambient_c for name, plant in world.plants.items()}
        return Seen(
            turning=tuple(world.turning()),
            warm=tuple(name for name in sorted(warm, key=self._lately) if warm[name] > WARM_C),
            pin_down=world.pin_is_down,
            moved=seen(mechanics.travelled),
            turned=tuple(sorted(role for role, mm in mechanics.turned.items() if abs(mm) > LEAST_MM)),
            lift_moves_mm={role.removeprefix("z."): mechanics.turned.get(role, 0.0) for role in world.bed.lifts_mm},
            pressed=tuple(name for name, switch in world.switches.items() if switch.pressed),
            switches=tuple(world.switches),
            from_mark_mm={name: now[name] - self._marked.get(name, 0.0) for name in now},
            nozzle_mm=dict(mechanics.where),
            room_mm={
                axis: (mechanics.where[axis] - carriage.low_mm, carriage.high_mm - mechanics.where[axis])
                for axis, carriage in mechanics.carriages.items()
            },
            mode=self._lamp(),
            baths_c={name: baths[socket] for name, socket in self._sensors() if socket in baths} if baths else {},
            spool_mm=world.filament.left_mm,
            gap_mm=world.gap_mm,
            lifts_mm={role.removeprefix("z."): mechanics.where["z"] + mm for role, mm in world.bed.lifts_mm.items()},
            springs_mm=world.bed.springs,
            probe_mm=world.probe.place(mechanics.where) if world.probe is not None else None,
            dot_mm=self._dot,
            screws_mm={name: screw.place for name, screw in world.bed.screws.items()},
            stowed_gap_mm=world.probe.stowed_gap(mechanics.where) if world.probe is not None else 0.0,
            felt_mm=felt_mm,
        )

    def _adjust(self, name: str, gap_mm: float) -> None:
        """Turn a screw back and forth until the gap below the nozzle is so wide."""
        bed = self._world.bed
        for _ in range(ADJUSTS):
            if name in bed.screws:
                bed.turn_screw(name, (self._world.gap_mm - gap_mm) / bed.screws[name].clockwise_mm)

    def _lower_probe(self, by_mm: float) -> None:
        """Push the probe down in its mount, or up."""
        if (probe := self._world.probe) is not None:
            probe.lowered_mm += by_mm
            self._world.look_at_switches()

    def _probe_to_trigger(self, off_mm: float) -> None:
        """Push it down until its lamp comes on, and a little further."""
        if (probe := self._world.probe) is not None:
            where = self._world.mechanics.where
            self._lower_probe(probe.height(where) - probe.triggers_at(where) + JUST_MM + off_mm)

    def _places(self) -> dict[str, float]:
        """Where carriages stand, how far motors turned, and how much filament went in, mm."""
        mechanics = self._world.mechanics
        return {**mechanics.where, **mechanics.spun, "filament": self._world.filament.fed_mm}

    def _lately(self, plant: str) -> float:
        return -self._world.driven_at.get(plant, -1.0)

    def _sensors(self) -> list[tuple[str, str]]:
        """Every sensor by its label, with its socket."""
        places = (
            path.split(".") for path in self._labels() if path.startswith("sensors.") and path.endswith(".socket")
        )
        return [(name, self._label(f"sensors.{name}.socket")) for _, name, _ in places]

    def _label(self, path: str) -> str:
        return str(self._labels().get(path))


def world_posts(laid: Laid, pair: PostArea) -> tuple[float | None, float | None]:
    """What oozed on each way between two posts, mm of filament; the share that their lines lack where they begin."""
    left, right = (
        laid.begun((pair.left_x - pair.post_mm, pair.left_x), pair.y),
        laid.begun((pair.right_x, pair.right_x + pair.post_mm), pair.y),
    )
    lacks = [lacking for lacking in (left, right) if lacking is not None]
    return laid.oozed((pair.left_x, pair.right_x), pair.y), sum(lacks) / len(lacks) if lacks else None


def _error_mm(looks: Looks | None) -> float | None:
    """By how much too high lines are, mm; None: there are none."""
    return looks.error_mm if looks is not None else None


async def serve_world(hands: Hands, path: Path) -> asyncio.Server:
    """Serve hands and eyes at a Unix socket: an act or an observation a line, answered by what is seen then."""

    async def came(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(ValueError, ConnectionError):
            while line := await reader.readline():
                writer.write(answered(hands, line) + b"\n")
                await writer.drain()
        writer.close()

    with contextlib.suppress(FileNotFoundError):
        path.unlink()
    return await asyncio.start_unix_server(came, path=str(path))


def answered(hands: Hands, line: bytes) -> bytes:
    """What is seen after the act or observation that came as a line.

    Raises:
        ValueError: it is none.
    """
    cue = decoded(line)
    if is_act(cue):
        return seen_as_json(hands.perform(cue))
    assert is_observation(cue)
    return seen_as_json(hands.observe(cue))


def _uneven_mm(slow: float, early: float, late: float, after: float) -> float:
    """How much wider a print is behind a slow-down than where it is slow for long, and thinner early behind a speed-up
    than late: the mean of both differences of widths, mm.
    """
    return (after - slow + late - early) / 2
