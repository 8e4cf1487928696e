"""The bed, its lifts, the probe and the nozzle's tip as they really are: tables of a scenario."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ublet.core.settings import Part, setting
from ublet.world.coil import CoilTruth


class WavePart(Part):
    """One wave of a surface: ``mm · cos(π · along_x · x/width + phase_x) · cos(π · along_y · y/depth + phase_y)``."""

    mm: float = setting("Amplitude.", unit="mm", low=-5, high=5)
    along_x: float = setting("Half waves over the bed's width.", low=0, high=20, default=1.0)
    along_y: float = setting("Half waves over its depth.", low=0, high=20, default=1.0)
    phase_x: float = setting("Phase along X.", unit="rad", low=-7, high=7, default=0.0)
    phase_y: float = setting("Phase along Y.", unit="rad", low=-7, high=7, default=0.0)


class ScrewTruth(Part):
    """A screw of the bed as it really is."""

    off_mm: float = setting(
        "How much too high the bed stands there on arrival.", unit="mm", low=-10, high=10, default=0
    )
    spring_mm: float = setting(
        "How far its spring is fully compressed on arrival.", unit="mm", low=0, high=30, default=4
    )
    solid_mm: float = setting("Pressed so far it can go no further.", unit="mm", low=0.5, high=30, default=9)
    x_mm: float | None = setting(
        "Where it really stands; as declared when left out.", unit="mm", low=-200, high=2000, default=None
    )
    y_mm: float | None = setting("Likewise.", unit="mm", low=-200, high=2000, default=None)


class LiftTruth(Part):
    """A lift as it really is: a lead screw that carries the bed or the gantry. Its motor stands in [motors]."""

    off_mm: float = setting("How much wider the gap is there on arrival.", unit="mm", low=-20, high=20, default=0)
    play_mm: float = setting("Lost when it turns the other way.", unit="mm", low=0, high=2, default=0)
    sags_mm: float = setting(
        "How far it sinks each time that its motor loses its power: the gap gets wider.",
        unit="mm",
        low=-5,
        high=5,
        default=0,
    )
    pivot_x_mm: float | None = setting(
        "Where it really carries; as declared when left out.", unit="mm", low=-500, high=2000, default=None
    )
    pivot_y_mm: float | None = setting("Likewise.", unit="mm", low=-500, high=2000, default=None)


class BedTruth(Part):
    """The bed's surface: higher is nearer to the nozzle."""

    bow_mm: float = setting("How much higher its middle is than its rim, cold.", unit="mm", low=-3, high=3, default=0)
    bow_mm_k: float = setting(
        "And with each °C that it is warmer than the room.", unit="mm/K", low=-0.05, high=0.05, default=0
    )
    rise_mm_k: float = setting(
        "How much the whole bed rises with each °C that its frame is warmer than the room.",
        unit="mm/K",
        low=-0.05,
        high=0.05,
        default=0,
    )
    frame_s: float = setting(
        "Time constant in which the frame follows the bed.", unit="s", low=1, high=36000, default=600
    )
    neighbours: float = setting("Share of a screw's turn that its neighbours follow.", low=0, high=0.6, default=0.12)
    follows_twist: float = setting(
        "On four lifts: share of a twist that the frame gives way to.", low=0, high=1, default=0.8
    )
    waves: list[WavePart] = Field(default_factory=list)
    screws: dict[str, ScrewTruth] = Field(default_factory=dict)
    lifts: dict[str, LiftTruth] = Field(default_factory=dict)


