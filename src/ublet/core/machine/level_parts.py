"""What is levelled: the bed with its screws and surfaces, the probe, lifts, the mesh."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ublet.core.settings import Grid, Name, Numbers, Part, setting


class ProbePart(Part):
    """The mount that the probe hangs on, as its maker's sheet says: what is measured is held against it."""

    name: str = setting("What it is called.")
    offset_x_mm: float = setting("To the right of the nozzle (negative: left).", unit="mm", low=-200, high=200)
    offset_y_mm: float = setting("Behind the nozzle (negative: in front).", unit="mm", low=-200, high=200)


class CoilProbe(Part):
    """Kind coil: how it is driven, how fast it rings at which height, and how its own warmth shifts that. Frequencies
    are over the sensor's own reference.
    """

    socket: str | None = setting(
        "Bus socket of its own module; left out: wherever it answers.",
        default=None,
        board=True,
        socket="bus",
        acts="switch",
    )
    drive_ma: float = setting(
        "Current that it is driven with.", unit="mA", low=0.02, high=2, default=0.5, board=True, acts="switch"
    )
    trigger_hz: float = setting(
        "Rings it this fast, metal is near; 0: not known yet.",
        unit="Hz",
        low=-1e7,
        high=1e7,
        default=0.0,
        board=True,
        acts="switch",
        tolerance=200.0,
        zero="not known yet",
    )
    curve_low_mm: float = setting(
        "Height of the nozzle over the bed at the first point of the curve.",
        unit="mm",
        low=0,
        high=20,
        default=0.0,
        board=True,
    )
    curve_top_mm: float = setting(
        "And at the last; the points between lie evenly.", unit="mm", low=0, high=20, default=0.0, board=True
    )
    curve_hz: Numbers = setting(
        "How fast it rings at each point; empty: not measured yet.",
        unit="Hz",
        low=-1e7,
        high=1e7,
        default=(),
        board=True,
        shape=("points",),
        tolerance=200.0,
        bench="coil probe",
    )
    drift: Numbers = setting(
        "What its warmth adds: Hz a °C, share a °C of what rings over the curve's last point, Hz a °C squared; empty: "
        "not measured yet.",
        low=-1e6,
        high=1e6,
        default=(),
        board=True,
        shape=("terms",),
        bench="coil probe",
    )
    warmth_c: float = setting(
        "How warm it was when the curve was measured; drift counts from there.",
        unit="°C",
        low=-50,
        high=200,
        default=25.0,
        board=True,
    )
    far_hz: float = setting(
        "How fast it rings at the curve's last point.", unit="Hz", low=-1e7, high=1e7, default=0.0, board=True
    )
    holds_to_c: float = setting(
        "The drift is known up to this; 0: not measured.",
        unit="°C",
        low=0,
        high=200,
        default=0.0,
        zero="not measured",
        board=True,
    )
    pass_mm_s: float = setting(
        "Speed of a pass over the bed without touching.", unit="mm/s", low=1, high=500, default=60.0, board=True
    )


