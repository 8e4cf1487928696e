"""Which requests of the line protocol belong to which capability of a board."""

from __future__ import annotations

from ublet.core.capabilities import Capability

_BY_GROUP: dict[str, Capability] = {
    "heat": "heat",
    "fan": "heat",
    "motor": "motion",
    "axis": "motion",
    "motion": "programs",
    "probe": "probe",
    "image": "image",
}
_BY_NAME: dict[str, Capability] = {"settings.lend": "loans", "settings.give_back": "loans"}
ALWAYS = frozenset({"heat.off", "motion.stop"})
"""Switching off is no capability: every board does it."""


def capability_of(method: str) -> Capability | None:
    """The capability that a request belongs to; None: every board answers it, or says by its streams that it can."""
    return None if method in ALWAYS else _BY_NAME.get(method) or _BY_GROUP.get(method.partition(".")[0])
