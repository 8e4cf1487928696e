"""Ways out of a failure, a class for each kind: a station to go to, a parameter or setting to change, a hand, a new
start. A recipe names them where it raises; screens offer the first that a key can reach.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, get_args


@dataclass(frozen=True)
class GoTo:
    """Another station, or another of the station's trials, has to come first. trial: which one, where it is not the
    station's usual one; heater: for which heater.
    """

    station: str
    why: str = ""
    trial: str = ""
    heater: str = ""

    @property
    def words(self) -> str:
        """As it is offered."""
        trial = f", trial {self.trial}" if self.trial else ""
        return f"station {self.station}{trial}{f': {self.why}' if self.why else ''}"


@dataclass(frozen=True)
class ChangeParameter:
    """A parameter of the trial itself is too small, too large, or asks for what is not there."""

    parameter: str
    what: str

    @property
    def words(self) -> str:
        """As it is offered."""
        return f"parameter {self.parameter}: {self.what}"


@dataclass(frozen=True)
class ChangeSetting:
    """A setting of the machine file. path: its dotted path, or that of the table where it is missing."""

    path: str
    what: str

    @property
    def words(self) -> str:
        """As it is offered."""
        return f"setting {self.path}: {self.what}"


@dataclass(frozen=True)
class ByHand:
    """Something at the machine that only a hand can mend."""

    what: str

    @property
    def words(self) -> str:
        """As it is offered."""
        return f"by hand: {self.what}"


@dataclass(frozen=True)
class StartAgain:
    """Nothing has to be mended: start it again, perhaps when something has happened. goes_on: from where it stopped."""

    what: str = ""
    goes_on: bool = False

    @property
    def words(self) -> str:
        """As it is offered."""
        start = "go on from where it stopped" if self.goes_on else "start again"
        return f"{start}{f': {self.what}' if self.what else ''}"


Remedy = GoTo | ChangeParameter | ChangeSetting | ByHand | StartAgain

_CLASSES: Mapping[str, type[Remedy]] = {kind.__name__: kind for kind in get_args(Remedy)}


def remedy_as_json(remedy: Remedy) -> dict[str, Any]:
    """A remedy's class and values, as JSON takes them."""
    return {"kind": type(remedy).__name__, **vars(remedy)}


def remedy_of(fields: Mapping[str, Any]) -> Remedy:
    """What ``remedy_as_json`` gave.

    Raises:
        KeyError: it is of no kind that is known. TypeError: its values are none of that kind.
    """
    values = dict(fields)
    return _CLASSES[values.pop("kind")](**values)
