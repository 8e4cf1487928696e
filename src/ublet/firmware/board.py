"""The firmware of the board that ships with Ublet: modes, requests, one control period after the other."""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Callable, Iterable, Mapping
from itertools import islice
from pathlib import Path
from typing import Any

from ublet.core.heat.pid import TICK_S
from ublet.core.machine.layouts import AXES
from ublet.core.settings import Value
from ublet.core.sockets import Sockets
from ublet.firmware.coil import CoilDrive
from ublet.firmware.events import Events
from ublet.firmware.filament import NAME as FILAMENT
from ublet.firmware.filament import FilamentWatch
from ublet.firmware.guards import Trip
from ublet.firmware.hardware import Hardware
from ublet.firmware.heating import HeaterDrive, Heating
from ublet.firmware.live_values import input_rule_from
from ublet.firmware.moving import Mover
from ublet.firmware.refusal import HALTED, NOT_ALLOWED, TRIPPED, Refused
from ublet.firmware.slots import Slots
from ublet.firmware.store import LayerStore, Store
from ublet.firmware.streams import StreamSender, kinds_on

HEARTBEAT_WINDOW_S = 4.0
KEPT_SAMPLES = 200
"""Twenty seconds: some 20 KiB of the 64 KiB that a small board has, at four bytes a value."""

ENDSTOP = re.compile(r"endstops\.[^.]+\.socket")
OWN_MODULES = ("mesh", "shaping", "advance")
"""Modules of the image that are a capability of their own."""

RESTART_S = 1.5
"""Silence of a board that restarts with a new image, by the link's clock."""


