"""The frame as it really is: masses on belts, guides, feet, shaken by how the axes are stepped.

Lumped masses: what X carries, what Y carries, the machine on its feet, and a part that hangs loose on the head. Belts
are springs whose stiffness depends on where the head is; guides drag; two belts of a CoreXY pull on both axes at once.
Nothing here is shared with what estimates modes from readings: equations of motion, integrated.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from ublet.core.arrays import Complex, Floats

PLACES = ("head x", "head y", "base x", "base y", "part x", "part y")
HEAD_X, HEAD_Y, BASE_X, BASE_Y, PART_X, PART_Y = range(6)

NEAREST_FRACTION = 0.15
"""A belt's clamp is never nearer to a pulley than this share of its length."""

ANEW_MM = 3.0
"""Belts are worked out anew when the head has gone so far."""

ROUNDS = 3
"""Friction is found by repeating over a step of time, so often at the most: more changes less than 2e-3 of it."""

OVER_THE_BED = "nozzle over bed"
"""Where what is printed sees the motion: of the nozzle against the bed."""

SETTLED = 0.01
"""Friction that changes by less than this share of itself is found."""

TINY_KG = 1e-6
"""A part of no mass is one of so little, held fast."""


@dataclass(frozen=True)
class FrameTruth:
    """A frame.

    belt_x_n_mm, belt_y_n_mm: stiffness of the belts of X and Y (of a CoreXY: A and B) with the head in the middle;
    guide_x, guide_y: damping ratio that guides give what hangs on these belts; nearer: share of the stiffness that
    depends on the place; base_kg, feet_hz, feet_damping: the machine on its feet; part_kg, part_hz, part_damping: what
    hangs loose on the head, in both directions; load_kg: what lies on a bed that moves; slip_n, slip_mm_s: friction of
    guides that does not grow beyond a speed.
    """

    belt_x_n_mm: float = 34.0
    belt_y_n_mm: float = 34.0
    guide_x: float = 0.05
    guide_y: float = 0.05
    nearer: float = 0.1
    base_kg: float = 12.0
    feet_hz: float = 9.0
    feet_damping: float = 0.1
    part_kg: float = 0.0
    part_hz: float = 80.0
    part_damping: float = 0.03
    load_kg: float = 0.0
    slip_n: float = 0.0
    slip_mm_s: float = 20.0


@dataclass(frozen=True)
class Ring:
    """One way in which a frame rings, as it is: undamped frequency in Hz, damping ratio, share of the motion."""

    frequency_hz: float
    damping_ratio: float
    modal_share: float


