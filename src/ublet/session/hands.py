"""The demonstration's hands and eyes: what a person would do and see at the simulated machine, beside the link."""

from __future__ import annotations

import contextlib
import json
import socket
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

PATIENCE_S = 0.3


@dataclass(frozen=True)
class Seen:
    """What a person would notice at the machine now."""

    turning: tuple[str, ...] = ()
    warm: tuple[str, ...] = ()
    pin_down: bool = False
    moved: str = "nothing"
    turned: tuple[str, ...] = ()
    pressed: tuple[str, ...] = ()
    switches: tuple[str, ...] = ()
    from_mark: Mapping[str, float] = field(default_factory=dict)
    nozzle: Mapping[str, float] = field(default_factory=dict)
    room: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    mode: str = ""
    baths: Mapping[str, float] = field(default_factory=dict)
    spool: float = 0.0
    gap: float = 0.0
    lifts: Mapping[str, float] = field(default_factory=dict)
    springs: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    probe: tuple[float, float] | None = None
    dot: tuple[float, float] = (0.0, 0.0)
    stowed_gap: float = 0.0
    felt: tuple[float | None, ...] = ()
    lift_moves: Mapping[str, float] = field(default_factory=dict)


class DemoHands:
    """Presses switches of the simulated machine, and looks at it. A world that does not answer shows nothing."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._end: socket.socket | None = None

    def press(self, name: str, down: bool) -> Seen:
        """Press a switch, or let it go."""
        return self._say({"do": "press", "of": name, "down": down})

    def bathe(self, sensor: str, place: str) -> Seen:
        """Put a sensor into a bath; an unknown place takes it out."""
        return self._say({"do": "bathe", "of": sensor, "place": place})

    def fault(self, kind: str, heater: str) -> Seen:
        """Make a fault at a heater, or put it right."""
        return self._say({"do": "fault", "of": heater, "kind": kind})

    def act(self, cue: tuple[str, ...]) -> None:
        """Do what a question asks for, by its cue, or what its second answer says was done ``instead``; one that only
        asks to look needs no hand.
        """
        match cue:
            case ("mark" | "mark filament", *_):
                self.mark()
            case ("fault", kind, heater):
                self.fault(kind, heater)
            case ("turn lift" | "turn screw" as what, name, by):
                self._say({"do": what, "of": name, "by": float(by)})
            case ("instead", "room" | "drag", screw, gap):
                self._say({"do": "adjust screw", "of": screw, "to": float(gap)})
            case ("mount sensor", part):
                self._say({"do": "mount sensor", "of": part})
            case ("tighten belt", belt, times):
                self._say({"do": "tighten belt", "of": belt, "by": float(times)})
            case ("load bed", kg):
                self._say({"do": "load bed", "kg": float(kg)})
            case ("raise probe", mm):
                self._say({"do": "lower probe", "by": -float(mm)})
            case ("half springs",) | ("dot",) | ("probe to trigger",) | ("clean sheet",):
                self._say({"do": cue[0]})
            case ("bathe", sensor, place):
                self.bathe(sensor, place)
            case ("let go", name):
                self.press(name, False)

    def mark(self) -> Seen:
        """Put a mark where everything stands; lengths are read from there."""
        return self._say({"do": "mark"})

    def look(self, cue: tuple[str, ...] = ()) -> Seen:
        """What is seen and felt now, and what a question's cue asks about."""
        return self._say({"do": "look", "cue": cue})

    def close(self) -> None:
        """Go away from the machine."""
        if self._end is not None:
            self._end.close()
            self._end = None

    def _say(self, order: dict[str, Any]) -> Seen:
        try:
            answer = json.loads(self._exchange(json.dumps(order).encode() + b"\n"))
        except (OSError, ValueError):
            self.close()
            return Seen()
        switches = answer["switches"]
        pressed = tuple(name for name, down in switches.items() if down)
        return Seen(
            tuple(answer["turning"]),
            tuple(answer["warm"]),
            answer["pin_down"],
            answer["moved"],
            tuple(answer["turned"]),
            pressed,
            tuple(switches),
            answer["from_mark"],
            answer["nozzle"],
            answer["room"],
            answer["mode"],
            answer["baths"],
            answer["spool"],
            answer["gap"],
            answer["lifts"],
            answer["springs"],
            answer["probe"],
            answer["dot"],
            answer["stowed_gap"],
            tuple(answer["felt"]),
            answer["lift_moves"],
        )

    def _exchange(self, line: bytes) -> bytes:
        if self._end is None:
            self._end = socket.socket(socket.AF_UNIX)
            self._end.settimeout(PATIENCE_S)
            with contextlib.ExitStack() as stack:
                stack.callback(self.close)
                self._end.connect(str(self._path))
                stack.pop_all()
        self._end.sendall(line)
        got = b""
        while not got.endswith(b"\n"):
            piece = self._end.recv(4096)
            if not piece:
                raise OSError("the world went away")
            got += piece
        return got
