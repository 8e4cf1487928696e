"""What is plugged where: the parts at each socket, from a machine file's tree, valid or not."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from ublet.core.machine.boards import BoardKind
from ublet.core.machine.schema import SETTINGS
from ublet.core.settings import Value, flatten


@dataclass(frozen=True)
class Plug:
    """Something that is plugged in: the setting that names its socket, the kind of socket it needs, and its words."""

    path: str
    kind: str
    words: str
    socket: str | None


def plug_list(tree: Mapping[str, Any]) -> tuple[Plug, ...]:
    """Everything that is plugged in or can be, in the order of the file; an optional one without a socket has None."""
    flat = flatten(tree)
    plugs = [
        Plug(path, declared.socket, plug_words(path), value)
        for path, value in flat.items()
        if (declared := SETTINGS.find(path)) is not None and declared.socket and isinstance(value, str)
    ]
    there = {plug.path for plug in plugs}
    for key in ("socket", "servo_socket"):
        path = f"probe.{key}"
        if isinstance(tree.get("probe"), Mapping) and path not in there and (declared := SETTINGS.find(path)):
            plugs.append(Plug(path, declared.socket, plug_words(path), None))
    return tuple(plugs)


def plugs(tree: Mapping[str, Any]) -> dict[str, list[Plug]]:
    """The parts at each socket; more than one at a socket that is used doubly."""
    at: dict[str, list[Plug]] = {}
    for plug in plug_list(tree):
        if plug.socket is not None:
            at.setdefault(plug.socket, []).append(plug)
    return at


def plug_words(path: str) -> str:
    """A part in a few words, for a label beside its socket.

    >>> plug_words("axes.z.motors.left.socket"), plug_words("sensors.bed.socket"), plug_words("probe.servo_socket")
    ('Z left', 'bed', 'probe servo')
    """
    words = path.split(".")
    if words[0] == "axes":
        return f"{words[1].upper()} {words[3]}" if words[3] != words[1] else words[1].upper()
    if words[0] in ("extruder", "display", "card", "accelerometer"):
        return words[0]
    if words[0] == "endstops":
        return f"{words[1].upper() if len(words[1]) == 1 else words[1]} endstop"
    if words[0] == "fans":
        return f"{words[1]} fan"
    if words[0] == "filament":
        return "filament sensor"
    if words[0] == "probe":
        return "probe servo" if words[1] == "servo_socket" else "probe"
    return words[1]


def assignment(tree: Mapping[str, Any], plug: Plug, socket: str) -> dict[str, Value]:
    """The edits that put a part on a socket; a single part that sits there takes the place that becomes free."""
    edits: dict[str, Value] = {plug.path: socket}
    sitting = [other for other in plugs(tree).get(socket, []) if other.path != plug.path]
    if len(sitting) == 1 and plug.socket is not None and plug.socket != socket:
        edits[sitting[0].path] = plug.socket
    return edits


def state_of(socket: str, at: Mapping[str, list[Plug]], board: BoardKind) -> str:
    """``free``, ``used``, ``doubly used`` or ``wrong kind``."""
    here = at.get(socket, [])
    if not here:
        return "free"
    if len(here) > 1:
        return "doubly used"
    return "used" if here[0].kind == board.sockets[socket].kind else "wrong kind"