class Frame:
    """A frame of one machine. masses: what X and Y carry, kg. spans: reach of X and Y from one end to the other, mm.
    shares_belts: a CoreXY. bed_moves: along Y, instead of the head.
    """

    def __init__(
        self,
        truth: FrameTruth,
        masses: Mapping[str, float],
        spans: Mapping[str, tuple[float, float]],
        shares_belts: bool,
        bed_moves: bool,
    ) -> None:
        self.truth = truth
        self._masses, self._spans = dict(masses), dict(spans)
        self._shares_belts, self.bed_moves = shares_belts, bed_moves
        self.tension = {"x": 1.0, "y": 1.0}
        self.heavier = 0.0
        self.load_kg = truth.load_kg
        self._of: tuple[float, ...] = ()
        self._solved: _Solved | None = None
        self.rest()

    def rest(self) -> None:
        """Nothing shakes."""
        self._r, self._v = np.zeros(6), np.zeros(6)

    def tighten(self, belt: str, times: float) -> None:
        """A belt is pulled so many times as hard: its stiffness goes with its tension."""
        self.tension[belt] *= times

    def lay(self, kg: float) -> None:
        """Put a mass on a bed that moves, in addition to the scenario's; 0 takes it off."""
        self.load_kg = self.truth.load_kg + kg

    @contextlib.contextmanager
    def loaded(self, kg: float) -> Iterator[None]:
        """As it would be with a load on a bed that moves."""
        before = self.load_kg
        self.lay(kg)
        try:
            yield
        finally:
            self.load_kg = before

    @contextlib.contextmanager
    def unburdened(self) -> Iterator[None]:
        """As it is without a sensor's cable, which is no part of it."""
        before, self.heavier = self.heavier, 0.0
        try:
            yield
        finally:
            self.heavier = before

    def stiffness(self, where: Mapping[str, float]) -> dict[str, float]:
        """Stiffness of both belts with the head there, N/m."""
        fractions = {
            axis: (where[axis] - self._spans[axis][0]) / (self._spans[axis][1] - self._spans[axis][0]) for axis in "xy"
        }
        if self._shares_belts:  # each belt's clamp goes by the sum, or the difference, of both
            fractions = {"x": (fractions["x"] + fractions["y"]) / 2, "y": (fractions["x"] - fractions["y"] + 1) / 2}
        stiffnesses = {}
        for axis, whole in (("x", self.truth.belt_x_n_mm), ("y", self.truth.belt_y_n_mm)):
            u = min(1 - NEAREST_FRACTION, max(NEAREST_FRACTION, fractions[axis]))
            near = 1 - self.truth.nearer + self.truth.nearer / (4 * u * (1 - u))
            stiffnesses[axis] = 1000 * whole * near * self.tension[axis]
        return stiffnesses

    def rings(
        self, commanded: Mapping[str, float], seen: Mapping[str, float], on: str, where: Mapping[str, float]
    ) -> list[Ring]:
        """How it rings for small motion: driven along one direction, looked at along another, on the ``head``, the
        ``bed`` or of the nozzle over the bed; largest share first.

        Poles and residues of ``seen^T (M s^2 + C s + K)^-1 F driven``.
        """
        solved = self._solve(where)
        into = solved.by_speed @ np.array([commanded.get("x", 0.0), commanded.get("y", 0.0)])
        out = self._seen(seen, on)
        modes = []
        for at, pole in enumerate(solved.poles):
            # displacement q of M q'' + C q' + K q = F u: state (q, v), residue of the pole
            residue = (out @ solved.right[:6, at]) * (solved.left[at, 6:] @ np.linalg.solve(solved.mass, into))
            w = abs(pole)
            fraction = (residue * 2j * pole.imag).real / w**2
            modes.append(Ring(float(w / (2 * math.pi)), float(-pole.real / w), float(fraction)))
        whole = sum(ring.modal_share for ring in modes)
        if abs(whole) < 0.05:
            return []
        modes = [Ring(ring.frequency_hz, ring.damping_ratio, ring.modal_share / whole) for ring in modes]
        return sorted(modes, key=lambda ring: -ring.modal_share)

    def shake(self, speeds: Mapping[str, Floats], period_s: float, where: Mapping[str, float], on: str) -> Floats:
        """How the ``head`` or the ``bed`` is accelerated along X and Y, m/s² (n + 1 x 2), while both are stepped at
        n + 1 even speeds, mm/s.
        """
        solved = self._solve(where)
        commanded = np.stack([speeds["x"], speeds["y"]], axis=1) / 1000
        places = [place_of(on, axis, self.bed_moves) for axis in "xy"]
        return self._go(solved, commanded, period_s, places, ROUNDS if self.truth.slip_n else 1)

    def _go(self, solved: _Solved, commanded: Floats, period_s: float, places: list[int], rounds: int) -> Floats:
        """Integrate over even speeds, exactly for what is linear (first-order hold of the forces).

        States are kept as pairs of reals, so that every product is one of real matrices: a tenth of a second of a
        machine takes 0.5 ms instead of 0.9, and a sweep goes mostly here.
        """
        march = solved.marching(period_s, len(commanded) - 1)
        rigid = commanded @ solved.rigid_shows
        begun = solved.left @ np.concatenate([self._r, self._v])
        added = _from_to(commanded) @ march.by_commanded
        slips, sharp = np.zeros((len(commanded), 2)), 1000 / self.truth.slip_mm_s
        pushed = added
        for _ in range(rounds):
            states = march.go(begun, pushed)
            shown = states.view(np.float64) @ solved.shows
            if rounds > 1:
                over = shown[:, :2] + rigid[:, :2]  # speeds on the guides, m/s
                before, slips = slips, solved.slip * over - self.truth.slip_n * np.tanh(sharp * over)
                if np.abs(slips - before).max() < SETTLED * self.truth.slip_n:
                    break
                pushed = added + _from_to(slips) @ march.by_slips
        last = 2 * (solved.right @ states[-1]).real
        self._r, self._v = last[:6], last[6:]
        at = [2 + place for place in places]
        forces = shown[:, at] + rigid[:, at]
        return np.asarray((slips @ solved.guides[:, places] - forces) / np.diag(solved.mass)[places])

    def _seen(self, seen: Mapping[str, float], on: str) -> Floats:
        out = np.zeros(6)
        for axis, fraction in seen.items():
            if on == OVER_THE_BED:
                out[place_of("head", axis, self.bed_moves)] += fraction * (
                    -1.0 if self.bed_moves and axis == "y" else 1.0
                )
                out[place_of("bed", axis, self.bed_moves)] -= fraction * (
                    -1.0 if self.bed_moves and axis == "y" else 1.0
                )
            else:
                out[place_of(on, axis, self.bed_moves)] = fraction
        return out

    def _solve(self, where: Mapping[str, float]) -> _Solved:
        key = (
            *(round(where[axis] / ANEW_MM) for axis in "xy"),
            self.tension["x"],
            self.tension["y"],
            self.heavier,
            self.load_kg,
        )
        if self._solved is None or key != self._of:
            self._of, self._solved = key, self._worked_out(where)
        return self._solved

    def _worked_out(self, where: Mapping[str, float]) -> _Solved:
        """Equations of motion for small motion about a place."""
        truth, belts = self.truth, self.stiffness(where)
        part = max(TINY_KG, truth.part_kg)
        head_y = self._masses["y"] + self.load_kg
        heads = (self._masses["x"] * (1 + self.heavier), head_y * (1 + (0.0 if self.bed_moves else self.heavier)))
        mass = np.array([*heads, truth.base_kg, truth.base_kg, part, part])
        stiff, drag, forces = np.zeros((6, 6)), np.zeros((6, 6)), np.zeros((6, 2))

        def spring(k: float, c: float, to: Mapping[int, float], by: tuple[float, float] = (0.0, 0.0)) -> None:
            g = np.zeros(6)
            for at, fraction in to.items():
                g[at] = fraction
            stiff[:] += k * np.outer(g, g)
            drag[:] += c * np.outer(g, g)
            forces[:] += k * np.outer(g, by)

        x, y = {HEAD_X: 1.0, BASE_X: -1.0}, {HEAD_Y: 1.0, BASE_Y: -1.0}
        if self._shares_belts:
            spring(belts["x"], 0.0, {**x, **y}, (1.0, 1.0))
            spring(belts["y"], 0.0, {**x, **{at: -fraction for at, fraction in y.items()}}, (1.0, -1.0))
            along = (belts["x"] + belts["y"],) * 2
        else:
            spring(belts["x"], 0.0, x, (1.0, 0.0))
            spring(belts["y"], 0.0, y, (0.0, 1.0))
            along = (belts["x"], belts["y"])
        slip = 1000 * truth.slip_n / truth.slip_mm_s
        for rail, k, m, z in ((x, along[0], heads[0], truth.guide_x), (y, along[1], heads[1], truth.guide_y)):
            spring(0.0, 2 * z * math.sqrt(k * m) + slip, rail)
        feet = (2 * math.pi * truth.feet_hz) ** 2 * truth.base_kg
        for at in (BASE_X, BASE_Y):
            spring(feet, 2 * truth.feet_damping * math.sqrt(feet * truth.base_kg), {at: 1.0})
        hangs = (2 * math.pi * (truth.part_hz if truth.part_kg else 1000.0)) ** 2 * part
        above = (HEAD_X, BASE_Y if self.bed_moves else HEAD_Y)
        for at, head in zip((PART_X, PART_Y), above, strict=True):
            spring(
                hangs,
                2 * (truth.part_damping if truth.part_kg else 0.3) * math.sqrt(hangs * part),
                {at: 1.0, head: -1.0},
            )
        guides = np.zeros((2, 6))
        for row, rail in enumerate((x, y)):
            for at, fraction in rail.items():
                guides[row, at] = fraction
        return _Solved.of(np.diag(mass), stiff, drag, forces, guides, slip)


