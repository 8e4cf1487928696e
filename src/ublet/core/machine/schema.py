"""The machine file's schema: every setting declared once, by part; the parts stand in modules by room."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ublet.core.machine.heat_parts import Fan, Guards, Heater, Material, Sensor, Supply
from ublet.core.machine.layouts import LAYOUTS, Layout
from ublet.core.machine.level_parts import BedSettings, Lifts, MeshSettings, ProbeSettings
from ublet.core.machine.motion_parts import Axes, Axis, Endstop, MotionSettings, Motor
from ublet.core.machine.program_parts import ProgramText
from ublet.core.machine.tool_parts import Card, Display, Extruder, FilamentSensor, Modules, SensorMount
from ublet.core.settings import Known, Name, Part, declarations, setting

__all__ = ["SETTINGS", "Axis", "Guards", "Heater", "MachineFile", "Material", "Motor", "Sensor"]


class Machine(Part):
    """What the machine is called."""

    name: str = setting("Name of the machine, shown in the title line.")
    note: str = setting("The maker's note: anything worth remembering.", default="")
    preset: str = setting(
        "The shipped machine file that this one began as; the report compares it with that.", default=""
    )
    kinematics: Literal["cartesian", "corexy", "belts-xz"] = setting(
        "How the motors move the head: one motor an axis, or two motors that share X and Y, or X and Z.",
        board=True,
        acts="way",
    )

    @property
    def layout(self) -> Layout:
        """How its motors carry its axes."""
        return LAYOUTS[self.kinematics]

    room_c: float | None = setting(
        "Room temperature where the machine stands; left out, it is taken from sensors at rest.",
        unit="°C",
        low=5,
        high=45,
        default=None,
        tolerance=5.0,
    )


class BoardSettings(Part):
    """The controller board."""

    model: str = setting("Kind of board; `ublet boards` lists the known ones.")
    dialect: str = setting(
        "Line language that the board speaks: a dialect's name or file (`ublet dialects`).",
        default="",
        zero="the protocol",
    )
    baud: int = setting("Line speed of the serial link.", unit="bd", low=9600, high=4_000_000, default=250_000)


class MachineFile(Part):
    """The whole machine file."""

    machine: Machine
    board: BoardSettings
    axes: Axes
    motion: MotionSettings = Field(default_factory=MotionSettings)
    endstops: dict[Name, Endstop] = Field(default_factory=dict)
    sensors: dict[Name, Sensor]
    heaters: dict[Name, Heater]
    fans: dict[Name, Fan] = Field(default_factory=dict)
    supply: Supply | None = None
    extruder: Extruder | None = None
    filament: FilamentSensor | None = None
    bed: BedSettings
    probe: ProbeSettings | None = None
    lifts: Lifts | None = None
    mesh: MeshSettings | None = None
    accelerometer: SensorMount = Field(default_factory=SensorMount)
    display: Display | None = None
    card: Card | None = None
    modules: Modules = Field(default_factory=Modules)
    program: ProgramText = Field(default_factory=ProgramText)
    materials: dict[Name, Material] = Field(default_factory=dict)

    @classmethod
    def declared(cls) -> Known:
        """Every declared setting, in the order of the file."""
        return SETTINGS


SETTINGS = Known(declarations(MachineFile))
"""Every declared setting, in the order of the file."""
