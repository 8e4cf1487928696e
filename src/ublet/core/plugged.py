"""Modules of sensors at the board's bus sockets: where one is declared, and where it answers."""

from __future__ import annotations

from ublet.core.bench import Bench
from ublet.core.run import Option, Proposal
from ublet.core.streams import SOCKET_OF


def answers_elsewhere(bench: Bench, name: str) -> tuple[str, Option] | None:
    """What is said of a module that answers at another socket than the declared one, and the proposal that declares
    that one; None: it is where it is declared, or nobody says.
    """
    kind = bench.streams.kinds().get(name)
    path = SOCKET_OF[name]
    declared = bench.settings.live(path)
    if kind is None or not kind.socket or not isinstance(declared, str) or declared == kind.socket:
        return None
    words = (
        f"Nothing answers at {declared}, where the {name} is declared ({path}); its module answers at {kind.socket}. "
        f"Plug it into {declared} and switch the board off and on, or declare {kind.socket}."
    )
    proposal = Proposal(path, declared, kind.socket, "", "the module is listened to where it is plugged in")
    return words, Option("as plugged", "then start again", (proposal,), {})
