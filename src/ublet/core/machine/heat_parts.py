"""What heats and cools: sensors, heaters with their guards and gain sets, fans, materials."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ublet.core.settings import Name, Part, setting


class CurvePoint(Part):
    """A point of a sensor's own curve."""

    celsius: float = setting("Temperature.", unit="°C", low=-50, high=600, board=True, acts="reading")
    ohm: float = setting("Resistance at that temperature.", unit="Ω", low=1, high=1e7, board=True, acts="reading")


class Sensor(Part):
    """A temperature sensor under a pull-up resistor."""

    socket: str = setting("Board socket that the sensor is plugged into.", board=True, socket="sensor", acts="plug")
    kind: Literal["beta", "points", "steinhart", "platinum", "curve"] = setting(
        "How its curve is given: beta, three or more points, Steinhart-Hart coefficients, platinum by IEC 60751, or a "
        "generic curve.",
        default="beta",
        board=True,
        acts="reading",
    )
    r25_ohm: float | None = setting(
        "Kind beta: resistance at 25 °C.", unit="Ω", low=100, high=1e6, default=None, board=True, acts="reading"
    )
    beta_k: float | None = setting(
        "Kind beta: beta of the curve.", unit="K", low=2000, high=6000, default=None, board=True, acts="reading"
    )
    r0_ohm: float | None = setting(
        "Kind platinum: resistance at 0 °C.", unit="Ω", low=50, high=5000, default=None, board=True, acts="reading"
    )
    steinhart_a: float = setting(
        "Kind steinhart: a of 1/T = a + b ln R + c (ln R)^3.",
        unit="1/K",
        low=-0.02,
        high=0.02,
        default=0.0,
        board=True,
        acts="reading",
    )
    steinhart_b: float = setting(
        "Kind steinhart: b.", unit="1/K", low=0, high=0.01, default=0.0, board=True, acts="reading"
    )
    steinhart_c: float = setting(
        "Kind steinhart: c.", unit="1/K", low=-1e-4, high=1e-4, default=0.0, board=True, acts="reading"
    )
    curve: str | None = setting("Kind curve: name of a generic curve.", default=None)
    pullup_ohm: float = setting(
        "Pull-up resistor on the board.", unit="Ω", low=100, high=1e6, default=4700.0, board=True, acts="reading"
    )
    numbers_from: str = setting("Part that its numbers come from (ublet parts); empty: your own.", default="")
    points: dict[Name, CurvePoint] = Field(default_factory=dict)


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


class Limit(Part):
    """What a component of a heater stands."""

    celsius: float = setting("Highest temperature of this component.", unit="°C", low=40, high=600)
    note: str = setting("Where the figure comes from.", default="")


class GainSet(Part):
    """Gains with the temperature and material that they were found at; the board uses them there, if it is asked to."""

    at_c: float = setting(
        "Temperature that they were found at.", unit="°C", low=30, high=500, board=True, acts="holding"
    )
    used: bool = setting(
        "The board uses them for targets near that temperature instead of the heater's own.",
        default=False,
        board=True,
        acts="holding",
    )
    within_c: float = setting(
        "How far a target may be from that temperature.",
        unit="°C",
        low=1,
        high=100,
        default=15.0,
        board=True,
        acts="holding",
    )
    material: str | None = setting(
        "Material that they are meant for (a table below [materials]).", default=None, part="materials"
    )
    fan: float = setting("Part fan while they were found.", unit="duty", low=0, high=1, default=0.0)
    kp: float = setting("Proportional gain.", unit="/°C", low=0, high=10, board=True)
    ki: float = setting("Integral gain.", unit="/(°C·s)", low=0, high=10, board=True)
    kd: float = setting("Derivative gain.", unit="s/°C", low=0, high=100, board=True)


