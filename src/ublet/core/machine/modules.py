"""Modules of the firmware: which ones a machine needs and why, what they cost, what leaving some out would free."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import combinations

from ublet.core.machine.boards import BoardKind
from ublet.core.machine.schema import MachineFile

REQUIRED = ("core", "motion", "heat")
"""Modules without which no board runs a machine."""

MOST_TOGETHER = 4
"""Optional modules tried together when looking for what would free enough."""


@dataclass(frozen=True)
class Module:
    """A module in the plan: its size in bytes, whether it is in, whether it may be left out, and why it is in."""

    name: str
    bytes: int
    included: bool
    optional: bool
    why: str


@dataclass(frozen=True)
class ModulePlan:
    """The modules of an image for one board; sizes in bytes. unknown: needed, but not made for this board."""

    modules: tuple[Module, ...]
    other_bytes: int
    slot_bytes: int
    unknown: tuple[str, ...] = ()

    @property
    def used_bytes(self) -> int:
        """What the image takes."""
        return self.other_bytes + sum(module.bytes for module in self.modules if module.included)

    @property
    def overflow_bytes(self) -> int:
        """By how much it does not fit; 0 when it fits."""
        return max(0, self.used_bytes - self.slot_bytes)

    def would_free(self, at_most: int = 4) -> tuple[tuple[Module, ...], ...]:
        """The smallest sets of optional modules whose leaving out makes it fit: fewest modules, then fewest bytes."""
        optional = [module for module in self.modules if module.included and module.optional]
        ways_out: list[tuple[Module, ...]] = []
        for count in range(1, min(MOST_TOGETHER, len(optional)) + 1):
            enough = [
                group
                for group in combinations(optional, count)
                if sum(module.bytes for module in group) >= self.overflow_bytes
                and not any(set(smaller) <= set(group) for smaller in ways_out)
            ]
            ways_out += sorted(enough, key=lambda group: sum(module.bytes for module in group))
        return tuple(ways_out[:at_most]) if self.overflow_bytes else ()


Why = Callable[[MachineFile], str]
"""Why a machine needs a module, or an empty text."""


def _shaped(machine: MachineFile) -> str:
    shaped = [name for name in "xyz" if getattr(machine.axes, name).shaper.kind != "none"]
    return f"a shaper is declared for {', '.join(shaped).upper()}" if shaped else ""


def _lifted(machine: MachineFile) -> str:
    lifts = len(machine.axes.z.motors)
    return f"Z has {lifts} lifts" if lifts > 1 and machine.lifts is not None else ""


def _worded(machine: MachineFile) -> str:
    display = machine.display
    return f"the display speaks “{display.language}”" if display and display.language != "en" else ""


OPTIONAL: tuple[tuple[str, Why], ...] = (
    ("display", lambda m: f"a {m.display.kind} display is declared" if m.display else ""),
    ("picture", lambda m: "a start-up picture is declared" if m.display and m.display.picture else ""),
    ("language", _worded),
    ("card", lambda m: "a card slot is declared" if m.card else ""),
    ("probe", lambda m: "a probe is declared" if m.probe and m.probe.kind != "nozzle" else ""),
    ("mesh", lambda m: "a mesh is declared" if m.mesh else ""),
    ("lifts", _lifted),
    ("shaping", _shaped),
    ("advance", lambda m: "pressure advance is declared" if m.extruder and m.extruder.advance_s > 0 else ""),
    ("arcs", lambda m: ""),
    ("resume", lambda m: ""),
    ("counters", lambda m: ""),
)
"""Optional modules, each with what makes a machine need it."""


def plan_modules(machine: MachineFile, board: BoardKind, other_bytes: int) -> ModulePlan:
    """The modules that an image of this machine holds on this board.

    other_bytes: what the image takes besides its modules (settings, picture, envelope).
    """
    wanted = machine.modules.model_dump()
    modules: list[Module] = []
    unknown: list[str] = []

    def enter(name: str, included: bool, optional: bool, why: str) -> None:
        size = board.modules.get(name)
        if size is None and included:
            unknown.append(name)
        elif size is not None:
            modules.append(Module(name, size.bytes, included, optional, why))

    for name in REQUIRED:
        enter(name, True, False, "every machine needs it")
    enter(f"kinematics-{machine.machine.kinematics}", True, False, f"the machine is {machine.machine.kinematics}")
    for name, why in OPTIONAL:
        choice, need = wanted[name], why(machine)
        if choice is None:
            enter(name, bool(need), True, need or "nothing declared needs it")
        else:
            words = f"you {'put it in' if choice else 'left it out'}" + (
                f", though {need}" if need and not choice else ""
            )
            enter(name, choice, True, words)
    return ModulePlan(tuple(modules), other_bytes, board.slot_bytes, tuple(unknown))
