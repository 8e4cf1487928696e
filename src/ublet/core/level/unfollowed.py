"""A mesh that is live is not followed while the bed is levelled or probed: it would hide what is looked for."""

from __future__ import annotations

from ublet.core.bench import Bench
from ublet.core.settings import Value

FOLLOWS = "mesh.follows"


def unfollowed(bench: Bench) -> dict[str, Value]:
    """What is to be borrowed for it; nothing on a board that has no mesh, or follows none."""
    return {FOLLOWS: False} if bench.settings.shown(FOLLOWS) is True else {}
