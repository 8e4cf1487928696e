"""Every trial that can be run, by name, in the order of the route."""

from __future__ import annotations

from ublet.core.extrude.advance_tower_trials import TRIALS as ADVANCE_TOWER
from ublet.core.extrude.advance_trials import TRIALS as ADVANCE
from ublet.core.extrude.cube_trials import TRIALS as CUBE
from ublet.core.extrude.drive_trials import TRIALS as DRIVE
from ublet.core.extrude.flow_trials import TRIALS as FLOW
from ublet.core.extrude.own_print_trials import TRIALS as OWN_PRINT
from ublet.core.extrude.piece_trials import TRIALS as PIECE
from ublet.core.extrude.retraction_trials import TRIALS as RETRACTION
from ublet.core.extrude.trials import TRIALS as EXTRUDE
from ublet.core.heat.guard_trials import TRIALS as GUARDS
from ublet.core.heat.sensor_trials import TRIALS as SENSORS
from ublet.core.heat.soak_trials import TRIALS as SOAK
from ublet.core.heat.trials import TRIALS as HEAT
from ublet.core.heat.wire_trials import TRIALS as HEAT_WIRES
from ublet.core.level.coil.curve_trials import TRIALS as COIL_CURVE
from ublet.core.level.coil.drift_trials import TRIALS as COIL_DRIFT
from ublet.core.level.coil.scan_trials import TRIALS as COIL_PASS
from ublet.core.level.mesh.check_trials import TRIALS as MESH_CHECK
from ublet.core.level.mesh.first_layer_trials import TRIALS as FIRST_LAYER
from ublet.core.level.mesh.gauge_check_trials import TRIALS as GAUGE_CHECK
from ublet.core.level.mesh.hand_trials import TRIALS as MESH_BY_HAND
from ublet.core.level.mesh.trials import TRIALS as MESH
from ublet.core.level.probe.height_trials import TRIALS as HEIGHT
from ublet.core.level.probe.offset_trials import TRIALS as TOUCH
from ublet.core.level.probe.place_trials import TRIALS as PLACE
from ublet.core.level.probe.speed_trials import TRIALS as SPEED
from ublet.core.level.probe.spread_trials import TRIALS as SPREAD
from ublet.core.level.support.corner_hand_trials import TRIALS as CORNERS_BY_HAND
from ublet.core.level.support.corner_trials import TRIALS as CORNERS
from ublet.core.level.support.lift_hand_trials import TRIALS as LIFTS_BY_HAND
from ublet.core.level.support.lift_trials import TRIALS as LIFTS
from ublet.core.level.support.screw_place_trials import TRIALS as SCREW_PLACES
from ublet.core.level.support.still_trials import TRIALS as STILL
from ublet.core.motion.clearance_trials import TRIALS as CLEARANCE
from ublet.core.motion.homing_speed_trials import TRIALS as HOMING_SPEED
from ublet.core.motion.homing_trials import TRIALS as HOMING
from ublet.core.motion.limit_trials import TRIALS as LIMITS
from ublet.core.motion.motor_trials import TRIALS as MOTORS
from ublet.core.motion.steps_trials import TRIALS as STEPS
from ublet.core.motion.travel_trials import TRIALS as TRAVEL
from ublet.core.motion.trials import TRIALS as INPUTS
from ublet.core.shake.acceleration_trials import TRIALS as ACCELERATION
from ublet.core.shake.belts_trials import TRIALS as BELTS
from ublet.core.shake.resonance_trials import TRIALS as RESONANCE
from ublet.core.shake.rest_trials import TRIALS as REST
from ublet.core.shake.shaper_trials import TRIALS as SHAPER
from ublet.core.shake.tower_trials import TRIALS as TOWER
from ublet.core.shake.turned_trials import TRIALS as TURNED
from ublet.core.shake.verify_trials import TRIALS as SHAPER_VERIFY
from ublet.core.trial import TrialSpec

WIRE = (*INPUTS, *HEAT_WIRES, *MOTORS)
MOVE = (*HOMING, *HOMING_SPEED, *TRAVEL, *CLEARANCE, *STEPS, *LIMITS)
COIL = (*COIL_CURVE, *COIL_DRIFT, *COIL_PASS)
LEVEL = (
    *COIL,
    *LIFTS,
    *LIFTS_BY_HAND,
    *CORNERS,
    *CORNERS_BY_HAND,
    *SCREW_PLACES,
    *SPREAD,
    *SPEED,
    *PLACE,
    *HEIGHT,
    *TOUCH,
    *MESH,
    *MESH_BY_HAND,
    *MESH_CHECK,
    *GAUGE_CHECK,
    *FIRST_LAYER,
)
HEATS = (*HEAT, *GUARDS, *SOAK, *STILL)
FILAMENT = (*EXTRUDE, *DRIVE, *FLOW, *ADVANCE, *ADVANCE_TOWER, *RETRACTION, *PIECE, *CUBE)
SHAKE = (*REST, *TURNED, *BELTS, *RESONANCE, *TOWER, *SHAPER, *SHAPER_VERIFY, *ACCELERATION)
TRIALS: dict[str, TrialSpec] = {
    spec.name: spec for spec in (*WIRE, *MOVE, *SENSORS, *HEATS, *LEVEL, *FILAMENT, *SHAKE, *OWN_PRINT)
}
