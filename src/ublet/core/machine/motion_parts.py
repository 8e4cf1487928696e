"""What moves: motors and their drivers, axes, homing, endstops, cornering, input shaping."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ublet.core.settings import Grid, Name, Part, setting

Microsteps = Literal[1, 2, 4, 8, 16, 32, 64, 128, 256]


class Motor(Part):
    """A stepper motor on a driver socket."""

    socket: str = setting("Driver socket that the motor is plugged into.", board=True, socket="motor", acts="plug")
    reversed: bool = setting("Whether it turns against the declared direction.", default=False, board=True, acts="way")
    run_a: float = setting("Driver current while it moves.", unit="A", low=0.1, high=6, default=0.8, board=True)
    idle_a: float = setting("Driver current while it holds.", unit="A", low=0, high=6, default=0.4, board=True)
    microsteps: Microsteps = setting("Microsteps in a full step.", default=16, board=True, acts="length")
    quiet_to_mm_s: float = setting(
        "Below this speed its driver runs quietly, with less force; from there on strongly. 0: always strongly.",
        unit="mm/s",
        low=0,
        high=1000,
        default=0.0,
        zero="always strongly",
        board=True,
    )
    numbers_from: str = setting("Part that its numbers come from (ublet parts); empty: your own.", default="")
    step_angle_deg: float = setting("Full step of the motor.", unit="°", low=0.1, high=45, default=1.8)
    endstop: str | None = setting(
        "Lift: its own endstop (a table below [endstops]); homing then brings every lift to its own.",
        default=None,
        board=True,
        part="endstops",
        acts="end",
    )
    endstop_off_mm: float = setting(
        "Lift with its own endstop: homed it goes so far away from it, so that the bed is square.",
        unit="mm",
        low=-10,
        high=10,
        default=0.0,
        board=True,
        acts="end",
        tolerance=0.02,
    )
    pivot_x_mm: float | None = setting(
        "Lift: where it carries the bed or gantry, from the bed's front left corner.",
        unit="mm",
        low=-500,
        high=2000,
        default=None,
    )
    pivot_y_mm: float | None = setting(
        "Lift: where it carries the bed or gantry, from the bed's front left corner.",
        unit="mm",
        low=-500,
        high=2000,
        default=None,
    )


class Homing(Part):
    """How an axis finds its end."""

    end: Literal["low", "high", "probe"] = setting(
        "End that it homes to: low, high, or down onto the bed with the probe (Z only).",
        default="low",
        board=True,
        acts="end",
    )
    endstop: str | None = setting(
        "Endstop at that end (a table below [endstops]).", default=None, board=True, part="endstops", acts="end"
    )
    order: int = setting("Place in the order of homing; equal places home together.", low=1, high=3, board=True)
    fast_mm_s: float = setting(
        "Speed of the first approach.", unit="mm/s", low=0.1, high=300, board=True, acts="end", tolerance=5.0
    )
    slow_mm_s: float = setting(
        "Speed of the second approach.", unit="mm/s", low=0.05, high=50, board=True, acts="end", tolerance=0.5
    )
    back_off_mm: float = setting(
        "Distance to back off between the approaches.", unit="mm", low=0.1, high=50, default=3.0, board=True
    )
    lift_mm: float = setting(
        "Z is lifted by this before the axis homes, so that the nozzle does not drag.",
        unit="mm",
        low=0,
        high=50,
        default=0.0,
        board=True,
    )
    over_x_mm: float | None = setting(
        "Z only: where over the bed it homes (position of the nozzle).",
        unit="mm",
        low=-500,
        high=2000,
        default=None,
        board=True,
        acts="end",
        tolerance=1.0,
    )
    over_y_mm: float | None = setting(
        "Z only: where over the bed it homes (position of the nozzle).",
        unit="mm",
        low=-500,
        high=2000,
        default=None,
        board=True,
        acts="end",
        tolerance=1.0,
    )
    preheat_nozzle_c: float | None = setting(
        "Z only: nozzle temperature to reach before homing.", unit="°C", low=30, high=300, default=None, board=True
    )
    preheat_bed_c: float | None = setting(
        "Z only: bed temperature to reach before homing.", unit="°C", low=25, high=150, default=None, board=True
    )


class ShaperSettings(Part):
    """Input shaping of one axis."""

    kind: Literal["none", "zv", "zvd", "ei", "two-hump-ei", "three-hump-ei", "own"] = setting(
        "Kind of shaper; own: the impulse train below.", default="none", board=True
    )
    frequency_hz: float = setting("Frequency of the ringing.", unit="Hz", low=5, high=200, default=45.0, board=True)
    damping: float = setting("Damping ratio of the ringing.", low=0, high=0.9, default=0.1, board=True)
    train: Grid = setting(
        "Kind own: the impulse train found for this frame, time (s) and share of each impulse.",
        low=-1,
        high=2,
        default=(),
        board=True,
        shape=("impulses", "time and share"),
        bench="input shaper",
    )


class Axis(Part):
    """One axis. Lengths count from the bed's front left corner; Z from the bed's surface."""

    minimum_mm: float = setting("Lowest position it can reach.", unit="mm", low=-500, high=2000, board=True)
    maximum_mm: float = setting("Highest position it can reach.", unit="mm", low=1, high=2000, board=True)
    soft_limits: bool = setting("Whether moves are kept between the two.", default=True, board=True)
    numbers_from: str = setting("Part that its numbers come from (ublet parts); empty: your own.", default="")
    drive: Literal["belt", "screw"] = setting("What turns rotation into travel.")
    belt_pitch_mm: float = setting("Belt: distance from tooth to tooth.", unit="mm", low=0.5, high=10, default=2.0)
    pulley_teeth: int = setting("Belt: teeth of the motor's pulley.", low=5, high=200, default=20)
    screw_lead_mm: float = setting("Screw: travel in one turn.", unit="mm", low=0.2, high=100, default=8.0)
    gear_ratio: float = setting("Motor turns for one turn of pulley or screw.", low=0.05, high=100, default=1.0)
    steps_per_mm: float | None = setting(
        "Steps per millimetre, when measured; left out, the geometry gives it.",
        unit="steps/mm",
        low=0.5,
        high=50_000,
        default=None,
        board=True,
        acts="length",
    )
    maximum_feed_mm_s: float = setting("Largest feed rate.", unit="mm/s", low=0.1, high=2000, board=True)
    acceleration_mm_s2: float = setting("Largest acceleration.", unit="mm/s²", low=1, high=100_000, board=True)
    jerk_mm_s: float = setting(
        "Change of speed taken without a ramp, when cornering is by jerk.",
        unit="mm/s",
        low=0,
        high=60,
        default=6.0,
        board=True,
    )
    homing: Homing
    motors: dict[Name, Motor]
    shaper: ShaperSettings = Field(default_factory=ShaperSettings)

    @property
    def lift_endstops(self) -> dict[str, str]:
        """The endstop of each motor, where several have one of their own; empty: they home together."""
        own = {name: motor.endstop for name, motor in self.motors.items() if motor.endstop is not None}
        return own if len(own) > 1 else {}

    @property
    def has_end(self) -> bool:
        """Whether something shows its end when it homes."""
        return self.homing.end == "probe" or self.homing.endstop is not None or bool(self.lift_endstops)


class Axes(Part):
    """The three axes."""

    x: Axis
    y: Axis
    z: Axis


class MotionSettings(Part):
    """How moves are joined."""

    cornering: Literal["jerk", "junction"] = setting(
        "Corners by a jerk for each axis, or by one junction deviation.", default="junction", board=True
    )
    junction_deviation_mm: float = setting(
        "How far the path may leave a corner, for cornering by junction.",
        unit="mm",
        low=0.001,
        high=1,
        default=0.02,
        board=True,
    )
    print_acceleration_mm_s2: float = setting(
        "Largest acceleration of moves that print; 0: that of their axes.",
        unit="mm/s²",
        low=0,
        high=100_000,
        default=0.0,
        board=True,
        zero="that of their axes",
    )
    skew_deg: float = setting(
        "By this the frame's X and Y are no right angle, corrected in motion; positive: prints' diagonal from the left "
        "front is the longer one.",
        unit="°",
        low=-2,
        high=2,
        default=0.0,
        board=True,
        zero="square",
    )
    idle_hold_s: float = setting(
        "Motors hold for so long after the last move.", unit="s", low=1, high=7200, default=300.0, board=True
    )


class Endstop(Part):
    """A switch at the end of an axis."""

    socket: str = setting("Input socket that the switch is plugged into.", board=True, socket="input", acts="switch")
    pull_up: bool = setting("Whether the board pulls the input up.", default=True, board=True, acts="switch")
    normally_closed: bool = setting(
        "Closed at rest, open when pressed: a broken wire then reads as pressed, which is safe.",
        default=True,
        board=True,
        acts="switch",
    )
