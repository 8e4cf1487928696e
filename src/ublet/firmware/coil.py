"""The coil's registers: how it is driven, and from which frequency on its line shows that metal is near."""

from __future__ import annotations

import math
from collections.abc import Mapping

from ublet.core.level.coil.curve import drift_hz
from ublet.core.settings import Value
from ublet.core.sockets import Sockets
from ublet.core.streams import SOCKET_OF
from ublet.firmware.live_values import number_in

NAME = "coil"

LOOKS_TICKS = 10
"""A coil warms in minutes: how warm it is is read once a second."""


class CoilDrive:
    """Keeps the registers at what the live settings say, as warm as the coil is now. found_at: the bus socket at
    which its module answers (empty: nobody says).
    """

    def __init__(self, sockets: Sockets, found_at: str = "") -> None:
        self._sockets = sockets
        self._found_at = found_at
        self._live: Mapping[str, Value] = {}
        self._here = False
        self._ticks = 0

    def settled(self, live: Mapping[str, Value]) -> None:
        """Live settings have changed."""
        self._live = live
        wanted = live.get(SOCKET_OF[NAME])
        there = not wanted or not self._found_at or wanted == self._found_at
        self._here = there and live.get("probe.kind") == "coil" and "probe.coil.drive_ma" in live
        if self._here:
            self._sockets.tune(NAME, "drive", number_in(live, "probe.coil.drive_ma"))
            self.look_out()

    def tick(self) -> None:
        """One control period."""
        self._ticks = (self._ticks + 1) % LOOKS_TICKS
        if not self._ticks:
            self.look_out()

    def look_out(self) -> None:
        """The frequency that means metal, moved by what its warmth adds there."""
        if not self._here or not (reads := self._sockets.reading(NAME)):
            return
        live, trigger = self._live, number_in(self._live, "probe.coil.trigger_hz")
        if not trigger:
            self._sockets.tune(NAME, "alert", math.inf)
            return
        terms = live.get("probe.coil.drift")
        over_c = reads[2] - number_in(live, "probe.coil.warmth_c")
        shift = drift_hz(terms, over_c, trigger - number_in(live, "probe.coil.far_hz")) if terms else 0.0
        self._sockets.tune(NAME, "alert", trigger + shift)