class ProbeSettings(Part):
    """What finds the bed's height. Offsets: where the probe sits seen from the nozzle."""

    kind: Literal["pin", "inductive", "coil", "nozzle"] = setting(
        "A pin that deploys and stows, an inductive sensor, a coil that rings faster near metal, or the nozzle "
        "lowered by hand onto a gauge.",
        board=True,
        acts="switch",
    )
    socket: str | None = setting(
        "Input socket of its signal; none for the nozzle by hand.",
        default=None,
        board=True,
        socket="input",
        acts="switch",
    )
    servo_socket: str | None = setting(
        "Kind pin: socket that deploys and stows it.", default=None, board=True, socket="servo", acts="switch"
    )
    pull_up: bool = setting("Whether the board pulls the input up.", default=True, board=True, acts="switch")
    normally_closed: bool = setting("Closed at rest, open when it triggers.", default=False, board=True, acts="switch")
    offset_x_mm: float = setting(
        "To the right of the nozzle (negative: left).",
        unit="mm",
        low=-200,
        high=200,
        default=0.0,
        board=True,
        tolerance=0.5,
    )
    offset_y_mm: float = setting(
        "Behind the nozzle (negative: in front).",
        unit="mm",
        low=-200,
        high=200,
        default=0.0,
        board=True,
        tolerance=0.5,
    )
    offset_from: Literal["measured", "part"] = setting(
        "Where its offset comes from: measured, or by the part's numbers alone, within 1 mm.", default="measured"
    )
    offset_z_mm: float = setting(
        "Added to the nozzle's height where Z homes with the probe: more negative brings the nozzle nearer to the bed. "
        "Of the nozzle by hand it counts beside bed.offset_z_mm, which is the one that trials set there.",
        unit="mm",
        low=-20,
        high=20,
        default=0.0,
        board=True,
        tolerance=0.02,
    )
    approach_mm_s: float = setting(
        "Speed towards the bed.", unit="mm/s", low=0.1, high=50, default=5.0, board=True, tolerance=0.5
    )
    travel_mm_s: float = setting("Speed between points.", unit="mm/s", low=1, high=1000, default=120.0, board=True)
    lift_mm: float = setting(
        "Height over the bed between points.", unit="mm", low=0.5, high=50, default=5.0, board=True
    )
    deepest_mm: float = setting(
        "How far below the expected bed a touch is given up.", unit="mm", low=0.2, high=20, default=2.5
    )
    samples: int = setting("Touches at each point.", low=1, high=20, default=2, board=True)
    tolerance_mm: float = setting(
        "Largest spread of the touches at a point.", unit="mm", low=0.001, high=1, default=0.02, board=True
    )
    heaters_off: bool = setting(
        "Heaters get no current while it comes down: on some machines that disturbs it.", default=False, board=True
    )
    deploy_s: float = setting("Kind pin: time to deploy.", unit="s", low=0, high=5, default=0.4, board=True)
    stow_s: float = setting("Kind pin: time to stow.", unit="s", low=0, high=5, default=0.4, board=True)
    part: ProbePart | None = None
    coil: CoilProbe | None = None
    gauge_mm: float = setting("Thickness of the gauge for touching by hand.", unit="mm", low=0.01, high=2, default=0.1)

    @property
    def senses_metal(self) -> bool:
        """Whether it senses metal from afar, and touches nothing."""
        return self.kind in ("inductive", "coil")


class Screw(Part):
    """A screw that carries a corner of the bed."""

    x_mm: float = setting("Where it stands, from the bed's front left corner.", unit="mm", low=-200, high=2000)
    y_mm: float = setting("Where it stands, from the bed's front left corner.", unit="mm", low=-200, high=2000)
    pitch_mm: float = setting("Travel in one turn.", unit="mm", low=0.1, high=5, default=0.5)
    handed: Literal["right", "left"] = setting("Thread; nearly every screw is right-handed.", default="right")
    clockwise: Literal["raises", "lowers"] = setting(
        "What a turn clockwise, seen from above, does to the bed there.", default="lowers"
    )


class SheetSettings(Part):
    """A sheet that lies on the bed."""

    maximum_c: float = setting("Highest bed temperature it can stand.", unit="°C", low=30, high=200, default=120.0)
    thickness_mm: float = setting("Thickness.", unit="mm", low=0, high=20, default=0.0)
    note: str = setting("Anything worth remembering.", default="")


