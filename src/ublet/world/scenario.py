"""Scenarios: the physical truth of a machine and its builder, as a TOML file."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from ublet.core.capabilities import Capability
from ublet.core.heat.curves import SensorCurve, SteinhartHart, Thermistor
from ublet.core.machine.check import parse_toml, validate
from ublet.core.machine.effective import BOARD_SETTINGS
from ublet.core.machine.lines import key_lines
from ublet.core.machine.problem import Problem
from ublet.core.settings import Part, Value, flatten, refusal, setting
from ublet.core.trouble import Trouble
from ublet.world.bed_parts import BedTruth, CoilPart, Knock, NozzleTruth, ProbeTruth
from ublet.world.extrude import ExtruderTruth
from ublet.world.heat import PlantTruth
from ublet.world.mechanics import MotorTruth
from ublet.world.shake_parts import AccelerometerPart, FramePart


class ScenarioError(Trouble):
    """A scenario cannot be used; ``problems`` says what is wrong, all at once."""

    def __init__(self, file: str, problems: list[Problem]) -> None:
        super().__init__("\n".join(problem.sentence(file) for problem in problems))
        self.problems = problems


class About(Part):
    """What the scenario is."""

    name: str = setting("Name of the machine.")
    machine_file: str = setting("Machine file that goes with it, beside this file.")
    board: str = setting("Kind of board.")
    firmware: str = setting("Firmware version that the board reports.", default="0.1")
    steps_per_s: float = setting(
        "Most steps a second that the board makes on one motor.", unit="steps/s", low=1000, high=1e8, default=400_000.0
    )
    memory_bytes: int = setting(
        "Memory of the board for fast readings that have not gone over the line yet.",
        unit="bytes",
        low=1024,
        high=1 << 26,
        default=24_576,
    )
    ambient_c: float = setting("Room temperature.", unit="°C", low=-10, high=60, default=23.0)


class PlantPart(Part):
    """A heated block as it really is."""

    power_w: float = setting("Heater power at full duty.", unit="W", low=0, high=2000)
    capacity_j_k: float = setting("Heat capacity of the block.", unit="J/K", low=1, high=20000)
    cartridge_j_k: float = setting("Heat capacity of the heater itself.", unit="J/K", low=0.2, high=500)
    cartridge_w_k: float = setting("Conductance from heater to block.", unit="W/K", low=0.1, high=200)
    loss_w_k: float = setting("Loss to the room in still air.", unit="W/K", low=0.005, high=20)
    fan_loss_w_k: float = setting("Further loss at full part fan.", unit="W/K", low=0, high=20, default=0.0)
    radiating_cm2: float = setting("Radiating area times emissivity.", unit="cm²", low=0, high=5000, default=0.0)
    sensor_lag_s: float = setting("Lag of the sensor.", unit="s", low=0.2, high=60)
    dead_time_s: float = setting("Pure delay from block to sensor.", unit="s", low=0, high=60)
    surface_j_k: float = setting(
        "Heat capacity of a sheet that lies on it; 0 for none.", unit="J/K", low=0, high=20000, default=0.0
    )
    surface_w_k: float = setting("Conductance from block to sheet.", unit="W/K", low=0, high=200, default=0.0)
    surface_loss_w_k: float = setting("Loss of the sheet to the room.", unit="W/K", low=0, high=20, default=0.0)
    start_c: float | None = setting(
        "Temperature at power-on; the room's when left out.", unit="°C", low=-10, high=400, default=None
    )

    def truth(self) -> PlantTruth:
        """The plant for the simulation."""
        return PlantTruth(**self.model_dump(exclude={"start_c"}))


class SensorPart(Part):
    """A thermistor as it really is, on the board socket that names this table."""

    plant: str = setting("Plant that it sits in.")
    at: Literal["block", "surface"] = setting(
        "Where it sits: in the block, or on the sheet that lies on it.", default="block"
    )
    r25_ohm: float = setting("Resistance at 25 °C.", unit="Ω", low=100, high=1e6)
    beta_k: float = setting("Beta of its curve.", unit="K", low=2000, high=6000)
    steinhart_a: float = setting("Steinhart-Hart's a, where beta does not describe it.", unit="1/K", default=0.0)
    steinhart_b: float = setting("Steinhart-Hart's b; 0: its curve is that of the beta.", unit="1/K", default=0.0)
    steinhart_c: float = setting("Steinhart-Hart's c.", unit="1/K", default=0.0)
    pullup_ohm: float = setting("Pull-up of the board.", unit="Ω", low=100, high=1e6, default=4700.0)
    noise_counts: float = setting("Noise of one ADC reading.", unit="counts", low=0, high=200, default=1.0)
    burst: int = setting("ADC readings averaged for one sample.", low=1, high=256, default=16)
    bits: int = setting("ADC resolution.", low=8, high=24, default=12)

    def truth(self) -> SensorCurve:
        """Its curve."""
        if self.steinhart_b:
            return SteinhartHart(self.steinhart_a, self.steinhart_b, self.steinhart_c, self.pullup_ohm)
        return Thermistor(self.r25_ohm, self.beta_k, self.pullup_ohm)


class LinkPart(Part):
    """What the line does to the bytes."""

    baud: int = setting("Speed that the line really has; 0 for no limit.", unit="bd", low=0, high=4_000_000, default=0)
    latency_ms: float = setting("Delay each way.", unit="ms", low=0, high=1000, default=0.0)
    flip_rate: float = setting("Share of lines with one corrupted character.", low=0, high=0.9, default=0.0)
    garbage_rate: float = setting("Share of lines with noise before them.", low=0, high=0.9, default=0.0)
    drop_rate: float = setting("Share of lines to the host that vanish.", low=0, high=0.9, default=0.0)
    host_drop_rate: float = setting("Share of lines from the host that vanish.", low=0, high=0.9, default=0.0)
    double_rate: float = setting("Share of lines to the host that come twice.", low=0, high=0.9, default=0.0)
    host_double_rate: float = setting("Share of lines from the host that come twice.", low=0, high=0.9, default=0.0)


class FlashPart(Part):
    """The board's memory for images."""

    slot_bytes: int = setting("Room of each of the two slots.", unit="bytes", low=1024, high=1 << 26, default=262_144)


