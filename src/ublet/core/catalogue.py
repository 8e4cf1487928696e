"""Every trial that can be run, by name."""

from __future__ import annotations

from ublet.core.heat.trials import TRIALS as HEAT
from ublet.core.trial import TrialSpec

TRIALS: dict[str, TrialSpec] = {spec.name: spec for spec in HEAT}
