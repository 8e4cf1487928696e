"""Whether the lifts of Z are known to go the way they are commanded: by an earlier run, or seen in this session."""

from __future__ import annotations

from ublet.core.evidence import Dependency
from ublet.core.settings import Value
from ublet.session.bench.record import Earlier
from ublet.session.connection import Connection

PROVING = ("directions", "lead-screws")
"""Trials whose proven runs have moved every lift the right way."""

WIRING = (".socket", ".reversed")


class LiftProof:
    """Holds as long as the wiring of Z's motors on the board is the one that it was found with."""

    def __init__(self, connection: Connection, earlier: Earlier) -> None:
        self._connection = connection
        self._earlier = earlier
        self._seen: dict[str, Value] | None = None

    def holds(self) -> bool:
        """Whether every lift is known to go the right way with the wiring that is live now."""
        wiring = self._wiring()
        if wiring == self._seen:
            return True
        for trial in PROVING:
            entry = self._earlier(trial, {})
            if entry is not None and _rested_on(entry.rests, wiring) == wiring:
                return True
        return False

    def note(self) -> None:
        """The builder saw them all go the right way."""
        self._seen = self._wiring()

    def _wiring(self) -> dict[str, Value]:
        layers = self._connection.layers
        return {p: layer.live for p, layer in layers.items() if p.startswith("axes.z.motors.") and p.endswith(WIRING)}


def _rested_on(rests: tuple[Dependency, ...], wiring: dict[str, Value]) -> dict[str, Value]:
    return {rest.path: rest.value for rest in rests if rest.kind == "setting" and rest.path in wiring}
