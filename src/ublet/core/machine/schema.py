"""The machine file's schema: every setting declared once, by part."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ublet.core.settings import Declaration, Part, declarations, setting


class Machine(Part):
    """What the machine is called."""

    name: str = setting("Name of the machine, shown in the title line.")
    note: str = setting("The maker's note: anything worth remembering.", default="")
    room_c: float | None = setting(
        "Room temperature where the machine stands; left out, it is taken from sensors at rest.",
        unit="°C",
        low=5,
        high=45,
        default=None,
    )


class Board(Part):
    """The controller board."""

    model: str = setting("Kind of board; `ublet check` lists the known ones.")
    baud: int = setting("Line speed of the serial link.", unit="bd", low=9600, high=4_000_000, default=250_000)


class Sensor(Part):
    """A thermistor under a pull-up resistor."""

    socket: str = setting("Board socket that the sensor is plugged into.", board=True, socket="sensor")
    r25_ohm: float = setting("Resistance at 25 °C.", unit="Ω", low=100, high=1e6, board=True)
    beta_k: float = setting("Beta of the thermistor's curve.", unit="K", low=2000, high=6000, board=True)
    pullup_ohm: float = setting(
        "Pull-up resistor on the board.", unit="Ω", low=100, high=1e6, default=4700.0, board=True
    )


class Guards(Part):
    """Guards of a heater; the board enforces them, and they cannot be switched off."""

    rise_c: float = setting(
        "At full power the temperature must rise by this much in the rise window.",
        unit="°C",
        low=1,
        high=20,
        default=4.0,
        board=True,
    )
    rise_window_s: float = setting("Rise window.", unit="s", low=5, high=300, default=20.0, board=True)
    drift_c: float = setting(
        "Largest distance from the target once it was reached.",
        unit="°C",
        low=3,
        high=30,
        default=15.0,
        board=True,
    )
    drift_window_s: float = setting("How long the drift may last.", unit="s", low=5, high=180, default=30.0, board=True)


class Heater(Part):
    """A heater with its sensor, control gains and guards."""

    part: Literal["hotend", "bed", "chamber"] = setting("What it heats.")
    socket: str = setting("Board socket that the heater is plugged into.", board=True, socket="heater")
    sensor: str = setting("Name of the sensor that reads it (a table below [sensors]).", board=True)
    maximum_c: float = setting(
        "Highest temperature its parts can stand; the board switches off above.",
        unit="°C",
        low=40,
        high=500,
        board=True,
    )
    power_limit: float = setting(
        "Largest duty the board may use.", unit="duty", low=0.1, high=1, default=1.0, board=True
    )
    kp: float = setting("Proportional gain.", unit="/°C", low=0, high=10, default=0.02, board=True)
    ki: float = setting("Integral gain.", unit="/(°C·s)", low=0, high=10, default=0.0002, board=True)
    kd: float = setting("Derivative gain.", unit="s/°C", low=0, high=100, default=0.0, board=True)
    guards: Guards = Field(default_factory=Guards)


class Fan(Part):
    """A fan."""

    role: Literal["part", "hotend", "board"] = setting("What it cools.")
    socket: str = setting("Board socket that the fan is plugged into.", board=True, socket="fan")


class Material(Part):
    """Temperatures for a material."""

    nozzle_c: float = setting("Nozzle temperature.", unit="°C", low=120, high=450)
    bed_c: float = setting("Bed temperature.", unit="°C", low=0, high=150)
    fan: float = setting("Part fan while printing.", unit="duty", low=0, high=1, default=1.0)


class MachineFile(Part):
    """The whole machine file."""

    machine: Machine
    board: Board
    sensors: dict[str, Sensor]
    heaters: dict[str, Heater]
    fans: dict[str, Fan] = Field(default_factory=dict)
    materials: dict[str, Material] = Field(default_factory=dict)


SETTINGS: tuple[Declaration, ...] = tuple(declarations(MachineFile))
"""Every declared setting, in the order of the file."""
