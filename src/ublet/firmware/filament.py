"""Watching the filament while something is printed: a switch that reads it, or a wheel that it turns."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ublet.core.settings import Value
from ublet.firmware.live_values import number_in

NAME = "filament"
"""The input that shows it: triggered means that there is none."""

OUT, STUCK = "the filament is out", "the filament stands still while it is pushed: out, tangled, or the hob slips"


class FilamentWatch:
    """Tells from an input whether filament comes.

    reads: whether the input is triggered, and how often its level changed. pushed_mm: filament that was commanded in
    all.
    """

    def __init__(self, reads: Callable[[], tuple[bool, int] | None], pushed_mm: Callable[[], float]) -> None:
        self._reads, self._pushed_mm = reads, pushed_mm
        self._live: Mapping[str, Value] = {}
        self._edges, self._since_mm = -1, 0.0

    def settled(self, live: Mapping[str, Value]) -> None:
        """Live settings have changed."""
        self._live = live

    @property
    def lift_mm(self) -> float:
        """How far the nozzle is lifted when it is out, mm."""
        return number_in(self._live, "filament.lift_mm")

    def begin(self) -> None:
        """From here on counts what is pushed without any being seen to come."""
        state = self._reads()
        self._edges, self._since_mm = state[1] if state is not None else -1, self._pushed_mm()

    def trouble(self) -> str:
        """Why no filament comes; empty: it does, or nothing watches it."""
        state = self._reads()
        if state is None:
            return ""
        if self._live.get("filament.kind") != "wheel":
            return OUT if state[0] else ""
        if state[1] != self._edges or self._edges < 0:
            self.begin()
        return STUCK if self._pushed_mm() - self._since_mm > number_in(self._live, "filament.slack_mm") else ""
