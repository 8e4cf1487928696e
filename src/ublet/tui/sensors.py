"""The bench of sensors at rest."""

from __future__ import annotations

from ublet.tui.asking import AskingBench
from ublet.tui.pictures import Picture
from ublet.tui.sensor_picture import sensors_picture


class SensorsBench(AskingBench):
    """Sensors that agree before any heat, and what a wrong curve would do."""

    DEFAULT_CSS = """
    SensorsBench #detail { height: 12; }
    """
    kind = "sensors"
    why = "Sensors at rest   a wrong curve reads right at 25 °C and wrong hot"

    def picture(self) -> Picture:
        """Readings, and the errors of other curves."""
        return sensors_picture