class SwitchPart(Part):
    """A switch as it really is: an endstop by its name, or ``probe``."""

    socket: str = setting("Input socket that it is really plugged into.")
    normally_closed: bool = setting("Closed at rest.", default=True)
    fault: Literal["none", "broken-wire", "stuck", "pin-stuck"] = setting(
        "broken-wire: open for ever; stuck: as at rest for ever; pin-stuck: the probe's pin does not come down.",
        default="none",
    )
    axis: Literal["x", "y", "z", ""] = setting("Axis whose carriage presses it; empty: only a hand does.", default="")
    lift: str = setting("Lead screw whose end presses it, as z.left; empty: the axis as a whole.", default="")
    side: Literal["low", "high"] = setting("End of that axis at which it stands.", default="low")
    at_mm: float = setting(
        "True position of the carriage that presses it.", unit="mm", low=-500, high=2000, default=0.0
    )
    spread_mm: float = setting("Standard deviation of that position.", unit="mm", low=0, high=2, default=0.0)
    pulse_mm: float = setting(
        "Of the filament's sensor: filament between two changes of its contact; 0: a switch that it holds.",
        unit="mm",
        low=0,
        high=50,
        default=0.0,
    )
    late_s: float = setting(
        "How late it answers; an approach goes on for that long.", unit="s", low=0, high=0.1, default=0.0
    )
    late_spread_s: float = setting(
        "Standard deviation of that, from one press to the next.", unit="s", low=0, high=0.1, default=0.0
    )
    bounces: int = setting("Further contacts at each press and release.", low=0, high=50, default=0)


