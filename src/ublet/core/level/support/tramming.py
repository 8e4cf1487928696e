"""Screws turned while something is printed: entered by their letter, an eighth of a turn at a time; what that does to
the bed at every place.
"""

from __future__ import annotations

import string
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ublet.core.acts import Act, TurnScrew
from ublet.core.arrays import Point
from ublet.core.level.support.screws import FEWEST_SCREWS, shape_for
from ublet.core.level.surface import fit_surface
from ublet.core.machine.level_parts import Screw

EIGHTH = 1 / 8
CLOCKWISE, BACK = "clockwise", "back"


@dataclass(frozen=True)
class ScrewControl:
    """A control that enters a screw that was turned by an eighth: in turns clockwise, and how far the bed rose,
    mm.
    """

    screw: str
    turns: float
    raises_mm: float

    @property
    def act(self) -> Act:
        """What a hand does for it."""
        return TurnScrew(self.screw, self.turns)

    @property
    def does(self) -> str:
        """What it does, in words."""
        return f"1/8, {'raises' if self.raises_mm > 0 else 'lowers'} {abs(self.raises_mm):.2f} mm"


def screw_controls(screws: Mapping[str, Screw]) -> dict[str, ScrewControl]:
    """The controls of a bed's screws by their words: a small letter for an eighth of a turn clockwise, seen from above,
    the capital for one back. Nothing where there are too few screws to level the bed by.
    """
    if not FEWEST_SCREWS <= len(screws) <= len(string.ascii_lowercase):
        return {}
    controls: dict[str, ScrewControl] = {}
    for letter, (name, screw) in zip(string.ascii_lowercase, screws.items(), strict=False):
        raises = EIGHTH * screw.pitch_mm * (1 if screw.clockwise == "raises" else -1)
        controls[f"{letter} {name} {CLOCKWISE}"] = ScrewControl(name, EIGHTH, raises)
        controls[f"{letter.upper()} {name} {BACK}"] = ScrewControl(name, -EIGHTH, -raises)
    return controls


@dataclass
class Tramming:
    """The screws of a bed, and what was turned so far: which one, how far the bed rose there, and when in the order of
    what is printed (mm, number of the patch).
    """

    screws: Mapping[str, Screw]
    turned: list[tuple[str, float, int]] = field(default_factory=list)

    def turn(self, control: ScrewControl, patch: int) -> None:
        """A screw was turned while a patch was printed."""
        self.turned.append((control.screw, control.raises_mm, patch))

    def raised_mm(self) -> dict[str, float]:
        """How far the bed was raised at each screw that was turned, mm."""
        raised: dict[str, float] = {}
        for name, mm, _ in self.turned:
            raised[name] = raised.get(name, 0.0) + mm
        return raised

    def since_mm(self, patch: int, place: Point) -> float:
        """How far the bed rose at a place by what was turned after a patch was printed, mm: a plane through what was
        done at the screws, with a twist where there are more than three.
        """
        after = dict.fromkeys(self.screws, 0.0)
        for name, mm, when in self.turned:
            after[name] += mm if when > patch else 0.0
        if not any(after.values()):
            return 0.0
        places: Sequence[Point] = [(screw.x_mm, screw.y_mm) for screw in self.screws.values()]
        return fit_surface(places, list(after.values()), shape_for(self.screws)).at(place)