class Heater(Part):
    """A heater with its sensor, control gains and guards."""

    part: Literal["hotend", "bed", "chamber"] = setting(
        "What it heats: filament is pushed only while the hotend is warm enough.", board=True
    )
    socket: str = setting("Board socket that the heater is plugged into.", board=True, socket="heater", acts="plug")
    sensor: str = setting(
        "Name of the sensor that reads it (a table below [sensors]).", board=True, part="sensors", acts="plug"
    )
    numbers_from: str = setting("Part that its numbers come from (ublet parts); empty: your own.", default="")
    maximum_c: float = setting(
        "Highest temperature its parts can stand; the board switches off above.",
        unit="°C",
        low=40,
        high=500,
        board=True,
    )
    power_limit: float = setting(
        "Largest duty the board may use.", unit="duty", low=0.1, high=1, default=1.0, board=True, acts="plant"
    )
    watts: float | None = setting(
        "What it takes from the machine's supply at full duty; 0: it has one of its own; left out: not known.",
        unit="W",
        low=0,
        high=3000,
        default=None,
    )
    control: Literal["pid", "on-off"] = setting(
        "How it is held: PID, or on-off with a hysteresis.", default="pid", board=True, acts="holding"
    )
    swing_c: float = setting(
        "On-off: on below the target by half of this, off above it by half.",
        unit="°C",
        low=0.2,
        high=20,
        default=2.0,
        board=True,
        acts="holding",
    )
    kp: float = setting("Proportional gain.", unit="/°C", low=0, high=10, default=0.02, board=True)
    ki: float = setting("Integral gain.", unit="/(°C·s)", low=0, high=10, default=0.0002, board=True)
    kd: float = setting("Derivative gain.", unit="s/°C", low=0, high=100, default=0.0, board=True)
    guards: Guards = Field(default_factory=Guards)
    limits: dict[Name, Limit] = Field(default_factory=dict)
    gains: dict[Name, GainSet] = Field(default_factory=dict)


class Supply(Part):
    """The power supply of heaters, motors and fans."""

    volts: float = setting("Its voltage.", unit="V", low=5, high=60)
    watts: float = setting("Most that it gives for long.", unit="W", low=10, high=5000)


class Fan(Part):
    """A fan."""

    role: Literal["part", "hotend", "board"] = setting("What it cools.")
    socket: str = setting("Board socket that the fan is plugged into.", board=True, socket="fan", acts="air")
    follows: Literal["program", "heater", "motors", "always"] = setting(
        "What drives it: the printed program, a warm heater, moving motors, or it always runs.",
        default="program",
        board=True,
    )
    heater: str | None = setting(
        "Heater that it follows (a table below [heaters]).", default=None, board=True, part="heaters"
    )
    above_c: float = setting(
        "It runs while that heater is warmer than this.", unit="°C", low=30, high=150, default=50.0, board=True
    )
    least_duty: float = setting(
        "Below this duty it does not turn; less is raised to it.", unit="duty", low=0, high=1, default=0.0, board=True
    )


class Material(Part):
    """Temperatures for a material."""

    nozzle_c: float = setting("Nozzle temperature.", unit="°C", low=120, high=450, board=True)
    bed_c: float = setting("Bed temperature.", unit="°C", low=0, high=150, board=True)
    on_display: bool = setting("Whether the machine's own display offers it.", default=True, board=True)
    fan: float = setting("Part fan while printing.", unit="duty", low=0, high=1, default=1.0)
    largest_flow_mm3_s: float | None = setting(
        "Most that melts of it in a second; left out: not measured.", unit="mm³/s", low=0.5, high=200, default=None
    )
    advance_s: float | None = setting(
        "Pressure advance of it at that temperature; left out: not found yet.", unit="s", low=0, high=3, default=None
    )
    retract_mm: float | None = setting(
        "Retraction that prints it clean; left out: not found yet.", unit="mm", low=0, high=20, default=None
    )
    shrinks_percent: float | None = setting(
        "By this a print of it comes out smaller; left out: not measured.", unit="%", low=-1, high=5, default=None
    )
    copied_from: str = setting(
        "Material whose found values stand here: another spool's, not proven for this one; empty: its own.", default=""
    )
    soft: bool = setting("Whether it bends like rubber: it follows the pressure later.", default=False)
    least_nozzle_c: float = setting(
        "Below this the extruder does not push.", unit="°C", low=100, high=400, default=170.0
    )