class MotorPart(Part):
    """A motor as it really is, on the driver socket that names this table."""

    role: str = setting("Carriage that it moves: AXIS.NAME as in the machine file, or extruder.")
    reversed: bool = setting("Wired so that it turns the other way.", default=False)
    turn_mm: float = setting("Travel in one turn.", unit="mm", low=0.1, high=500, default=40.0)
    full_steps: int = setting("Full steps in a turn.", low=20, high=800, default=200)
    microsteps: int = setting("Microsteps that its driver really makes; 0: as commanded.", low=0, high=256, default=0)
    least_a: float = setting("Below this current it only hums.", unit="A", low=0, high=6, default=0.2)
    open: bool = setting("Whether one of its wires is broken.", default=False)
    torque_nm_a: float = setting("Torque at rest for each ampere.", unit="N·m/A", low=0.001, high=10, default=0.115)
    knee_turns_s: float = setting(
        "Speed at which it has fallen to half.", unit="turns/s", low=0.1, high=200, default=4.5
    )
    efficiency: float = setting("Share of it that reaches the carriage.", low=0.05, high=1, default=1.0)
    quiet_fraction: float = setting("Share of it while its driver runs quietly.", low=0.05, high=1, default=0.7)

    def truth(self) -> MotorTruth:
        """The motor for the simulation."""
        return MotorTruth(**self.model_dump())


class CarriagePart(Part):
    """What the motors of an axis move, as it really is; what is left out follows the machine file."""

    low_mm: float | None = setting("Hard stop at its low end.", unit="mm", low=-1000, high=2000, default=None)
    high_mm: float | None = setting("Hard stop at its high end.", unit="mm", low=-1000, high=3000, default=None)
    mass_kg: float = setting("Moving mass.", unit="kg", low=0.01, high=50, default=0.5)
    friction_n: float = setting("Friction.", unit="N", low=0, high=500, default=3.5)
    weight_n: float = setting("Weight that its motors carry.", unit="N", low=0, high=1000, default=0.0)
    play_mm: float = setting("Play: lost when the direction changes.", unit="mm", low=0, high=5, default=0.0)


class ExtruderPart(Part):
    """What lies between the extruder's motor and the nozzle's hole, as it really is."""

    grip_n: float = setting("Force at which 5 % slip at the hob.", unit="N", low=0.5, high=500, default=60.0)
    slip_power: float = setting("Power of the force by which slip rises.", low=1, high=8, default=3.0)
    bite_share: float = setting("Scatter of what the hob takes.", low=0, high=0.1, default=0.002)
    resistance_n: float = setting(
        "Force of the sound melt at 2 mm/s and 210 °C.", unit="N", low=0.1, high=200, default=8.0
    )
    thinning: float = setting("Its power of the speed.", low=0.1, high=1.5, default=0.5)
    softens_share_k: float = setting("Share that it loses with each °C.", unit="1/K", low=0, high=0.1, default=0.012)
    melts_mm_s: float = setting("Speed at which unmelted cores double it.", unit="mm/s", low=0.5, high=100, default=7.0)
    blocked: float = setting("What a plug in the nozzle adds, times the sound melt's.", low=0, high=100, default=0.0)
    spring_n_mm: float = setting("Stiffness between hob and melt.", unit="N/mm", low=0.5, high=500, default=30.0)
    play_mm: float = setting(
        "Filament shifts by this in its tube before it pushes or pulls.", unit="mm", low=0, high=20, default=0.0
    )
    drips_mm_s: float = setting(
        "What drips from a hot nozzle while nothing presses, of filament.", unit="mm/s", low=0, high=2, default=0.0
    )
    drip_holds_mm: float = setting("Drawn back by this it does not drip.", unit="mm", low=0.01, high=20, default=0.3)
    draws_mm: float = setting(
        "Drawn back further than this air comes into the melt.", unit="mm", low=0.1, high=50, default=4.0
    )
    wander_mm: float = setting("Its diameter wanders by this, to and fro.", unit="mm", low=0, high=0.3, default=0.0)
    spool_mm: float = setting("Filament that is left.", unit="mm", low=0, high=1e7, default=200_000.0)

    def truth(self) -> ExtruderTruth:
        """The extruder for the simulation."""
        return ExtruderTruth(**self.model_dump())


class PrintedPart(Part):
    """What becomes of a print besides what the axes do."""

    skew_deg: float = setting(
        "By this X and Y are no right angle; positive: the diagonal from the left front is longer.",
        unit="°",
        low=-5,
        high=5,
        default=0.0,
    )
    shrinks_percent: float = setting("A print shrinks by this.", unit="%", low=-1, high=5, default=0.0)