class BedSettings(Part):
    """The bed. Its front left corner is the origin of X and Y."""

    moves: Literal["no", "y"] = setting(
        "Whether it is the bed that moves along an axis, instead of the head.", default="no"
    )
    width_mm: float = setting("Along X.", unit="mm", low=30, high=2000, board=True)
    depth_mm: float = setting("Along Y.", unit="mm", low=30, high=2000, board=True)
    offset_z_mm: float = setting(
        "Added to the nozzle's height where Z homes to an endstop: more negative brings the nozzle nearer to the bed.",
        unit="mm",
        low=-20,
        high=20,
        default=0.0,
        board=True,
        tolerance=0.02,
    )
    margin_mm: float = setting(
        "Rim where nothing is printed or probed.", unit="mm", low=0, high=200, default=5.0, board=True
    )
    soak_s: float = setting(
        "Wait at its temperature before anything is probed or printed: its surface lags its sensor.",
        unit="s",
        low=0,
        high=7200,
        default=0.0,
        board=True,
    )
    surface_sensor: str | None = setting(
        "Sensor that reads its surface, where there is one (a table below [sensors]).", default=None, part="sensors"
    )
    screws: dict[Name, Screw] = Field(default_factory=dict)
    surfaces: dict[Name, SheetSettings] = Field(default_factory=dict)


class Lifts(Part):
    """Levelling by the lift motors of Z (their pivots stand with the motors)."""

    tolerance_mm: float = setting(
        "Range over the pivots that counts as level.", unit="mm", low=0.002, high=1, default=0.03, board=True
    )
    largest_mm: float = setting("A larger correction is refused.", unit="mm", low=0.1, high=30, default=4.0, board=True)
    rounds: int = setting("Rounds at the most.", low=1, high=20, default=5, board=True)
    hold: bool = setting(
        "Whether the lead screws stay where they are without power; if not, squareness is unknown after every time "
        "that the motors were off.",
        default=False,
    )


def rim_out_of_reach(reach_low_mm: float, reach_high_mm: float, size_mm: float) -> float:
    """The least margin of a mesh along a side of the bed, by what the probe reaches of it, mm."""
    return max(reach_low_mm, size_mm - reach_high_mm, 0.0)


class MeshSettings(Part):
    """The map of the bed's shape."""

    columns: int = setting("Points along X; an odd count has one in the middle.", low=2, high=44, default=5, board=True)
    rows: int = setting("Points along Y; an odd count has one in the middle.", low=2, high=44, default=5, board=True)
    margin_mm: float = setting(
        "Distance of the outer points from the bed's rim.", unit="mm", low=0, high=200, default=15.0, board=True
    )
    between: Literal["bilinear", "bicubic"] = setting(
        "How the height between points is found.", default="bicubic", board=True
    )
    fade_mm: float = setting(
        "Height at which the correction has faded to zero.", unit="mm", low=0.5, high=100, default=10.0, board=True
    )
    follows: bool = setting("Whether Z follows the heights below while it moves.", default=True, board=True)
    zero_x_mm: float | None = setting(
        "Heights are zero there; left out: over the bed's middle.", unit="mm", low=-200, high=2000, default=None
    )
    zero_y_mm: float | None = setting("The same along Y.", unit="mm", low=-200, high=2000, default=None)
    shift_mm: float = setting(
        "Added to all of its heights where no probe senses the bed: more negative brings the nozzle nearer.",
        unit="mm",
        low=-2,
        high=2,
        default=0.0,
        board=True,
        tolerance=0.02,
    )
    from_x_mm: float = setting("X of the first column.", unit="mm", low=-200, high=2000, default=0.0, board=True)
    to_x_mm: float = setting("X of the last column.", unit="mm", low=-200, high=2000, default=0.0, board=True)
    from_y_mm: float = setting("Y of the first row.", unit="mm", low=-200, high=2000, default=0.0, board=True)
    to_y_mm: float = setting("Y of the last row.", unit="mm", low=-200, high=2000, default=0.0, board=True)
    correction_mm: Grid = setting(
        "Added to the heights below, over the same area, row by row from the front left: what is printed on is not "
        "quite what the probe senses.",
        unit="mm",
        low=-2,
        high=2,
        default=(),
        board=True,
        shape=("correction rows", "correction columns"),
        tolerance=0.02,
        bench="first layer",
    )
    heights_mm: Grid = setting(
        "Height of the bed at each point, row by row from the front left; empty: not measured yet.",
        unit="mm",
        low=-10,
        high=10,
        default=(),
        board=True,
        shape=("rows", "columns"),
        tolerance=0.02,
        bench="bed mesh",
    )