class SimulatedBoard:
    """A controller behind its sockets.

    factory is the image that it was delivered with, store what was saved. link_clock shows the link's own time (s) for
    the dead-man.
    """

    def __init__(
        self,
        hardware: Hardware,
        factory: bytes,
        store: Store,
        sockets: Sockets,
        link_clock: Callable[[], float],
        slots_path: Path | None = None,
    ) -> None:
        self.hardware = hardware
        self.slots = Slots(factory, hardware.slot_bytes, slots_path)
        self.layers = LayerStore(store)
        self.heat = Heating(sockets)
        self.events = Events(lambda: self.time_s)
        self.mover = Mover(
            sockets, self.events, self._is_triggered, self.heat.driven_state, self._deploy, hardware.steps_per_s
        )
        kinds = kinds_on(hardware.streams, hardware.memory_bytes, hardware.found_at)
        self.streams = StreamSender(
            sockets, self.events, kinds, lambda: self.time_s, lambda path: self.layers.live.get(path)
        )
        self.heat.rests = lambda: self.mover.touching and self.layers.live.get("probe.heaters_off") is True
        self.mover.filament = FilamentWatch(self._filament, lambda: self.mover.pushed_mm)
        self.mover.programs.sweep_moves = "swings" not in hardware.lacks
        self.coil = CoilDrive(sockets, hardware.found_at.get("coil", ""))
        self.kept_samples = KEPT_SAMPLES
        self.restart_due = False
        self.boot = 0
        self.powered: Callable[[], None] = lambda: None
        """Told of every power-on but the first: until then the motors were without power."""
        self.silent_until = 0.0
        self._sockets = sockets
        self._link_clock = link_clock
        self.reset()

    def reset(self) -> None:
        """Power-on: heaters off, live settings from image and store."""
        self.boot += 1
        self.powered()
        self.restart_due = False
        self.layers.start(self.slots.running.settings)
        live, image = self.layers.live, self.layers.image
        self.heat.start(live, *(self.layers.names(table) for table in ("heaters", "sensors", "fans")))
        self.inputs = [f"endstops.{path.split('.')[1]}" for path in image if re.fullmatch(ENDSTOP, path)]
        self.inputs += [name for name in ("probe", FILAMENT) if f"{name}.socket" in image]
        self._settled_inputs()
        self._sockets.pin(False)
        self.events.restart()
        self.mover.following.begin(self._has("mesh"))
        self.mover.queue.shaping.begin(self._has("shaping"))
        self.mover.advances = self._has("advance")
        self.mover.reset(live)
        self.coil.settled(live)
        self.mode, self.why, self.guard = "ready", "", ""
        self.index, self.time_s = 0, 0.0
        self.samples: deque[list[float | None]] = deque(maxlen=self.kept_samples)
        self.streams.end()
        self._host_at = self._link_clock()

    def _has(self, module: str) -> bool:
        """Whether the image that runs has a module; one that lists none, as boards arrive, has all."""
        modules = self.slots.running.modules
        return not modules or module in modules

    @property
    def lacks(self) -> frozenset[str]:
        """What it cannot do: what its firmware has not, and what the image that runs leaves out."""
        return self.hardware.lacks | {module for module in OWN_MODULES if not self._has(module)}

    @property
    def channels(self) -> list[str]:
        """Names of a sample's values, after its index and time."""
        heaters = [f"heaters.{name}.{what}" for name in self.heat.heaters for what in ("duty", "target_c")]
        return [
            *(f"sensors.{name}" for name in self.heat.sensors),
            *heaters,
            *(f"fans.{name}" for name in self.heat.fans),
            *(f"{what}.{name}" for name in self.inputs for what in ("inputs", "edges")),
            "motion.moving",
            *(f"axes.{axis}.mm" for axis in AXES),
        ]

    def keep_samples(self, speed: float) -> None:
        """Clock speed as a multiple of the line's time; as many more samples are kept for it."""
        self.kept_samples = round(KEPT_SAMPLES * max(1.0, speed))
        self.samples = deque(self.samples, self.kept_samples)

    # requests

    def note_host(self) -> None:
        """The host is alive."""
        self._host_at = self._link_clock()

    def new_session(self) -> list[dict[str, Any]]:
        """Another host asked for nothing of what is on: everything goes off. Returns what was on, as hello shows it."""
        was_on: list[dict[str, Any]] = [*self.heat.was_on(), *([{"what": "motion"}] if self.mover.moving else [])]
        self._all_off()
        self.streams.end()
        return was_on

    def halt(self, why: str = "Halted by you.") -> None:
        """Everything off at once, until released."""
        if self.mode == "ready":
            self.mode, self.why, self.guard = "halted", why, ""
        self._all_off(at_once=True)

    def let_go(self) -> None:
        """No motor holds, as without power, until it is moved again.

        Raises:
            Refused: something moves.
        """
        self.mover.let_go()
        self.powered()

    def restart(self) -> None:
        """Start again with the image of the active slot; silent meanwhile."""
        self.fall_silent(RESTART_S)
        self.reset()

    def fall_silent(self, seconds: float) -> None:
        """Say nothing for a while, by the link's clock."""
        self.silent_until = self._link_clock() + seconds

    def must_be_idle(self) -> None:
        """Raises Refused when anything heats or moves, or the board is not ready."""
        self.must_be_ready()
        if self.mover.moving:
            raise Refused(NOT_ALLOWED, "something moves: wait for its end before the image is changed")
        if self.heat.heats:
            raise Refused(NOT_ALLOWED, "something heats: switch it off before the image is changed")

    def must_be_ready(self) -> None:
        """Raises Refused when halted or tripped."""
        if self.mode == "halted":
            raise Refused(HALTED, f"{self.why} Release it first.")
        if self.mode == "tripped":
            raise Refused(TRIPPED, f"{self.why} Release it when that is mended.")

    def release(self) -> None:
        """Leave halted or tripped; everything stays off."""
        self.mode, self.why, self.guard = "ready", "", ""
        self.heat.watch_anew()

    def hold(self, heater: str, celsius: float | None) -> None:
        """Drive a heater to a target, or switch it off (always allowed).

        Raises:
            Refused: not ready, or as :meth:`Heating.hold`.
        """
        if celsius is None:
            self.heat.off(heater)
        else:
            self.must_be_ready()
            self.heat.hold(heater, celsius)

    def relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        """Switch a heater between two duties around a temperature.

        Raises:
            Refused: not ready, or as :meth:`Heating.relay`.
        """
        self.must_be_ready()
        self.heat.relay(heater, centre_c, hysteresis_c, high, low)

    def blow(self, fan: str, duty: float) -> None:
        """Run a fan.

        Raises:
            Refused: not ready, or as :meth:`Heating.blow`.
        """
        self.must_be_ready()
        self.heat.blow(fan, duty)

    def write(self, values: Mapping[str, Value]) -> None:
        """Change live settings: all of them, or none.

        Raises:
            Refused: unknown setting, or a value out of range.
        """
        self.layers.must_be_allowed(values)
        self._make_live(self.layers.below_loans(values))

    def lend(self, values: Mapping[str, Value]) -> None:
        """Change live settings until they are given back, or the session ends: all of them, or none.

        Raises:
            Refused: unknown setting, or a value out of range.
        """
        self.layers.must_be_allowed(values)
        self.layers.lend(values)
        self._make_live(values)

    def give_back(self, paths: Iterable[str]) -> dict[str, Value]:
        """End loans: what was lent is live again as it was before. Returns these values."""
        returned = self.layers.returned(paths)
        if returned:
            self._make_live(returned)
        return returned

    def _make_live(self, values: Mapping[str, Value]) -> None:
        live = self.layers.live
        self.mover.changed(path for path, value in values.items() if value != live[path])
        live.update(values)
        self._settled_inputs()
        self.heat.settled()
        self.mover.settled()
        self.coil.settled(live)

    def save(self, values: Mapping[str, Value | None]) -> None:
        """Change stored and live settings in one transaction; None removes a stored value.

        Raises:
            Refused: a value is not allowed, or the store cannot be written (nothing changed then).
        """
        self.layers.must_be_allowed(values)
        self.write(self.layers.keep(values))

    def pin(self, deployed: bool) -> None:
        """Deploy or stow the probe's pin.

        Raises:
            Refused: not ready, or the image has no pin.
        """
        self.must_be_ready()
        if self.layers.live.get("probe.kind") != "pin":
            raise Refused(NOT_ALLOWED, "this board's image has no probe with a pin")
        self._sockets.pin(deployed)

    # time

    def tick(self) -> None:
        """One control period: readings, guards, control, what stands around, motion, sample."""
        boot = self.boot
        if self._link_clock() - self._host_at > HEARTBEAT_WINDOW_S:
            self._host_is_gone()
        for trip in self.heat.control():
            self._trip(trip)
        self.heat.put_out()
        self.coil.tick()
        shaping = self.mover.queue.shaping
        felt = self.streams.listens_to("accelerometer")
        if felt:
            shaping.awake = True
            shaping.begin_period(TICK_S)
        elif shaping.awake:
            shaping.sleep()
        self.mover.advance(TICK_S)
        if felt:
            self._sockets.course(shaping.end_period())
        self._sockets.pass_time(TICK_S)
        if self.boot != boot:
            return  # the power dipped meanwhile: all of this is forgotten
        self.samples.append(self._sample())
        self.index += 1
        self.time_s += TICK_S
        self.streams.tick()

    def _host_is_gone(self) -> None:
        """What is on goes off, and what is on loan comes back."""
        if self.heat.heats or self.mover.moving:
            what = "heating" if self.heat.heats else "moving"
            self._trip(Trip("link lost", f"The host fell silent while {what}: everything was switched off."))
        if self.layers.on_loan:
            self.give_back(list(self.layers.on_loan))

    def since(self, start: int, end: int) -> list[list[float | None]]:
        """Kept samples with start <= index < end."""
        kept = self.index - len(self.samples)
        newest = reversed(self.samples)
        skipped = max(0, self.index - end)
        wanted = max(0, min(end, self.index) - max(start, kept))
        return list(islice(newest, skipped, skipped + wanted))[::-1]

    # inside

    def _sample(self) -> list[float | None]:
        heat, level = self.heat, self._sockets.level
        warm: list[float | None] = [*heat.readings.values()]
        for name in heat.heaters:
            drive: HeaterDrive = heat.drives[name]
            warm += [drive.duty, drive.target_c]
        warm += heat.blowing.values()
        row = [float(self.index), round(self.time_s, 3), *_rounded(warm)]
        for rule in self._rules.values():
            row += rule.reads(level(rule.socket))
        row.append(float(self.mover.moving))
        return row + _rounded(self.mover.position.values())

    def _settled_inputs(self) -> None:
        """What every tick needs of the live settings to read the inputs; anew whenever they change."""
        self._rules = {name: input_rule_from(self.layers.live, name) for name in self.inputs}

    def _is_triggered(self, name: str) -> bool:
        rule = self._rules[name]
        return bool(rule.reads(self._sockets.level(rule.socket))[0])

    def _filament(self) -> tuple[bool, int] | None:
        """What the filament's sensor reads; None where there is none."""
        rule = self._rules.get(FILAMENT)
        if rule is None:
            return None
        triggered, edges = rule.reads(self._sockets.level(rule.socket))
        return bool(triggered), int(edges)

    def _deploy(self, deployed: bool) -> None:
        if self.layers.live.get("probe.kind") == "pin":
            self._sockets.pin(deployed)

    def _trip(self, trip: Trip) -> None:
        if self.mode == "ready":
            self.mode, self.why, self.guard = "tripped", trip.why, trip.guard
        self._all_off()

    def _all_off(self, at_once: bool = False) -> None:
        self.heat.all_off()
        self.mover.stop(at_once)


def _rounded(values: Iterable[float | None]) -> list[float | None]:
    """Values as a sample carries them."""
    return [None if value is None else round(value, 4) for value in values]
