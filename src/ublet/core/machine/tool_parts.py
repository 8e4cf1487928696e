"""What prints and what people touch: extruder, display and knob, card, optional modules."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ublet.core.machine.motion_parts import Motor
from ublet.core.settings import Part, setting


class Extruder(Part):
    """What pushes the filament."""

    motor: Motor
    numbers_from: str = setting("Part that its numbers come from (ublet parts); empty: your own.", default="")
    hob_mm: float = setting(
        "Diameter of the gear where it grips the filament.", unit="mm", low=3, high=50, default=11.0
    )
    gear_ratio: float = setting("Motor turns for one turn of that gear.", low=0.05, high=100, default=1.0)
    steps_per_mm: float | None = setting(
        "Steps per millimetre of filament, when measured; left out, the geometry gives it.",
        unit="steps/mm",
        low=1,
        high=20_000,
        default=None,
        board=True,
        acts="length",
    )
    filament_mm: float = setting("Diameter of the filament.", unit="mm", low=1, high=4, default=1.75, board=True)
    nozzle_mm: float = setting("Diameter of the nozzle's hole.", unit="mm", low=0.1, high=2, default=0.4)
    maximum_feed_mm_s: float = setting("Largest feed rate.", unit="mm/s", low=0.5, high=300, default=40.0, board=True)
    acceleration_mm_s2: float = setting(
        "Largest acceleration.", unit="mm/s²", low=10, high=50_000, default=1500.0, board=True
    )
    jerk_mm_s: float = setting(
        "Change of speed taken without a ramp.", unit="mm/s", low=0, high=60, default=3.0, board=True
    )
    least_c: float = setting(
        "Colder than this the board does not push.", unit="°C", low=100, high=300, default=170.0, board=True
    )
    advance_s: float = setting(
        "Pressure advance: time constant of the melt.", unit="s", low=0, high=3, default=0.0, board=True
    )
    tube_mm: float = setting(
        "Length of the tube between extruder and hotend; 0: it pushes right into it.",
        zero="direct",
        unit="mm",
        low=0,
        high=2000,
        default=0.0,
    )
    load_mm: float = setting(
        "Filament that is pushed to load it, the last part slowly; 0: by the tube.",
        zero="by the tube",
        unit="mm",
        low=0,
        high=3000,
        default=0.0,
    )
    unload_mm: float = setting(
        "Filament that is pulled back to unload it; 0: by the tube.",
        zero="by the tube",
        unit="mm",
        low=0,
        high=3000,
        default=0.0,
    )
    purge_mm: float = setting("Filament that is pushed to purge.", unit="mm", low=1, high=200, default=30.0)
    retract_mm: float = setting("Retraction.", unit="mm", low=0, high=20, default=0.8, board=True)
    retract_mm_s: float = setting("Speed of the retraction.", unit="mm/s", low=1, high=150, default=30.0, board=True)


class FilamentSensor(Part):
    """What sees whether filament is there while something is printed; when it is not, the print is held and lifted."""

    kind: Literal["switch", "wheel"] = setting(
        "A switch that the filament holds, or a wheel that it turns.", default="switch", board=True
    )
    socket: str = setting("Input socket that it is plugged into.", board=True, socket="input", acts="switch")
    pull_up: bool = setting("Whether the board pulls the input up.", default=True, board=True, acts="switch")
    normally_closed: bool = setting(
        "Closed while filament is there: a broken wire then reads as none, which is safe.",
        default=True,
        board=True,
        acts="switch",
    )
    slack_mm: float = setting(
        "Kind wheel: filament that may be pushed while it stands still.",
        unit="mm",
        low=1,
        high=200,
        default=15.0,
        board=True,
    )
    lift_mm: float = setting(
        "The nozzle is lifted by this while the print is held.", unit="mm", low=0, high=50, default=5.0, board=True
    )


class Knob(Part):
    """The knob beside the display."""

    pulses_per_detent: int = setting("Pulses from one click to the next.", low=1, high=16, default=4, board=True)
    reversed: bool = setting("Whether turning right counts down.", default=False, board=True)


class Display(Part):
    """The machine's own display."""

    kind: Literal["text", "graphic"] = setting("Lines of text, or dots.", board=True)
    socket: str = setting("Socket that its cable is plugged into.", board=True, socket="display")
    language: Literal["en", "de", "es", "fr", "it", "nl", "pl", "pt"] = setting(
        "Language of its words.", default="en", board=True
    )
    picture: str | None = setting(
        "Start-up picture: a PBM file (128 x 64 dots at the most) beside the machine file.", default=None
    )
    knob: Knob = Field(default_factory=Knob)


class Card(Part):
    """The storage card."""

    socket: str = setting("Socket of its slot.", board=True, socket="card")
    detects: bool = setting("Whether the slot reports an inserted card.", default=True, board=True)


Direction = Literal["x", "-x", "y", "-y", "z", "-z"]


class SensorMount(Part):
    """The accelerometer that is mounted for a while: along which axis of the machine each of its own points."""

    socket: str | None = setting(
        "Bus socket of its module; left out: wherever it answers.", default=None, board=True, socket="bus"
    )
    held: Literal["screwed", "glued", "taped"] = setting("What holds it on the part that is shaken.", default="screwed")
    x: Direction = setting("Its X.", default="x", board=True)
    y: Direction = setting("Its Y.", default="y", board=True)
    z: Direction = setting("Its Z.", default="z", board=True)


class Modules(Part):
    """Optional modules of the firmware. Left out, each is in the image when the machine needs it."""

    display: bool | None = setting("The machine's own display.", default=None)
    picture: bool | None = setting("The start-up picture.", default=None)
    language: bool | None = setting("Words of the display in the chosen language.", default=None)
    card: bool | None = setting("Printing from the storage card.", default=None)
    probe: bool | None = setting("The bed probe.", default=None)
    mesh: bool | None = setting("The map of the bed's shape.", default=None)
    lifts: bool | None = setting("Levelling by the lift motors.", default=None)
    shaping: bool | None = setting("Input shaping.", default=None)
    advance: bool | None = setting("Pressure advance.", default=None)
    arcs: bool | None = setting("Curved moves (G2 and G3 of ISO 6983).", default=None)
    resume: bool | None = setting("Going on after a power cut.", default=None)
    counters: bool | None = setting("Counters of hours and filament.", default=None)
