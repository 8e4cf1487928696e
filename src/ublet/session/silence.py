"""Whether a board whose language is described in a file switches off in a silence: found out before anything is hot.

The protocol vouches for it; a dialect file only claims it. Until the guards' drill has seen it, nothing hot is held.
"""

from __future__ import annotations

from collections.abc import Callable

from ublet.core.heat.guard_trials import LANGUAGE
from ublet.ledger.book import Ledger
from ublet.session.connection import Connection

UNTRIED_C = 60.0
"""Up to this a heater is held by any board, °C."""

UNTRIED = (
    f"nothing above {UNTRIED_C:g} °C is held yet: whether this board switches off in a silence was not tried in its "
    "language. Drill the guards first (station guards)"
)
STAYS_ON = (
    f"nothing above {UNTRIED_C:g} °C is held: by its dialect this board does not switch off in a silence. Stay at the "
    "machine and say so with --watched; a trial then holds it, and nothing else does"
)


class Silence:
    """What is known of the silence of the linked board.

    runs, drills: whether a trial runs, and one that trips guards on purpose. watched: the builder's word, for this
    session, that somebody stands at a board that stays on.
    """

    def __init__(
        self, connection: Connection, ledger: Ledger, runs: Callable[[], bool], drills: Callable[[], bool]
    ) -> None:
        self._connection, self._ledger = connection, ledger
        self._runs, self._drills = runs, drills
        self.watched = False

    @property
    def tried(self) -> bool:
        """Whether the last drill of the guards saw this board, in its language, switch off in a silence."""
        about, drill = self._connection.about, self._ledger.concluded("guards-drill")
        if about is None or drill is None:
            return False
        cut, spoken = drill.result.finding("noticed", drill="link-cut"), drill.result.conditions.get(LANGUAGE, "")
        return cut is not None and cut.within and spoken == about.language

    def refusal(self, celsius: float) -> str:
        """Why a temperature must not be held; empty: it may."""
        about = self._connection.about
        if about is None or celsius <= UNTRIED_C:
            return ""
        if not about.switches_off:
            return "" if self.watched and self._runs() else STAYS_ON
        return "" if self.tried or self._drills() else UNTRIED

    def words(self) -> str:
        """Whether it was tried, for people."""
        if self.tried:
            return "tried by the guards' drill"
        return f"not tried yet; nothing above {UNTRIED_C:g} °C is held until the guards were drilled"