@dataclass(frozen=True)
class _Solved:
    """Linear equations ``M q'' + C q' + K q = F u``, and their modes in the state (q, q'): poles above the real axis,
    right vectors (12 x n), left ones (n x 12). rigid: where all stands in the end for each commanded millimetre; slip:
    the part of the guides' friction that is in C. shows (2n x 8), rigid_shows (2 x 8): of states as pairs of reals,
    and of commanded speeds, the speeds on the guides and the forces of springs and guides; by_push, by_drag, by_slip:
    modal forces.
    """

    mass: Floats
    stiff: Floats
    drag: Floats
    by_speed: Floats
    guides: Floats
    slip: float
    rigid: Floats
    poles: Complex
    right: Complex
    left: Complex
    shows: Floats
    rigid_shows: Floats
    by_push: Complex
    by_drag: Complex
    by_slip: Complex
    marches: dict[tuple[float, int], _March]

    @classmethod
    def of(cls, mass: Floats, stiff: Floats, drag: Floats, commanded: Floats, guides: Floats, slip: float) -> _Solved:
        """Solve them."""
        rigid = np.linalg.solve(stiff, commanded)
        inverse = np.diag(1 / np.diag(mass))
        states = np.block([[np.zeros((6, 6)), np.eye(6)], [-inverse @ stiff, -inverse @ drag]])
        poles, vectors = np.linalg.eig(states)
        upper = poles.imag > 0
        right, left = vectors[:, upper], np.linalg.inv(vectors)[upper]
        into = left[:, 6:] @ inverse
        return cls(
            np.asarray(mass),
            np.asarray(stiff),
            np.asarray(drag),
            np.asarray(commanded),
            np.asarray(guides),
            slip,
            np.asarray(rigid),
            np.asarray(poles[upper]),
            np.asarray(right),
            np.asarray(left),
            shows=_on_pairs(np.concatenate([guides @ right[6:], stiff @ right[:6] + drag @ right[6:]])),
            rigid_shows=np.concatenate([guides @ rigid, drag @ rigid]).T,
            by_push=np.asarray(-into @ mass @ rigid),
            by_drag=np.asarray(-into @ drag @ rigid),
            by_slip=np.asarray(into @ guides.T),
            marches={},
        )

    def marching(self, period_s: float, count: int) -> _March:
        """Advance by a number of steps of one length."""
        key = (round(period_s, 12), count)
        if key not in self.marches:
            self.marches[key] = _March.of(self, period_s, count)
        return self.marches[key]