class ScenarioEvent(Part):
    """Something that happens by itself, once."""

    kind: Literal[
        "sensor-open", "sensor-short", "sensor-unplugged", "heater-dead", "reboot", "silence", "belt-jumps"
    ] = setting(
        "What happens; sensor-unplugged: the accelerometer's plug falls out; belt-jumps: a belt jumps over its pulley."
    )
    of: str = setting("Socket of the sensor, plant of the heater, or axis of the belt.", default="")
    mm: float = setting("How far a belt jumps.", unit="mm", low=-20, high=20, default=2.0)
    at_s: float | None = setting("Time since power-on at which it happens.", unit="s", low=0, high=1e6, default=None)
    above_c: float | None = setting(
        "Happens when any plant gets warmer than this.", unit="°C", low=0, high=500, default=None
    )
    for_s: float = setting("How long a silence lasts.", unit="s", low=0.1, high=3600, default=5.0)


class BuilderPart(Part):
    """How the scripted builder answers."""

    waits: bool = setting("Whether the builder waits when something must cool.", default=True)
    eye_mm: float = setting("Largest error of a place judged by eye.", unit="mm", low=0.01, high=10, default=0.3)
    rule_mm: float = setting(
        "Largest error of a length read with the rule that is new at each placing.",
        unit="mm",
        low=0,
        high=5,
        default=0.3,
    )
    rule_common_mm: float = setting(
        "And that is the same every time: drawn once for each run.", unit="mm", low=0, high=5, default=0.3
    )
    callipers_mm: float = setting("At each placing of the callipers.", unit="mm", low=0, high=5, default=0.03)
    callipers_common_mm: float = setting("Every time with the callipers.", unit="mm", low=0, high=5, default=0.03)
    dial_gauge_mm: float = setting("At each placing of the dial gauge.", unit="mm", low=0, high=5, default=0.005)
    dial_gauge_common_mm: float = setting("Every time with the dial gauge.", unit="mm", low=0, high=5, default=0.008)
    gauge_mm: float = setting("Largest error of the drag of a gauge.", unit="mm", low=0, high=0.5, default=0.01)
    dot_mm: float = setting("Largest error of putting a tip over a dot by eye.", unit="mm", low=0, high=5, default=0.2)
    thermometer_c: float = setting("Largest error of the reference thermometer.", unit="°C", low=0, high=5, default=0.3)
    layer_eye_mm: float = setting(
        "Largest error of a first layer's height that is only looked at while it is printed.",
        unit="mm",
        low=0,
        high=0.5,
        default=0.03,
    )
    finger_mm: float = setting("And of one that is felt with a finger.", unit="mm", low=0, high=0.5, default=0.02)
    layer_good_mm: float = setting(
        "A first layer feels good while its height is off by less than this.",
        unit="mm",
        low=0.005,
        high=0.2,
        default=0.03,
    )
    width_eye_mm: float = setting(
        "A difference of a line's width that this eye just sees.", unit="mm", low=0.001, high=0.5, default=0.03
    )
    looks: int = setting(
        "Looks so often at lines before one is picked, under another lamp each time.", low=1, high=9, default=2
    )
    trams: bool = setting("Turns a corner's screw while a first layer prints there, before nudging.", default=False)
    bold_to_mm_s: float | None = setting(
        "Calls it fast enough when something moves faster than this; none: never.",
        unit="mm/s",
        low=1,
        high=5000,
        default=None,
    )