class ProbeTruth(Part):
    """The probe; where it triggers stands with its switch (``[switches.probe]``)."""

    offset_x_mm: float | None = setting(
        "Where it really sits seen from the nozzle, to the right; as declared when left out.",
        unit="mm",
        low=-200,
        high=200,
        default=None,
    )
    offset_y_mm: float | None = setting("Likewise, behind it.", unit="mm", low=-200, high=200, default=None)
    stowed_mm: float = setting(
        "How high its end hangs over the nozzle's tip, stowed.", unit="mm", low=-20, high=50, default=3.0
    )
    delay_s: float = setting("From its trigger to the motor's stop.", unit="s", low=0, high=0.2, default=0.001)
    lean_mm: float = setting(
        "Earlier trigger where the bed rises by 1 mm a mm to the right.",
        unit="mm",
        low=-20,
        high=20,
        default=0,
    )
    drift_mm_k: float = setting(
        "Earlier trigger for each °C that it is warmer.", unit="mm/K", low=-0.02, high=0.02, default=0
    )
    warms_share: float = setting("How warm the bed makes it: share of the bed's own rise.", low=0, high=1, default=0.15)
    warms_s: float = setting("Time constant of that.", unit="s", low=1, high=36000, default=400)
    metal: list[WavePart] = Field(default_factory=list, description="How much later it triggers by uneven metal.")
    shakes_s: float = setting("Added scatter for each mm/s of approach speed.", unit="s", low=0, high=0.1, default=0)
    pin_mm: float = setting(
        "A pin comes down to another length each time: standard deviation.", unit="mm", low=0, high=0.2, default=0
    )
    hum_mm: float = setting(
        "How much a heater's current makes it trigger elsewhere: standard deviation at full duty.",
        unit="mm",
        low=0,
        high=0.5,
        default=0,
    )
    stays_up: float = setting("Share of its deployments that fail.", low=0, high=1, default=0)
    dies_after: int = setting("Touches after which it triggers no more; 0: never.", low=0, high=1_000_000, default=0)


class NozzleTruth(Part):
    """The nozzle's tip."""

    grows_mm_k: float = setting(
        "Longer with each °C that the hotend is warmer than the room.", unit="mm/K", low=0, high=0.01, default=0
    )
    drop_mm: float = setting("Plastic that hangs at it while it is cold.", unit="mm", low=0, high=2, default=0)
    soft_c: float = setting("From here on the plastic gives way.", unit="°C", low=30, high=300, default=120)


At = Literal["everywhere", "left", "right", "front", "back", "middle"]


class Knock(Part):
    """The bed is knocked, or another sheet is laid on it, in the middle of a series."""

    after_touches: int = setting("Number of touches after power-on.", low=0, high=1_000_000)
    mm: float = setting("Height that it rises.", unit="mm", low=-5, high=5)
    at: At = setting("Where; in the middle it bends.", default="everywhere")


class CoilPart(Part):
    """A coil over metal instead of the probe's switch: its line is what is plugged to the probe's socket."""

    socket: str = setting("Bus socket that its module is really plugged into; empty: as declared.", default="")
    inner_mm: float = setting("Radius of its innermost turn.", unit="mm", low=0.5, high=30, default=2.5)
    outer_mm: float = setting("Radius of its outermost turn.", unit="mm", low=1, high=40, default=7.0)
    turns: int = setting("Turns.", low=2, high=60, default=10)
    circuit_pf: float = setting("Capacitance that it rings with.", unit="pF", low=50, high=50_000, default=3000.0)
    mirror: float = setting("Share of its field that the metal turns back.", low=0.01, high=1, default=0.35)
    skin_mm: float = setting("How far below the surface it does.", unit="mm", low=0, high=2, default=0.08)
    copper_ppm_k: float = setting("Inductance with each °C, millionths.", low=-500, high=500, default=20.0)
    circuit_ppm_k: float = setting("Capacitance with each °C, millionths.", low=-2000, high=2000, default=80.0)
    circuit_ppm_k2: float = setting("And with its square.", low=-20, high=20, default=0.4)
    grows_mm_k: float = setting("How much nearer a degree brings it.", unit="mm/K", low=0, high=0.01, default=0.0004)
    loud_v_ma: float = setting("How loud a milliampere makes it far from metal, V.", low=0.1, high=50, default=2.2)
    lossy: float = setting("How much quieter metal makes it.", low=0, high=50, default=1.5)
    noise_hz: float = setting("Deviation of a reading at its best.", unit="Hz", low=0, high=10_000, default=40.0)
    late_s: float = setting("How old a reading is.", unit="s", low=0, high=0.02, default=0.003)
    hangs_mm: float = setting("How high it hangs over the nozzle's tip.", unit="mm", low=0, high=20, default=1.2)
    warms_share: float = setting("How warm the bed makes it: share of the bed's own rise.", low=0, high=1, default=0.4)
    warms_s: float = setting("Time constant of that.", unit="s", low=1, high=36000, default=300.0)

    def truth(self) -> CoilTruth:
        """The coil for the simulation."""
        return CoilTruth(**self.model_dump(exclude={"socket"}))
