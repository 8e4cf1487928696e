"""The bench of sensors at rest."""

from __future__ import annotations

from ublet.tui.heat.sensor_picture import sensors_picture
from ublet.tui.instruments.picture import Picture
from ublet.tui.trial.trial_bench import TrialBench


class SensorsBench(TrialBench):
    """Sensors that agree before any heat, and what a wrong curve would do."""

    kind = "sensors"
    title = "Sensors at rest"
    why = "a wrong curve reads right at 25 °C and wrong hot"

    def picture(self) -> Picture:
        """Readings, and the errors of other curves."""
        return sensors_picture
