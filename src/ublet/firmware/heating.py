"""The board's side of heat: readings, heaters driven by PID or relay under guards."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from ublet.core.heat.pid import TICK_S, Pid
from ublet.core.settings import Value
from ublet.core.sockets import Sockets
from ublet.firmware.guards import HeaterGuard, Trip
from ublet.firmware.live_values import (
    celsius_from,
    curve_from,
    fan_rule_from,
    gains_from,
    guard_limits_from,
    number_in,
)
from ublet.firmware.refusal import NOT_ALLOWED, Refused


@dataclass
class HeaterDrive:
    """How one heater is driven: off, by PID to a target, or by relay around one."""

    target_c: float | None = None
    pid: Pid | None = None
    relay: tuple[float, float, float] | None = None
    relay_on: bool = True
    duty: float = 0.0


class Heating:
    """Sensors, heaters and fans by live settings, one control period after the other."""

    def __init__(self, sockets: Sockets) -> None:
        self._sockets = sockets
        self.live: Mapping[str, Value] = {}
        self.heaters: list[str] = []
        self.sensors: list[str] = []
        self.fans: list[str] = []
        self.drives: dict[str, HeaterDrive] = {}
        self.fan_duty: dict[str, float] = {}
        self.blowing: dict[str, float] = {}
        self.readings: dict[str, float | None] = {}
        self.rests: Callable[[], bool] = lambda: False
        """Whether the current of all heaters is held off now, whatever their targets."""

    def start(self, live: Mapping[str, Value], heaters: list[str], sensors: list[str], fans: list[str]) -> None:
        """Power-on: everything is off."""
        self.live, self.heaters, self.sensors, self.fans = live, heaters, sensors, fans
        self.readings = {}
        self.blowing = dict.fromkeys(fans, 0.0)
        self.all_off()
        self.settled()
        self.watch_anew()

    def settled(self) -> None:
        """What every tick needs of the live settings; anew whenever they change."""
        live = self.live
        self._curves = {name: curve_from(live, name) for name in self.sensors}
        self._limits = {name: guard_limits_from(live, name) for name in self.heaters}
        self._sensor_of = {name: str(live[f"heaters.{name}.sensor"]) for name in self.heaters}
        self._sensor_sockets = {name: str(live[f"sensors.{name}.socket"]) for name in self.sensors}
        self._heater_sockets = {name: str(live[f"heaters.{name}.socket"]) for name in self.heaters}
        self._fan_rules = {name: fan_rule_from(live, name) for name in self.fans}
        self._fan_sockets = {name: str(live[f"fans.{name}.socket"]) for name in self.fans}
        for name, drive in self.drives.items():
            if drive.pid is not None and drive.target_c is not None:
                drive.pid.gains = gains_from(live, name, drive.target_c)

    lacks: frozenset[str] = frozenset()
    """Guards that this firmware does not have."""

    def watch_anew(self) -> None:
        """Guards begin again."""
        self._guards = {name: HeaterGuard(name, self._sensor_of[name], TICK_S) for name in self.heaters}

    @property
    def heats(self) -> bool:
        """Whether anything is driven."""
        return any(drive.target_c is not None for drive in self.drives.values())

    def driven_state(self, heater: str) -> tuple[float | None, float | None]:
        """A heater's temperature and target, °C; None each where it does not read, or is off, or is not there."""
        drive = self.drives.get(heater)
        return self.readings.get(self._sensor_of.get(heater, "")), drive.target_c if drive is not None else None

    def all_off(self) -> None:
        """Every heater and fan off."""
        self.drives = {name: HeaterDrive() for name in self.heaters}
        self.fan_duty = dict.fromkeys(self.fans, 0.0)

    def was_on(self) -> list[dict[str, object]]:
        """What is on, as ``hello`` shows it."""
        on: list[dict[str, object]] = [
            {"what": f"heaters.{name}", "target_c": drive.target_c, "relay": drive.relay is not None}
            for name, drive in self.drives.items()
            if drive.target_c is not None
        ]
        return on + [{"what": f"fans.{name}", "duty": duty} for name, duty in self.fan_duty.items() if duty]

    # what may be asked for; the caller has seen to it that the board is ready

    def off(self, heater: str) -> None:
        """Switch a heater off."""
        self._must_be_heater(heater)
        self.drives[heater] = HeaterDrive()

    def hold(self, heater: str, celsius: float) -> None:
        """Drive a heater to a target by PID, or by on and off where that is declared.

        Raises:
            Refused: no such heater, above its maximum, or its sensor does not read.
        """
        self._may_heat(heater, celsius)
        drive, limit = self.drives[heater], self._limits[heater].power_limit
        if drive.pid is None:
            drive.pid = Pid(gains_from(self.live, heater, celsius))
        drive.pid.gains = gains_from(self.live, heater, celsius)
        drive.target_c, drive.relay = celsius, None
        if self.live.get(f"heaters.{heater}.control") == "on-off":
            half = number_in(self.live, f"heaters.{heater}.swing_c") / 2
            drive.relay, drive.pid = (half, limit, 0.0), None

    def relay(self, heater: str, centre_c: float, hysteresis_c: float, high: float, low: float) -> None:
        """Switch a heater between two duties around a temperature.

        Raises:
            Refused: as for :meth:`hold`, or duties out of order.
        """
        self._may_heat(heater, centre_c)
        drive, limit = self.drives[heater], self._limits[heater].power_limit
        if not 0 <= low < high <= limit + 1e-9 or not hysteresis_c > 0:
            raise Refused(NOT_ALLOWED, f"relay duties must be 0 <= low < high <= {limit:g}, hysteresis above 0")
        drive.relay, drive.target_c, drive.pid = (hysteresis_c, high, low), centre_c, None

    def blow(self, fan: str, duty: float) -> None:
        """Run a fan."""
        if fan not in self.fan_duty:
            raise Refused(NOT_ALLOWED, f"no fan “{fan}” on this board; known: {', '.join(self.fans)}")
        if not 0 <= duty <= 1:
            raise Refused(NOT_ALLOWED, f"fan duty {duty:g}: allowed 0 to 1")
        self.fan_duty[fan] = duty

    # time

    def control(self) -> Iterator[Trip]:
        """One control period: read, watch, drive. Yields guards that trip, heater by heater."""
        ratios = {name: self._sockets.ratio(self._sensor_sockets[name]) for name in self.sensors}
        self.readings = {name: celsius_from(self._curves[name], ratio) for name, ratio in ratios.items()}
        for name in self.heaters:
            sensor = self._sensor_of[name]
            celsius, drive = self.readings.get(sensor), self.drives[name]
            trip = self._guards[name].watch(
                self._limits[name], ratios.get(sensor, 1.0), celsius, drive.duty, drive.target_c
            )
            if trip is not None and trip.guard not in self.lacks:
                yield trip
            self._drive(self.drives[name], celsius, self._limits[name].power_limit)
        for name, rule in self._fan_rules.items():
            celsius = self.readings.get(self._sensor_of.get(rule.heater, ""))
            self.blowing[name] = rule.blows(self.fan_duty[name], celsius)

    def put_out(self) -> None:
        """What heaters and fans are driven with goes to their sockets."""
        heat, resting = dict[str, float](), self.rests()
        for name, socket in self._heater_sockets.items():
            heat[socket] = heat.get(socket, 0.0) + (0.0 if resting else self.drives[name].duty)
        self._sockets.heat(heat)
        blown: dict[str, float] = {}
        for name, socket in self._fan_sockets.items():
            blown[socket] = max(blown.get(socket, 0.0), self.blowing[name])
        self._sockets.blow(blown)

    # inside

    def _drive(self, drive: HeaterDrive, celsius: float | None, limit: float) -> None:
        """Set a heater's duty."""
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
            drive.duty = drive.pid.duty(drive.target_c, celsius, limit)

    def _must_be_heater(self, heater: str) -> None:
        if heater not in self.drives:
            raise Refused(NOT_ALLOWED, f"no heater “{heater}” on this board; known: {', '.join(self.heaters)}")

    def _may_heat(self, heater: str, celsius: float) -> None:
        self._must_be_heater(heater)
        maximum = self._limits[heater].maximum_c
        if not 0 < celsius <= maximum:
            raise Refused(NOT_ALLOWED, f"{heater}: target {celsius:g} °C, allowed up to {maximum:g} °C")
        sensor = self._sensor_of[heater]
        if self.readings and self._sockets.ratio(self._sensor_sockets.get(sensor, "")) in (0.0, 1.0):
            raise Refused(NOT_ALLOWED, f"the {sensor} sensor reads open or shorted: check its plug and cable")
