"""The frame and the accelerometer as they really are: tables of a scenario."""

from __future__ import annotations

from typing import Literal

from ublet.core.machine.tool_parts import Direction
from ublet.core.settings import Part, setting
from ublet.world.frame import FrameTruth
from ublet.world.shake import AccelerometerTruth


class AccelerometerPart(Part):
    """An accelerometer on a moving part, as it really is."""

    socket: str = setting("Bus socket that its module is really plugged into; empty: as declared.", default="")
    noise_m_s2: float = setting("Standard deviation of a reading.", unit="m/s²", low=0, high=50, default=0.12)
    offset_x_m_s2: float = setting("What X reads too much.", unit="m/s²", low=-5, high=5, default=0.0)
    offset_y_m_s2: float = setting("What Y reads too much.", unit="m/s²", low=-5, high=5, default=0.0)
    offset_z_m_s2: float = setting("What Z reads too much.", unit="m/s²", low=-5, high=5, default=0.0)
    clock_error: float = setting("Share by which it takes readings too often.", low=-0.05, high=0.05, default=0.005)
    reads_x: Direction = setting("Axis of the machine along which its X points.", default="x")
    reads_y: Direction = setting("Axis along which its Y points.", default="y")
    reads_z: Direction = setting("Axis along which its Z points.", default="z")
    lean_deg: float = setting("It leans over to the front.", unit="°", low=-90, high=90, default=0.0)
    range_m_s2: float = setting("Readings end here.", unit="m/s²", low=10, high=78, default=78.0)
    loose: float = setting("A mount that rattles: noise for what shakes it, as a share.", low=0, high=5, default=0.0)
    cable_share: float = setting(
        "What its cable adds to the head's mass, new each time it is listened to, standard, as a share.",
        low=0,
        high=0.5,
        default=0.0,
    )
    overflows_s: float = setting(
        "How often a second its memory overflows; each time up to 12 readings are lost.", low=0, high=20, default=0.0
    )
    on: Literal["head", "bed"] = setting("Where it sits on arrival.", default="head")
    held_hz: float = setting("How what holds it rings with it; 0: rigid.", unit="Hz", low=0, high=5000, default=0.0)
    held_damping: float = setting("Damping ratio of that.", low=0.005, high=0.9, default=0.1)

    def truth(self) -> AccelerometerTruth:
        """The accelerometer for the simulation."""
        offset = (self.offset_x_m_s2, self.offset_y_m_s2, self.offset_z_m_s2)
        reads = (self.reads_x, self.reads_y, self.reads_z)
        return AccelerometerTruth(
            self.noise_m_s2,
            offset,
            self.clock_error,
            reads,
            self.lean_deg,
            self.range_m_s2,
            self.loose,
            self.cable_share,
            self.overflows_s,
            self.on,
            self.held_hz,
            self.held_damping,
        )


class FramePart(Part):
    """What rings: belts, guides, feet, and what hangs loose. Masses stand in [carriages]."""

    belt_x_n_mm: float = setting(
        "Stiffness of X's belt with the head in the middle; on a CoreXY of belt A.",
        unit="N/mm",
        low=1,
        high=1000,
        default=34.0,
    )
    belt_y_n_mm: float = setting(
        "Stiffness of Y's belt; on a CoreXY of belt B.", unit="N/mm", low=1, high=1000, default=34.0
    )
    guide_x: float = setting("Damping ratio that X's guides give.", low=0.001, high=0.4, default=0.05)
    guide_y: float = setting("Damping ratio that Y's guides give.", low=0.001, high=0.4, default=0.05)
    nearer: float = setting("Share of a belt's stiffness that goes with the place.", low=0, high=0.8, default=0.1)
    base_kg: float = setting("The machine on its feet.", unit="kg", low=0.5, high=200, default=12.0)
    feet_hz: float = setting("How it rocks on them.", unit="Hz", low=0.5, high=200, default=9.0)
    feet_damping: float = setting("Damping ratio of that.", low=0.005, high=0.9, default=0.1)
    part_kg: float = setting("What hangs loose on the head; 0: nothing.", unit="kg", low=0, high=10, default=0.0)
    part_hz: float = setting("How that shakes by itself.", unit="Hz", low=5, high=300, default=80.0)
    part_damping: float = setting("Damping ratio of that.", low=0.005, high=0.5, default=0.03)
    load_kg: float = setting("What lies on a bed that moves.", unit="kg", low=0, high=20, default=0.0)
    slip_n: float = setting(
        "Friction of guides that grows no more beyond a speed.", unit="N", low=0, high=20, default=0.0
    )
    slip_mm_s: float = setting("That speed.", unit="mm/s", low=0.5, high=200, default=20.0)

    def truth(self) -> FrameTruth:
        """The frame for the simulation."""
        return FrameTruth(**self.model_dump())
