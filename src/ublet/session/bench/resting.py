"""What a run rests on: the machine as it is now, and every thing that is read of it noted once, with its value then."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from ublet.core.evidence import Trace
from ublet.core.facts import Fact
from ublet.core.heat.gain_sets import gains_root
from ublet.core.machine.schema import SETTINGS, MachineFile
from ublet.core.machine.traced import Readers, traced
from ublet.core.settings import Acts, Value
from ublet.session.connection import Connection

FactOf = Callable[[str, str], Fact]
"""What was reported last of a kind and subject."""


class Resting:
    """Notes what is read, and which settings act in what the board is asked to do.

    written: every value of the machine file, for what the board does not hold. lent: what borrowed settings must be put
    back to; they count with the value that they had before.
    """

    def __init__(
        self,
        machine: MachineFile,
        written: Mapping[str, Value],
        connection: Connection,
        lent: Mapping[str, Value],
        kept: Mapping[str, Value],
        fact_of: FactOf,
    ) -> None:
        self.trace = Trace()
        self._declared = machine
        self._written = written
        self._connection = connection
        self._lent, self._kept = lent, kept
        self._fact_of = fact_of
        self._noted: set[tuple[str, ...]] = set()
        self.machine = traced(machine, Readers(self._read, self._listed, self._asked))

    def live(self, path: str) -> Value:
        """The live value of a setting, as it is without what is borrowed; None when the board has none."""
        if path in self._lent:
            return self._lent[path]
        layers = self._connection.layers.get(path)
        return layers.live if layers is not None else None

    def shown(self, path: str) -> Value:
        """The live value on the board, with what is borrowed; the file's of a setting that no board holds."""
        layers = self._connection.layers.get(path)
        if layers is not None:
            return layers.live
        return None if self._connection.holds(path) else self._written.get(path)

    def note(self, path: str) -> Value:
        """A setting of the board is read: its live value."""
        value = self.live(path) if path in self._connection.layers else self._written.get(path)
        self.trace.note("setting", path, value, _tolerance(path))
        return value

    def fact(self, kind: str, subject: str = "") -> Fact:
        """What was reported last of something."""
        fact = self._fact_of(kind, subject)
        self.trace.note("fact", fact.path, fact.counts_as)
        return fact

    def reported(self, kind: str, subject: str) -> None:
        """Something was done for the run: what acts from now on is noted once more."""
        self._noted.clear()
        self.trace.changed("fact", self._fact_of(kind, subject).path)

    def way(self, axis: str) -> None:
        """An axis is moved: which way it goes."""
        if self._first("way", axis):
            for other in self.driven_with(axis):
                self._acting(f"axes.{other}.", "plug", "way")
            self.note("machine.kinematics")

    def length(self, axis: str) -> None:
        """A position of an axis is read or gone to: how long its millimetres are."""
        if self._first("length", axis):
            for other in self.driven_with(axis):
                self._acting(f"axes.{other}.", "length")
                if getattr(self._declared.axes, other).drive == "belt":
                    self.fact("belt", other)

    def end(self, axis: str) -> None:
        """An axis homes: where its end is."""
        if not self._first("end", axis):
            return
        self.way(axis)
        self.length(axis)
        self._acting(f"axes.{axis}.homing.", "end")
        if self.live(f"axes.{axis}.homing.end") == "probe":
            self.switch("probe")
            self.fact("probe")
        elif own := getattr(self._declared.axes, axis).lift_endstops:
            for motor, name in own.items():
                self._acting(f"axes.{axis}.motors.{motor}.", "end")
                self.switch(f"endstops.{name}")
                self.fact("switch", name)
        elif isinstance(endstop := self.live(f"axes.{axis}.homing.endstop"), str):
            self.switch(f"endstops.{endstop}")
            self.fact("switch", endstop)

    def motor(self, root: str) -> None:
        """A motor is turned by itself."""
        if self._first("motor", root):
            self._acting(f"{root}.", "plug")

    def filament(self) -> None:
        """Filament is pushed: how long its millimetres are."""
        if self._first("filament"):
            self._acting("extruder.", "plug", "way", "length")

    def switch(self, name: str) -> None:
        """An input is read: ``endstops.NAME`` or ``probe``."""
        if self._first("switch", name):
            self._acting(f"{name}.", "switch")

    def touch(self) -> None:
        """The bed is touched with the probe: what reads it, where it hangs, how long Z's millimetres are."""
        self.length("z")
        self.switch("probe")
        if self._first("touch"):
            self.fact("probe")

    def reading(self, sensor: str) -> None:
        """A temperature is read."""
        if self._first("reading", sensor):
            self._acting(f"sensors.{sensor}.", "plug", "reading")
            self.fact("sensor", sensor)

    def warming(self, sensor: str) -> None:
        """It is only looked whether a sensor warms: its curve does not matter."""
        if self._first("warming", sensor):
            self._acting(f"sensors.{sensor}.", "plug")

    def pulse(self, heater: str) -> None:
        """A heater is driven to see what warms."""
        if self._first("pulse", heater):
            self._acting(f"heaters.{heater}.", "plug")
            self.fact("heater", heater)

    def plant(self, heater: str) -> None:
        """A heater is driven: what it does with power, and what reads it."""
        if self._first("plant", heater):
            self.pulse(heater)
            self._acting(f"heaters.{heater}.", "plant")
            if isinstance(sensor := self.live(f"heaters.{heater}.sensor"), str):
                self.reading(sensor)

    def behaviour(self, heater: str) -> None:
        """A heater's temperature is followed: also what it warms."""
        if self._first("behaviour", heater):
            self.plant(heater)
            for kind in WARMED.get(self._declared.heaters[heater].part, ()):
                self.fact(kind)

    def holding(self, heater: str, celsius: float) -> None:
        """A heater is held: also the gains that are live for the target."""
        self.plant(heater)
        if self._first("holding", heater, f"{celsius:g}"):
            self._acting(f"heaters.{heater}.", "holding")
            root = gains_root(heater, celsius, self._declared.heaters[heater].gains, self.live)
            for key in ("kp", "ki", "kd"):
                self.note(f"{root}.{key}")

    def air(self, fan: str) -> None:
        """A fan is run."""
        if self._first("air", fan):
            self._acting(f"fans.{fan}.", "air")

    def driven_with(self, axis: str) -> tuple[str, ...]:
        """The axes whose motors move this one, itself among them."""
        return self._declared.machine.layout.carried_with(axis)

    def _first(self, *what: str) -> bool:
        """Whether this is the first time that it counts."""
        if not self.trace.noting or what in self._noted:
            return False
        self._noted.add(what)
        return True

    def _acting(self, root: str, *acts: Acts) -> None:
        for path in acting(self._connection.layers, root, acts):
            self.note(path)

    def _read(self, path: str, written: Value) -> Value:
        """A value of the machine file: the board's own where it holds it."""
        value = self.live(path) if path in self._connection.layers else self._kept.get(path, written)
        self.trace.note("setting", path, value, _tolerance(path))
        return value

    def _asked(self, path: str, declared: bool) -> None:
        self.trace.note("part", path, declared)

    def _listed(self, path: str, names: tuple[str, ...]) -> None:
        self.trace.note("parts", path, ", ".join(sorted(names)))


WARMED: Mapping[str, tuple[str, ...]] = {"hotend": ("nozzle", "sock"), "bed": ("surface",)}
"""Facts about what a heater warms, by what it heats."""


def acting(paths: Iterable[str], root: str, acts: tuple[Acts, ...]) -> tuple[str, ...]:
    """The settings below a root that act in one of these."""
    below = (path for path in paths if path.startswith(root))
    return tuple(path for path in below if (declared := SETTINGS.find(path)) is not None and declared.acts in acts)


def _tolerance(path: str) -> float:
    declared = SETTINGS.find(path)
    return declared.tolerance if declared is not None else 0.0
