"""Every kind of bench. Each class says which kind it is; the route names kinds."""

from __future__ import annotations

from ublet.core.route import Station
from ublet.session.session import Session
from ublet.tui.extrude.advance import AdvanceBench
from ublet.tui.extrude.extruder import ExtruderBench
from ublet.tui.extrude.flow import FlowBench
from ublet.tui.extrude.piece import PieceBench
from ublet.tui.extrude.retraction import RetractionBench
from ublet.tui.heat.fans import FansBench
from ublet.tui.heat.guards import GuardsBench
from ublet.tui.heat.heater import BedBench, HotendBench
from ublet.tui.heat.pairing import PairingBench
from ublet.tui.heat.sensors import SensorsBench
from ublet.tui.heat.soak import SoakBench
from ublet.tui.heat.temperatures import TemperaturesBench
from ublet.tui.level.coil import CoilBench
from ublet.tui.level.corners import CornersBench
from ublet.tui.level.layer import LayerBench
from ublet.tui.level.lifts import LiftsBench
from ublet.tui.level.mesh import MeshBench
from ublet.tui.level.place import PlaceBench
from ublet.tui.level.spread import SpreadBench
from ublet.tui.level.touch import TouchBench
from ublet.tui.machine.editor import EditorBench
from ublet.tui.machine.modules import ModulesBench
from ublet.tui.machine.port import PortBench
from ublet.tui.machine.wiring import WiringBench
from ublet.tui.machine.writing import WriteBench
from ublet.tui.motion.directions import DirectionsBench
from ublet.tui.motion.homing import HomingBench
from ublet.tui.motion.inputs import InputsBench
from ublet.tui.motion.jog import JogBench
from ublet.tui.motion.limits import LimitsBench
from ublet.tui.motion.motors import MotorsBench
from ublet.tui.motion.steps import StepsBench
from ublet.tui.record.compare import CompareBench
from ublet.tui.record.ledger import LedgerBench
from ublet.tui.record.report import ReportBench
from ublet.tui.record.restore import RestoreBench
from ublet.tui.shake.acceleration import AccelerationBench
from ublet.tui.shake.accelerometer import AccelerometerBench
from ublet.tui.shake.resonance import ResonanceBench
from ublet.tui.shake.shaper import ShaperBench
from ublet.tui.trial.bench import StationBench

BENCHES: dict[str, type[StationBench]] = {
    bench.kind: bench
    for bench in (
        *(EditorBench, WiringBench, ModulesBench, WriteBench, PortBench),
        *(InputsBench, PairingBench, FansBench, MotorsBench),
        *(DirectionsBench, HomingBench, JogBench, StepsBench, LimitsBench),
        *(SensorsBench, HotendBench, BedBench, GuardsBench, TemperaturesBench, SoakBench),
        *(CoilBench, LiftsBench, CornersBench, SpreadBench, PlaceBench, TouchBench, MeshBench, LayerBench),
        *(ExtruderBench, FlowBench, AdvanceBench, RetractionBench, PieceBench),
        *(AccelerometerBench, ResonanceBench, ShaperBench, AccelerationBench),
        *(LedgerBench, CompareBench, RestoreBench, ReportBench),
    )
}
"""Kind of bench, as the route names it, and its class."""


def make_bench(station: Station, session: Session) -> StationBench:
    """The bench of a station."""
    return BENCHES[station.bench](session)
