"""The simulated board: settings in layers, heater control, guards, halt; advanced tick by tick."""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Callable, Mapping
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np

from ublet.core.heat.pid import TICK_S, Pid
from ublet.core.machine.schema import MachineFile
from ublet.core.settings import Value
from ublet.sim.assembly import assemble
from ublet.sim.drive import Drive
from ublet.sim.guards import HeaterGuard, Trip
from ublet.sim.heat import STEP_S, Adc, Plant
from ublet.sim.live_values import (
    blowing_from,
    celsius_from,
    curve_from,
    gains_from,
    guard_limits_from,
    input_from,
    must_be_allowed,
    number_in,
)
from ublet.sim.moving import AXES, Mover
from ublet.sim.refusal import HALTED, NOT_ALLOWED, STORE_FAILED, TRIPPED, Refused
from ublet.sim.scenario import Scenario
from ublet.sim.slots import Slots, factory_image
from ublet.sim.store import Store
from ublet.sim.switches import Switch

HEARTBEAT_WINDOW_S = 4.0
KEPT_SAMPLES = 3000
ENDSTOP = re.compile(r"endstops\.[^.]+\.socket")
RESTART_S = 1.5
"""Silence of a board that restarts with a new image, by the link's clock."""


class SimBoard:
    """A board with a machine's physics behind it.

    slots hold the images (the factory's is built from ``machine`` with what the scenario says it differs in), store
    what was saved, live what is in force. link_clock tells the link's own time (s) for the dead-man.
    """

    def __init__(
        self,
        scenario: Scenario,
        machine: MachineFile,
        store: Store,
        link_clock: Callable[[], float],
        seed: int = 1,
        slots_path: Path | None = None,
    ) -> None:
        self.scenario = scenario
        self.store = store
        self.slots = Slots(factory_image(scenario, machine), scenario.flash.slot_bytes, slots_path)
        self.restart_due = False
        self.live: dict[str, Value] = {}
        self.boot = 0
        self.silent_until = 0.0
        self._link_clock = link_clock
        self._random = np.random.default_rng(seed)
        ambient = scenario.scenario.ambient_c
        self.plants = {
            name: Plant(part.truth(), ambient if part.start_c is None else part.start_c)
            for name, part in scenario.plants.items()
        }
        self.adcs = {
            socket: Adc(
                part.truth(),
                part.bits,
                part.noise_counts,
                part.burst,
            )
            for socket, part in scenario.sensors.items()
        }
        self.dead_heaters: set[str] = set()
        self.stuck_heaters: set[str] = set()
        self.driven_at: dict[str, float] = {}  # plants that were driven, and when last, in s since the world began
        self.world_s = 0.0
        self.baths: dict[str, float] = {}  # sensor sockets that were put into a bath, and how warm it is
        self.switches = {name: Switch(part) for name, part in scenario.switches.items()}
        self.pin_told = False
        self.mechanics = assemble(scenario, machine)
        rate = scenario.scenario.steps_per_s
        self.mover = Mover(self.mechanics, self._is_triggered, self._follow_carriages, self._drop_pin, rate)
        self._fan_plugs = {
            **{fan.socket: name for name, fan in machine.fans.items()},
            **scenario.fan_plugs,
        }
        self._events = list(scenario.events)
        self.reset()

    def reset(self) -> None:
        """Power-on: heaters off, live settings from image and store. Temperatures stay as they are."""
        self.boot += 1
        self.image = dict(self.slots.running.settings)
        self.restart_due = False
        self.live = {**self.image, **{path: v for path, v in self.store.values.items() if path in self.image}}
        self.heaters = sorted({path.split(".")[1] for path in self.image if path.startswith("heaters.")})
        self.sensors = sorted({path.split(".")[1] for path in self.image if path.startswith("sensors.")})
        self.fans = sorted({path.split(".")[1] for path in self.image if path.startswith("fans.")})
        self.drives = {name: Drive() for name in self.heaters}
        self.inputs = [f"endstops.{path.split('.')[1]}" for path in self.image if re.fullmatch(ENDSTOP, path)]
        self.inputs += ["probe"] if "probe.socket" in self.image else []
        self.pin_told = False
        self.mover.reset(self.live)
        self.fan_duty = dict.fromkeys(self.fans, 0.0)
        self.blowing = dict.fromkeys(self.fans, 0.0)
        self.mode, self.why, self.guard = "ready", "", ""
        self.index, self.time_s = 0, 0.0
        self.samples: deque[list[float | None]] = deque(maxlen=KEPT_SAMPLES)
        self._heard = self._link_clock()
        self._derive()
        self._guards = {name: HeaterGuard(name, self._sensor_of[name], TICK_S) for name in self.heaters}

    def _derive(self) -> None:
        """What every tick needs of the live settings; anew whenever they change."""
        self._curves = {name: curve_from(self.live, name) for name in self.sensors}
        self._limits = {name: guard_limits_from(self.live, name) for name in self.heaters}
        self._sensor_of = {name: str(self.live[f"heaters.{name}.sensor"]) for name in self.heaters}
        self._sensor_sockets = {name: str(self.live[f"sensors.{name}.socket"]) for name in self.sensors}
        self._heats = {
            name: self.scenario.heaters.get(str(self.live[f"heaters.{name}.socket"])) for name in self.heaters
        }
        self._cools = {name: self.scenario.fans.get(str(self.live[f"fans.{name}.socket"])) for name in self.fans}

    @property
    def channels(self) -> list[str]:
        """Names of a sample's values, after its index and time."""
        heaters = [f"heaters.{name}.{what}" for name in self.heaters for what in ("duty", "target_c")]
        return [
            *(f"sensors.{name}" for name in self.sensors),
            *heaters,
            *(f"fans.{name}" for name in self.fans),
            *(f"{what}.{name}" for name in self.inputs for what in ("inputs", "edges")),
            "motion.moving",
            "motion.moves",
            *(f"axes.{axis}.mm" for axis in AXES),
        ]

    # requests

    def heard(self) -> None:
        """The host is alive."""
        self._heard = self._link_clock()

    def new_session(self) -> list[dict[str, Any]]:
        """Another host asked for nothing of what is on: everything goes off. Returns what was on, as hello tells it."""
        was_on: list[dict[str, Any]] = [
            {"what": f"heaters.{name}", "target_c": drive.target_c, "relay": drive.relay is not None}
            for name, drive in self.drives.items()
            if drive.target_c is not None
        ]
        was_on += [{"what": f"fans.{name}", "duty": duty} for name, duty in self.fan_duty.items() if duty]
        was_on += [{"what": "motion"}] if self.mover.moving else []
        self._all_off()
        return was_on

    def halt(self, why: str = "Halted by you.") -> None:
        """Everything off at once, until released."""
        if self.mode == "ready":
            self.mode, self.why, self.guard = "halted", why, ""
        self._all_off()

    def restart(self) -> None:
        """Start again with the image of the active slot; silent meanwhile."""
        self.silent_until = self._link_clock() + RESTART_S
        self.reset()

    def must_be_idle(self) -> None:
        """Raises Refused when anything heats or moves, or the board is not ready."""
        self.must_be_ready()
        if self.mover.moving:
            raise Refused(NOT_ALLOWED, "something moves: wait for its end before the image is changed")
        if self._heating():
            raise Refused(NOT_ALLOWED, "something heats: switch it off before the image is changed")

    def release(self) -> None:
        """Leave halted or tripped; everything stays off."""
        self.mode, self.why, self.guard = "ready", "", ""
        for name in self.heaters:
            self._guards[name] = HeaterGuard(name, self._sensor_of[name], TICK_S)

    def hold(self, heater: str, celsius: float | None) -> None:
        """Drive a heater to a target by PID, or switch it off (always allowed).

        Raises:
            Refused: not ready, no such heater, or above its maximum.
        """
        drive = self._drive(heater)
        if celsius is None:
            self.drives[heater] = Drive()
            return
        self._may_heat(heater, celsius)
        if drive.pid is None:
            drive.pid = Pid(gains_from(self.live, heater, celsius))
        drive.pid.gains = gains_from(self.live, heater, celsius)
        drive.target_c, drive.relay = celsius, None
        if self.live.get(f"heaters.{heater}.control") == "on-off":
            half = number_in(self.live, f"heaters.{heater}.swing_c") / 2
            drive.relay, drive.pid = (half, number_in(self.live, f"heaters.{heater}.power_limit"), 0.0), None

    def relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        """Switch a heater between two duties around a temperature.

        Raises:
            Refused: as for :meth:`hold`, or duties out of order.
        """
        drive = self._drive(heater)
        self._may_heat(heater, centre_c)
        limit = number_in(self.live, f"heaters.{heater}.power_limit")
        if not 0 <= low < high <= limit + 1e-9 or not hysteresis_c > 0:
            raise Refused(NOT_ALLOWED, f"relay duties must be 0 <= low < high <= {limit:g}, hysteresis above 0")
        drive.relay, drive.target_c, drive.pid = (hysteresis_c, high, low), centre_c, None

    def blow(self, fan: str, duty: float) -> None:
        """Run a fan."""
        if fan not in self.fan_duty:
            raise Refused(NOT_ALLOWED, f"no fan “{fan}” on this board; known: {', '.join(self.fans)}")
        self.must_be_ready()
        if not 0 <= duty <= 1:
            raise Refused(NOT_ALLOWED, f"fan duty {duty:g}: allowed 0 to 1")
        self.fan_duty[fan] = duty

    def write(self, values: Mapping[str, Value]) -> None:
        """Change live settings: all of them, or none.

        Raises:
            Refused: unknown setting, or a value out of range.
        """
        must_be_allowed(values, self.image)
        self.mover.changed(path for path, value in values.items() if value != self.live[path])
        self.live.update(values)
        self._derive()
        for name, drive in self.drives.items():
            if drive.pid is not None and drive.target_c is not None:
                drive.pid.gains = gains_from(self.live, name, drive.target_c)

    def save(self, values: Mapping[str, Value | None]) -> None:
        """Change stored and live settings in one transaction; None removes a stored value.

        Raises:
            Refused: a value is not allowed, or the store cannot be written (nothing changed then).
        """
        must_be_allowed({path: value for path, value in values.items() if value is not None}, self.image)
        try:
            self.store.change(values)
        except OSError as error:
            raise Refused(STORE_FAILED, f"the board's store could not be written: {error}") from error
        self.write({path: self.image[path] if value is None else value for path, value in values.items()})

    # time

    def tick(self) -> None:
        """One control period: events, readings, guards, control, physics, sample."""
        self._happen()
        if (self._heating() or self.mover.moving) and self._link_clock() - self._heard > HEARTBEAT_WINDOW_S:
            what = "heating" if self._heating() else "moving"
            self._trip(Trip("link lost", f"The host fell silent while {what}: everything was switched off."))
        readings: list[float | None] = []
        ratios: dict[str, float] = {}
        known: dict[str, float | None] = {}
        for name in self.sensors:
            ratios[name] = self._ratio(name)
            known[name] = celsius_from(self._curves[name], ratios[name])
            readings.append(known[name])
        for name in self.heaters:
            sensor = self._sensor_of[name]
            self._control(name, ratios.get(sensor, 1.0), known.get(sensor))
        self.blowing = blowing_from(self.live, self.fan_duty, lambda heater: known.get(self._sensor_of.get(heater, "")))
        self._physics()
        self.mover.tick()
        driven: list[float | None] = []
        for name in self.heaters:
            driven += [self.drives[name].duty, self.drives[name].target_c]
        row = [float(self.index), round(self.time_s, 3), *readings, *driven, *self.blowing.values()]
        row += [value for name in self.inputs for value in self._input(name)]
        row += [float(self.mover.moving), float(self.mover.moves_done), *self.mover.position.values()]
        self.samples.append([None if value is None else round(value, 4) for value in row])
        self.index += 1
        self.time_s += TICK_S

    def since(self, start: int, end: int) -> list[list[float | None]]:
        """Kept samples with start <= index < end."""
        kept = self.index - len(self.samples)
        newest = reversed(self.samples)
        skipped = max(0, self.index - end)
        wanted = max(0, min(end, self.index) - max(start, kept))
        return list(islice(newest, skipped, skipped + wanted))[::-1]

    # inside

    def _control(self, name: str, ratio: float, celsius: float | None) -> None:
        drive = self.drives[name]
        trip = self._guards[name].watch(self._limits[name], ratio, celsius, drive.duty, drive.target_c)
        if trip is not None:
            self._trip(trip)
        if drive.target_c is None or celsius is None:
            drive.duty = 0.0
        elif drive.relay is not None:
            hysteresis, high, low = drive.relay
            if drive.relay_on and celsius > drive.target_c + hysteresis:
                drive.relay_on = False
            elif not drive.relay_on and celsius < drive.target_c - hysteresis:
                drive.relay_on = True
            drive.duty = high if drive.relay_on else low
        elif drive.pid is not None:
            drive.duty = min(self._limits[name].power_limit, drive.pid.duty(drive.target_c, celsius))

    def pin(self, deployed: bool) -> None:
        """Deploy or stow the probe's pin.

        Raises:
            Refused: not ready, or the image has no pin.
        """
        self.must_be_ready()
        if self.live.get("probe.kind") != "pin":
            raise Refused(NOT_ALLOWED, "this board's image has no probe with a pin")
        self.pin_told = deployed

    def press(self, name: str, down: bool) -> None:
        """What a hand does to a switch; the probe's moves only while its pin is down.

        Raises:
            KeyError: there is no such switch.
        """
        free = name != "probe" or self.live.get("probe.kind") != "pin" or self.pin_is_down
        self.switches[name].press(down and free)

    def _drop_pin(self, deployed: bool) -> None:
        self.pin_told = deployed and self.live.get("probe.kind") == "pin"
        if not deployed and self.live.get("probe.kind") == "pin" and "probe" in self.switches:
            self.switches["probe"].let_go()

    def _follow_carriages(self, where: Mapping[str, float]) -> None:
        """Switches at the ends of axes are pressed by the carriages; the probe's only while its pin is down."""
        for name, switch in self.switches.items():
            if name != "probe" or self.live.get("probe.kind") != "pin" or self.pin_is_down:
                switch.follow(where, self._random)

    @property
    def pin_is_down(self) -> bool:
        """Whether the probe's pin really is down."""
        probe = self.switches.get("probe")
        return self.pin_told and probe is not None and probe.part.fault != "pin-stuck"

    def turning(self) -> list[str]:
        """The fans that really turn now."""
        sockets = {str(self.live[f"fans.{name}.socket"]) for name, duty in self.blowing.items() if duty > 0}
        return sorted(self._fan_plugs[socket] for socket in sockets if socket in self._fan_plugs)

    def _is_triggered(self, name: str) -> bool:
        return bool(self._input(name)[0])

    def _input(self, name: str) -> tuple[float, float]:
        """Whether an input reads as triggered, and how often its level changed."""
        switch = next(
            (each for each in self.switches.values() if each.part.socket == self.live[f"{name}.socket"]), None
        )
        return input_from(self.live, name, switch)

    def _physics(self) -> None:
        duty = dict.fromkeys(self.plants, 0.0)
        for name in self.heaters:
            plant = self._heats[name]
            if plant is not None and plant not in self.dead_heaters:
                duty[plant] += self.drives[name].duty
        for plant in self.stuck_heaters:
            duty[plant] = 1.0
        self.world_s += TICK_S
        self.driven_at.update((plant, self.world_s) for plant, each in duty.items() if each > 0)
        wind = dict.fromkeys(self.plants, 0.0)
        for name, blow in self.blowing.items():
            plant = self._cools[name]
            if plant is not None and plant in wind:
                wind[plant] = max(wind[plant], blow)
        for name, state in self.plants.items():
            for _ in range(round(TICK_S / STEP_S)):
                state.step(duty[name], wind[name], self.scenario.scenario.ambient_c)

    def _ratio(self, sensor: str) -> float:
        socket = self._sensor_sockets.get(sensor, "")
        part = self.scenario.sensors.get(socket)
        if part is None:
            return 1.0
        plant = self.plants[part.plant]
        celsius = self.baths.get(socket, plant.surface_c if part.at == "surface" else plant.sensor_c)
        return self.adcs[socket].read(celsius, self._random)

    def _happen(self) -> None:
        hottest = max((plant.block_c for plant in self.plants.values()), default=0.0)
        for event in list(self._events):
            timed = event.at_s is not None and self.time_s >= event.at_s
            hot = event.above_c is not None and hottest > event.above_c
            if not (timed or hot):
                continue
            self._events.remove(event)
            if event.kind == "sensor-open" and event.of in self.adcs:
                self.adcs[event.of].fault = "open"
            elif event.kind == "sensor-short" and event.of in self.adcs:
                self.adcs[event.of].fault = "short"
            elif event.kind == "heater-dead":
                self.dead_heaters.add(event.of)
            elif event.kind == "silence":
                self.silent_until = self._link_clock() + event.for_s
            elif event.kind == "reboot":
                self.slots.forget_upload()
                self.reset()

    def _trip(self, trip: Trip) -> None:
        if self.mode == "ready":
            self.mode, self.why, self.guard = "tripped", trip.why, trip.guard
        self._all_off()

    def _all_off(self) -> None:
        self.drives = {name: Drive() for name in self.heaters}
        self.fan_duty = dict.fromkeys(self.fans, 0.0)
        self.mover.stop()

    def _heating(self) -> bool:
        return any(drive.target_c is not None for drive in self.drives.values())

    def _drive(self, heater: str) -> Drive:
        if heater not in self.drives:
            raise Refused(NOT_ALLOWED, f"no heater “{heater}” on this board; known: {', '.join(self.heaters)}")
        return self.drives[heater]

    def must_be_ready(self) -> None:
        """Raises Refused when halted or tripped."""
        if self.mode == "halted":
            raise Refused(HALTED, f"{self.why} Release it first.")
        if self.mode == "tripped":
            raise Refused(TRIPPED, f"{self.why} Release it when that is mended.")

    def _may_heat(self, heater: str, celsius: float) -> None:
        self.must_be_ready()
        maximum = number_in(self.live, f"heaters.{heater}.maximum_c")
        if not 0 < celsius <= maximum:
            raise Refused(NOT_ALLOWED, f"{heater}: target {celsius:g} °C, allowed up to {maximum:g} °C")
        sensor = self._sensor_of[heater]
        if self.samples and self._ratio(sensor) in (0.0, 1.0):
            raise Refused(NOT_ALLOWED, f"the {sensor} sensor reads open or shorted: check its plug and cable")