class Scenario(Part):
    """The whole scenario file."""

    scenario: About
    plants: dict[str, PlantPart]
    sensors: dict[str, SensorPart]
    heaters: dict[str, str] = Field(description="Plant that each heater socket really heats.")
    fans: dict[str, str] = Field(
        default_factory=dict, description='Plant that each fan socket really blows at; "none" for none.'
    )
    fan_plugs: dict[str, str] = Field(
        default_factory=dict, description="Which fan each fan socket really turns, by its name in the machine file."
    )
    switches: dict[str, SwitchPart] = Field(default_factory=dict)
    motors: dict[str, MotorPart] = Field(default_factory=dict)
    carriages: dict[Literal["x", "y", "z"], CarriagePart] = Field(default_factory=dict)
    bed: BedTruth = Field(default_factory=BedTruth)
    probe: ProbeTruth = Field(default_factory=ProbeTruth)
    coil: CoilPart | None = Field(default=None, description="A coil instead of the probe's switch; left out: none.")
    nozzle: NozzleTruth = Field(default_factory=NozzleTruth)
    knocks: list[Knock] = Field(default_factory=list)
    extruder: ExtruderPart = Field(default_factory=ExtruderPart)
    printed: PrintedPart = Field(default_factory=PrintedPart)
    frame: FramePart = Field(default_factory=FramePart)
    accelerometer: AccelerometerPart | None = Field(default=None, description="Left out: the machine has none.")
    stored: dict[str, Any] = Field(
        default_factory=dict,
        description="Settings that the board's store holds on arrival, as in a machine file.",
    )
    image: dict[str, Any] = Field(
        default_factory=dict,
        description="Settings in which the image on the board differs from the machine file on arrival.",
    )
    lacks: list[Capability] = Field(
        default_factory=list, description="What the board's firmware cannot do: words as in docs/protocol.md, `can`."
    )
    flash: FlashPart = Field(default_factory=FlashPart)
    link: LinkPart = Field(default_factory=LinkPart)
    events: list[ScenarioEvent] = Field(default_factory=list)
    builder: BuilderPart = Field(default_factory=BuilderPart)

    def stored_settings(self) -> dict[str, Value]:
        """What the store holds on arrival, by dotted path."""
        return flatten(self.stored)

    def with_stored(self, values: Mapping[str, Value]) -> Scenario:
        """The same machine with these settings in its store, by dotted path: as it arrives once they were saved."""
        nested: dict[str, Any] = {}
        for path, value in values.items():
            table = nested
            *tables, key = path.split(".")
            for name in tables:
                table = table.setdefault(name, {})
            table[key] = value
        return self.model_copy(update={"stored": nested})

    def image_settings(self) -> dict[str, Value]:
        """In what the image on arrival differs from the machine file, by dotted path."""
        return flatten(self.image)


def parse_scenario(text: str, file: str = "scenario") -> Scenario:
    """Read and check a scenario's text.

    Raises:
        ScenarioError: with every problem found.
    """
    tree, broken = parse_toml(text)
    if broken is not None:
        raise ScenarioError(file, [broken])
    lines = key_lines(text)
    scenario, problems = validate(Scenario, tree, lines)
    if isinstance(scenario, Scenario):
        problems += _cross_check(scenario, lines)
    if problems or not isinstance(scenario, Scenario):
        raise ScenarioError(file, problems)
    return scenario


def _cross_check(scenario: Scenario, lines: dict[tuple[str, ...], int]) -> list[Problem]:
    plants = ", ".join(scenario.plants)
    problems = []

    def add(path: tuple[str, ...], entry: str, allowed: str, mend: str) -> None:
        problems.append(Problem(lines.get(path, 1), ".".join(path), entry, allowed, mend))

    for socket, plant in scenario.heaters.items():
        if plant not in scenario.plants:
            add(("heaters", socket), repr(plant), plants, "Name a table below [plants].")
    for socket, plant in scenario.fans.items():
        if plant not in scenario.plants and plant != "none":
            add(("fans", socket), repr(plant), f"{plants}, none", "Name a table below [plants].")
    for socket, sensor in scenario.sensors.items():
        if sensor.plant not in scenario.plants:
            add(("sensors", socket, "plant"), repr(sensor.plant), plants, "Name a table below [plants].")
    for table, settings in (("stored", scenario.stored_settings()), ("image", scenario.image_settings())):
        for path, value in settings.items():
            reason = refusal(BOARD_SETTINGS, path, value)
            if reason:
                add((table, *path.split(".")), repr(value), "a setting that the board holds", reason + ".")
    for number, event in enumerate(scenario.events):
        if event.at_s is None and event.above_c is None:
            add(("events",), f"event {number + 1} without a time", "at_s or above_c", "Say when it happens.")
    return problems


def load_scenario(path: Path) -> Scenario:
    """Read a scenario file.

    Raises:
        ScenarioError: with every problem found. OSError: it cannot be read.
    """
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError as error:
        problem = Problem(1, "", f"bytes that are not UTF-8 (at {error.start})", "UTF-8 text", "Save it as UTF-8.")
        raise ScenarioError(str(path), [problem]) from error
    return parse_scenario(text, str(path))
