"""What stands around a board: heaters, sensors, fans, switches, carriages, and what happens by itself."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from ublet.core.machine.schema import MachineFile
from ublet.core.sockets import Level, Pace, Steps, Until
from ublet.core.streams import Readings
from ublet.world.assembly import assemble, frame_of, heats
from ublet.world.bed import TrueBed
from ublet.world.coil import Coil
from ublet.world.extrude import Filament
from ublet.world.heat import STEP_S, Adc, Plant
from ublet.world.laid import Laid
from ublet.world.mechanics import EXTRUDER, Stretch
from ublet.world.probe import CoilSwitch, ProbeSwitch
from ublet.world.scenario import Scenario, ScenarioEvent
from ublet.world.shake import Accelerometer
from ublet.world.switches import Switch

HALVINGS = 48
"""Where a carriage meets a switch is found by halving the stretch so often: far below a micrometre."""


class World:
    """A machine as a scenario says it is; where that is silent, as its machine file declares it.

    It has sockets, and knows nothing of what is plugged to their other side. supply: notified of a dip of the power
    (``reboot``), and of a board that falls ``silence`` for some seconds.
    """

    def __init__(self, scenario: Scenario, machine: MachineFile, seed: int = 1) -> None:
        self.scenario = scenario
        self.supply: Callable[[str, float], None] = lambda kind, seconds: None
        self.time_s = 0.0
        self.ambient_c = scenario.scenario.ambient_c
        self._random = np.random.default_rng(seed)
        self.plants = {
            name: Plant(part.truth(), self.ambient_c if part.start_c is None else part.start_c)
            for name, part in scenario.plants.items()
        }
        self.adcs = {
            socket: Adc(part.truth(), part.bits, part.noise_counts, part.burst)
            for socket, part in scenario.sensors.items()
        }
        self.dead_heaters: set[str] = set()
        self.stuck_heaters: set[str] = set()
        self.driven_at: dict[str, float] = {}  # plants that were driven, and when last
        self.baths: dict[str, float] = {}  # sensor sockets that were put into a bath, and how warm it is
        self.mechanics = assemble(scenario, machine)
        self.bed = TrueBed(scenario.bed, machine, scenario.knocks, np.random.default_rng([seed, 17]))
        self._bed_plant, self._tip = heats(scenario, machine, "bed"), scenario.nozzle
        self.probe: ProbeSwitch | None = None
        self.coil: CoilSwitch | None = None
        self.switches = {name: Switch(switch) for name, switch in scenario.switches.items()}
        if "probe" in scenario.switches:
            own = np.random.default_rng([seed, 19])
            parts = (scenario.switches["probe"], scenario.probe, machine, self.bed, own)
            if scenario.coil is not None:
                coil = Coil(scenario.coil.truth(), self.ambient_c, np.random.default_rng([seed, 23]))
                self.coil = CoilSwitch(*parts, coil)
            self.probe = self.coil or ProbeSwitch(*parts)
            self.switches["probe"] = self.probe
        self._plugged = {switch.part.socket: switch for switch in reversed(self.switches.values())}
        pushes = next((motor for motor in self.mechanics.motors.values() if motor.role == EXTRUDER), None)
        self.filament = Filament(scenario.extruder.truth(), pushes, np.random.default_rng([seed, 11]))
        self.laid = Laid(self.filament)
        self._melts = heats(scenario, machine, "hotend")
        self.frame = frame_of(scenario, machine)
        part = scenario.accelerometer
        self.accelerometer = (
            Accelerometer(part.truth(), self.frame, np.random.default_rng([seed, 13])) if part else None
        )
        sensors = {"accelerometer": self.accelerometer, "coil": self.coil.coil if self.coil is not None else None}
        self._streams = {name: sensor for name, sensor in sensors.items() if sensor is not None}
        self._filament_out = False
        self._turned_s = 0.0  # of the step of time that goes on
        self._fan_plugs = {**{fan.socket: name for name, fan in machine.fans.items()}, **scenario.fan_plugs}
        self._has_pin = machine.probe is not None and machine.probe.kind == "pin"
        self._pin_down = self._came_down = False
        self._duties: Mapping[str, float] = {}
        self._blown: Mapping[str, float] = {}
        self._wind = dict.fromkeys(self.plants, 0.0)
        self._rests, self._turned = True, False
        self._events = list(scenario.events)

    # sockets

    def ratio(self, socket: str) -> float:
        """A sensor input: what its ADC reads of what is plugged there, wherever that sits; an empty one is open."""
        part = self.scenario.sensors.get(socket)
        if part is None:
            return 1.0
        plant = self.plants[part.plant]
        celsius = self.baths.get(socket, plant.surface_c if part.at == "surface" else plant.sensor_c)
        return self.adcs[socket].read(celsius, self._random)

    def level(self, socket: str) -> Level:
        """A digital input."""
        switch = self._plugged.get(socket)
        return Level(True, 0) if switch is None else Level(switch.is_open, switch.edges)

    def heat(self, duties: Mapping[str, float]) -> None:
        """Duty of each heater socket from now on."""
        self._duties = duties
        if self.probe is not None:
            self.probe.humming = max(duties.values(), default=0.0)

    def blow(self, duties: Mapping[str, float]) -> None:
        """Duty of each fan socket from now on."""
        if duties == self._blown:
            return
        self._blown, self._wind = duties, dict.fromkeys(self.plants, 0.0)
        for socket, blown in duties.items():
            plant = self.scenario.fans.get(socket)
            if plant is not None and plant in self._wind:
                self._wind[plant] = max(self._wind[plant], blown)

    def pin(self, down: bool) -> None:
        """The probe's servo; a pin that is drawn in lets go of its switch."""
        down_before, self._pin_down = self._pin_down, down and self._has_pin
        if self._pin_down and not down_before:
            self._came_down = self.probe is not None and self.probe.deployed()
        if not down and self._has_pin and self.probe is not None:
            self.probe.let_go()

    def tune(self, sensor: str, register: str, value: float) -> None:
        """A register of the coil."""
        if self.coil is not None and sensor == "coil":
            self.coil.coil.tune(register, value)
            self._follow()

    def reading(self, sensor: str) -> tuple[float, ...]:
        """What the coil reads just now."""
        return self.coil.now(self.mechanics.where) if self.coil is not None and sensor == "coil" else ()

    def listen(self, sensor: str, rate_hz: float) -> None:
        """A sensor begins to take readings, or ends."""
        if sensor in self._streams:
            self._streams[sensor].listen(rate_hz)

    def readings(self, sensor: str) -> Readings:
        """What it took since it was asked last."""
        stream = self._streams.get(sensor)
        return stream.readings() if stream is not None else Readings(np.empty((0, 3), dtype=np.int16), 0.0)

    def turn(self, motors: Sequence[Steps], pace: Pace, until: Until | None = None) -> float | None:
        """Motors turn together; the carriages follow, and press what they reach."""
        if self._rests:
            self._rests = False
            self.mechanics.begin()
            if self.bed.wanders:
                self.bed.settle()
        elif pace.speed_mm_s == 0:
            self.mechanics.look_anew()
        self._turned = True
        for switch in self.switches.values():
            switch.towards_mm_s = 0.0
        waited = self._plugged.get(until.socket) if until is not None else None
        if until is not None and (waited.is_open if waited is not None else True) == until.opens:
            return 0.0
        for stretch in self.mechanics.stretches(motors, pace):
            length = stretch.end_mm - stretch.start_mm
            if until is not None and waited is not None and self._follows(waited):
                met = self._meets(stretch, waited, until.opens, pace)
                length = length if met is None else met
            else:
                met = None
            before = dict(self.mechanics.where)
            self.mechanics.carry(stretch, length)
            self.bed.follow(self.mechanics.spun)
            if self.coil is not None and self.coil.coil.listening:
                ends = (stretch.start_mm, stretch.start_mm + length)
                self.coil.passed(self._turned_s, pace, ends, before, dict(self.mechanics.where))
            self._push(motors, stretch, length, pace, before)
            self._follow()
            if met is not None:
                if waited is not None and until is not None and waited.is_open != until.opens:
                    waited.change(self._random)  # rounding and backlash leave no met switch unpressed
                return self._went_on(pace.reached(stretch.start_mm + met))
        self._went_on(pace.seconds)
        return None

    def course(self, speeds: Mapping[str, NDArray[np.float64]]) -> None:
        """How the axes are stepped in the time that passes next."""
        if self.accelerometer is not None:
            self.accelerometer.course(speeds)

    def pass_time(self, seconds: float) -> None:
        """Heat flows, and what is due happens. Motors that were not turned since the last time stood still."""
        self._rests, self._turned = not self._turned, False
        self._happen()
        self.time_s += seconds
        duty = dict.fromkeys(self.plants, 0.0)
        for socket, fraction in self._duties.items():
            plant = self.scenario.heaters.get(socket)
            if plant is not None and plant not in self.dead_heaters:
                duty[plant] += fraction
        for plant in self.stuck_heaters:
            duty[plant] = 1.0
        warmer = self.plants[self._bed_plant].block_c - self.ambient_c if self._bed_plant in self.plants else 0.0
        self.bed.pass_time(seconds, warmer)
        if self.probe is not None:
            self.probe.pass_time(seconds, warmer)
        self.filament.pass_time(seconds, self.melt_c)
        self._follow_filament()
        if self.accelerometer is not None:
            self.accelerometer.pass_time(seconds, self.mechanics.where)
        if self.coil is not None:
            self.coil.take(seconds, self.mechanics.where)
        self._turned_s = 0.0
        steps = round(seconds / STEP_S)
        for name, state in self.plants.items():
            driven, wind = duty[name], self._wind[name]
            if driven > 0:
                self.driven_at[name] = self.time_s
            state.step(driven, wind, self.ambient_c, steps)

    # what hands do, and eyes see

    def press(self, name: str, down: bool) -> None:
        """What a hand does to a switch; the probe's moves only while its pin is down.

        Raises:
            KeyError: there is no such switch.
        """
        switch = self.switches[name]
        if switch.part.pulse_mm:
            switch.pulled(down)
            return
        switch.press(down and self._follows(switch))

    def new_spool(self) -> None:
        """Hands put a new spool on, and push its filament in."""
        self.filament.load()
        self._follow_filament()

    def _follow_filament(self) -> None:
        """The filament's sensor: a switch that it holds, or a wheel that it turns."""
        if (switch := self.switches.get("filament")) is None:
            return
        if switch.part.pulse_mm:
            switch.turned_by(self.filament.fed_mm)
        else:
            out = self.filament.left_mm <= switch.part.at_mm
            if out != self._filament_out:
                self._filament_out = out
                switch.press(out)

    def look_at_switches(self) -> None:
        """Something was moved by hand: switches are pressed, or let go."""
        self._follow()

    def by_hand(self) -> dict[str, float]:
        """Everything that only a hand changes, by its name: where screws and lead screws were turned to and the probe
        was pushed, mm; how hard belts are pulled, times their tension on arrival.
        """
        screws = {f"screw {name}": screw.off_mm for name, screw in self.bed.screws.items()}
        lifts = {f"lead screw {name}": mm for name, mm in self.bed.turned_by_hand_mm.items()}
        probe = {"probe in its mount": -self.probe.lowered_mm} if self.probe is not None else {}
        belts = {f"belt {axis}": times for axis, times in self.frame.tension.items()}
        return {**screws, **lifts, **probe, **belts}

    @property
    def pin_is_down(self) -> bool:
        """Whether the probe's pin really is down."""
        probe = self.probe
        return self._pin_down and self._came_down and probe is not None and probe.part.fault != "pin-stuck"

    @property
    def melt_c(self) -> float:
        """How warm the block is that melts the filament, °C; the room's where there is none."""
        return self.plants[self._melts].block_c if self._melts in self.plants else self.ambient_c

    @property
    def gap_mm(self) -> float:
        """Between the nozzle's tip and the bed: it is longer when it is hot, and a cold one carries a drop."""
        where, tip = self.mechanics.where, self._tip
        drop = tip.drop_mm if self.melt_c < tip.soft_c else 0.0
        longer = tip.grows_mm_k * (self.melt_c - self.ambient_c)
        return where["z"] - self.bed.height(where["x"], where["y"]) - longer - drop

    def turning(self) -> list[str]:
        """The fans that really turn now."""
        return sorted(
            self._fan_plugs[socket] for socket, duty in self._blown.items() if duty > 0 and socket in self._fan_plugs
        )

    # inside

    def _went_on(self, seconds: float) -> float:
        """Note how much of the time step was spent turning."""
        self._turned_s += seconds
        return seconds

    def _push(
        self, motors: Sequence[Steps], stretch: Stretch, length: float, pace: Pace, before: Mapping[str, float]
    ) -> None:
        """The extruder's motor turns along so much of a stretch; what comes out near the bed is a line."""
        truths = self.mechanics.motors
        steps = next((s for s in motors if s.socket in truths and truths[s.socket].role == EXTRUDER), None)
        if steps is None or not (EXTRUDER in stretch.motors or steps.ahead_per_s):
            if length > 0 and self.filament.oozes(self.melt_c) and {"x", "y"} & set(stretch.axes):
                seconds = pace.reached(stretch.start_mm + length) - pace.reached(stretch.start_mm)
                oozed = sum(out for _, out in self.filament.turn(0.0, 0.0, seconds, (self.melt_c, 0.0)))
                self.laid.travelled(before, self.mechanics.where, oozed)
            return
        per_mm = stretch.motors.get(EXTRUDER, 0.0)
        began, ended = pace.reached(stretch.start_mm), pace.reached(stretch.start_mm + length)
        ahead_mm_s = steps.ahead_per_s * self.mechanics.step_mm(steps)
        came = self.filament.turn(
            per_mm * pace.speed(began) + ahead_mm_s,
            per_mm * pace.acceleration_mm_s2,
            ended - began,
            (self.melt_c, steps.amps),
        )
        self.laid.follow(stretch, pace, began, came, (before, self.mechanics.where), self.gap_mm)

    def _follows(self, switch: Switch) -> bool:
        """Whether a switch can be pressed now: the probe's only by its pin."""
        return switch is not self.probe or not self._has_pin or self.pin_is_down

    def _follow(self) -> None:
        where = self._where
        for switch in self.switches.values():
            if self._follows(switch):
                switch.follow(where, self._random)

    @property
    def _where(self) -> dict[str, float]:
        """Where the axes stand, and each lead screw of Z by itself, mm."""
        where = dict(self.mechanics.where)
        return where | {role: where["z"] + mm for role, mm in self.bed.lifts_mm.items()}

    def _meets(self, stretch: Stretch, switch: Switch, opens: bool, pace: Pace) -> float | None:
        """How far along a stretch a switch comes to open, or to close, mm; None: not on it."""
        if switch.part.lift:
            return self._lift_meets(stretch, switch, opens, pace)
        axis = switch.part.axis
        if not axis or axis not in stretch.axes:
            return None
        mechanics, probe = self.mechanics, self.probe if switch is self.probe else None
        where = dict(mechanics.where)
        going = tuple(stretch.axes.items()) if probe is not None else ((axis, stretch.axes[axis]),)

        def reads(mm: float) -> bool:
            for reading, per_mm in going:
                where[reading] = mechanics.where_after(reading, per_mm * mm)[0]
            speed = stretch.axes[axis] * pace.speed(pace.reached(stretch.start_mm + mm))
            switch.towards_mm_s = max(0.0, -speed if switch.part.side == "low" else speed)
            return switch.is_open_at(where) == opens

        low, top = 0.0, stretch.end_mm - stretch.start_mm
        if not reads(top):
            return None
        for _ in range(HALVINGS):
            middle = (low + top) / 2
            low, top = (low, middle) if reads(middle) else (middle, top)
        return top

    def _lift_meets(self, stretch: Stretch, switch: Switch, opens: bool, pace: Pace) -> float | None:
        """The same for a switch that one lead screw presses: it goes as far as its own motor carries it."""
        role = switch.part.lift
        if role not in stretch.motors:
            return None
        where, per_mm = self._where, stretch.motors[role]
        start = where[role]

        def reads(mm: float) -> bool:
            speed = per_mm * pace.speed(pace.reached(stretch.start_mm + mm))
            switch.towards_mm_s = max(0.0, -speed if switch.part.side == "low" else speed)
            return switch.is_open_at({**where, role: start + per_mm * mm}) == opens

        low, top = 0.0, stretch.end_mm - stretch.start_mm
        if not reads(top):
            return None
        for _ in range(HALVINGS):
            middle = (low + top) / 2
            low, top = (low, middle) if reads(middle) else (middle, top)
        return top

    def _happen(self) -> None:
        if not self._events:
            return
        hottest = max((plant.block_c for plant in self.plants.values()), default=0.0)
        for event in list(self._events):
            timed = event.at_s is not None and self.time_s >= event.at_s
            hot = event.above_c is not None and hottest > event.above_c
            if timed or hot:
                self._events.remove(event)
                self._befall(event)

    def _befall(self, event: ScenarioEvent) -> None:
        match event.kind:
            case "sensor-open" | "sensor-short" if event.of in self.adcs:
                self.adcs[event.of].fault = event.kind.removeprefix("sensor-")
            case "belt-jumps" if event.of in self.mechanics.where:
                self.mechanics.jump(event.of, event.mm)
            case "heater-dead":
                self.dead_heaters.add(event.of)
            case "sensor-unplugged" if self.accelerometer is not None:
                self.accelerometer.unplugged = True
            case "silence" | "reboot":
                self.supply(event.kind, event.for_s)