@dataclass(frozen=True)
class _March:
    """Modal states over so many steps, ``z' = pole z + force``. by_commanded, by_slips (4 x 2n, pairs of reals): what
    commanded speeds, and friction beyond what is linear, at the beginning and the end of a step add in it; grown
    (count + 1 x n): how states grow.
    """

    by_commanded: Floats
    by_slips: Floats
    grown: Complex
    shrunk: Complex

    @classmethod
    def of(cls, solved: _Solved, period_s: float, count: int) -> _March:
        """For modes."""
        poles = solved.poles
        even = np.expm1(poles * period_s) / poles  # of a force that stays as it is, of one that grows by one
        ramp = (even - period_s) / poles / period_s
        drag, slip = solved.by_drag.T, solved.by_slip.T
        push = solved.by_push.T * even / period_s
        by_commanded = _pairs(np.concatenate([drag * (even - ramp) - push, drag * ramp + push]))
        by_slips = _pairs(np.concatenate([slip * (even - ramp), slip * ramp]))
        grown = np.exp(np.outer(np.arange(count + 1) * period_s, poles))
        return cls(by_commanded, by_slips, grown, 1 / grown[1:])

    def go(self, start: Complex, added: Floats) -> Complex:
        """States from one on, under what is added in each step (pairs of reals)."""
        states = np.empty_like(self.grown)
        states[0] = start
        np.cumsum(added.view(np.complex128) * self.shrunk, axis=0, out=states[1:])
        states[1:] += start
        states[1:] *= self.grown[1:]
        return states


def _from_to(values: Floats) -> Floats:
    """Values at the beginning and the end of each step (n + 1 x k to n x 2k)."""
    return np.concatenate([values[:-1], values[1:]], axis=1)


def _pairs(values: Complex) -> Floats:
    """Complex numbers as pairs of reals (k x n to k x 2n)."""
    return np.ascontiguousarray(values).view(np.float64)


def _on_pairs(shown: Complex) -> Floats:
    """``2 Re(shown z)`` for z as pairs of reals: a matrix (k x n to 2n x k)."""
    return np.ascontiguousarray(np.stack([2 * shown.real.T, -2 * shown.imag.T], axis=1).reshape(-1, len(shown)))


def place_of(on: str, axis: str, bed_moves: bool) -> int:
    """Which place a sensor on the ``head`` or the ``bed`` feels along an axis."""
    if axis == "x":
        return HEAD_X if on == "head" else BASE_X
    return HEAD_Y if (on == "head") != bed_moves else BASE_Y
