"""Which bench belongs to which kind of station; made when it is first shown."""

from __future__ import annotations

from ublet.core.route import Station
from ublet.session.session import Session
from ublet.tui.bench import Bench
from ublet.tui.control import ControlBench
from ublet.tui.editor import EditorBench
from ublet.tui.guards import GuardsBench
from ublet.tui.heat import BedBench, HotendBench
from ublet.tui.jog import JogBench
from ublet.tui.ledger_bench import LedgerBench
from ublet.tui.modules import ModulesBench
from ublet.tui.move import DirectionsBench, HomingBench, LimitsBench, StepsBench
from ublet.tui.port import PortBench
from ublet.tui.sensors import SensorsBench
from ublet.tui.soak import SoakBench
from ublet.tui.theme import Palette
from ublet.tui.wire import FansBench, InputsBench, MotorsBench, PairingBench
from ublet.tui.wiring import WiringBench
from ublet.tui.writing import WriteBench

BENCHES: dict[str, type[Bench]] = {
    "editor": EditorBench,
    "wiring": WiringBench,
    "modules": ModulesBench,
    "write": WriteBench,
    "port": PortBench,
    "inputs": InputsBench,
    "pairing": PairingBench,
    "fans": FansBench,
    "motors": MotorsBench,
    "directions": DirectionsBench,
    "homing": HomingBench,
    "travel": JogBench,
    "steps": StepsBench,
    "limits": LimitsBench,
    "heat": HotendBench,
    "bed": BedBench,
    "sensors": SensorsBench,
    "guards": GuardsBench,
    "control": ControlBench,
    "soak": SoakBench,
    "ledger": LedgerBench,
}
"""Kind of bench, as the route names it, and its class."""


def make_bench(station: Station, session: Session, palette: Palette) -> Bench:
    """The bench of a station."""
    return BENCHES[station.bench](session, palette)
