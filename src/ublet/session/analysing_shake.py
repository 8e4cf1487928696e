"""The analyses of recorded shaking: resonance from an accelerometer, and ripples read off a printed part."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from ublet.core.recorded import RecordError, parse_table
from ublet.core.shake.choosing import Limits, Shaper
from ublet.core.shake.recorded_shake import Shaken, analyse_resonance
from ublet.core.shake.ripples import frequency_of

Draw = Callable[[Path], None]
RIPPLES = ("ripples", "distance_mm", "speed_mm_s")


def resonance(text: str, file: Path, limits: Limits) -> tuple[dict[str, Any], Draw]:
    """Report of a recorded acceleration, and what draws it.

    Raises:
        RecordError: it cannot be used.
    """
    found = analyse_resonance(text, str(file), limits)

    def draw(path: Path) -> None:
        from ublet.figures.resonance import draw_resonance

        draw_resonance(found.axes, limits, file.name, path)

    chosen = {axis: shaken.choice.chosen.name for axis, shaken in found.axes.items()}
    report = {
        "kind": "resonance",
        "axes": {axis: _axis(shaken, limits) for axis, shaken in found.axes.items()},
        "problems": list(found.problems),
        "seconds_of_data": found.seconds,
        "choice": ", ".join(f"{axis} {name}" for axis, name in chosen.items()),
        "why": "; ".join(f"{axis}: {shaken.choice.why}" for axis, shaken in found.axes.items()),
        "notes": list(found.problems),
    }
    return report, draw


def _axis(shaken: Shaken, limits: Limits) -> dict[str, Any]:
    return {
        "modes": [
            {
                "frequency_hz": mode.frequency_hz,
                "frequency_u": mode.frequency_u,
                "damping_ratio": mode.damping_ratio,
                "damping_u": mode.damping_u,
                "share": mode.share,
            }
            for mode in shaken.modes
        ],
        "shapers": [_shaper(shaper, limits) for shaper in shaken.choice.shapers],
        "choice": shaken.choice.chosen.name,
        "why": shaken.choice.why,
    }


def _shaper(shaper: Shaper, limits: Limits) -> dict[str, Any]:
    train = shaper.train
    return {
        "name": shaper.name,
        "frequency_hz": shaper.frequency_hz,
        "impulses": [[float(t), float(a)] for t, a in zip(train.times, train.amplitudes, strict=True)],
        "residual": shaper.residual,
        "residual_drifted": shaper.drifted,
        "rounding_mm": shaper.rounds(limits),
        "acceleration_mm_s2": limits.acceleration_mm_s2,
        "max_acceleration_mm_s2": train.highest_mm_s2(limits.rounding_mm),
    }


def ripples(text: str, file: Path) -> tuple[dict[str, Any], Draw]:
    """Report of ripples read off a part; there is nothing to draw of it.

    Raises:
        RecordError: it cannot be used.
    """
    header, axes = _split(text, file)
    found, problems = {}, []
    for axis, lines in axes.items():
        table = parse_table("\n".join([header, *lines, *([lines[0]] if len(lines) == 1 else [])]), RIPPLES, str(file))
        rows = list(zip(*(table.columns[name].tolist() for name in RIPPLES), strict=True))[: len(lines)]
        try:
            told = frequency_of(rows)
        except ValueError as error:
            raise RecordError(f"{file}: axis {axis}: {error}.") from error
        found[axis] = {"frequency_hz": told.frequency_hz, "frequency_u": told.frequency_u}
        problems += [f"{axis}: {problem}" for problem in told.problems]

    def draw(path: Path) -> None:
        raise ValueError(f"{path.name}: there is nothing to draw of ripples")

    words = ", ".join(
        f"{axis} {each['frequency_hz']:.1f} ±{2 * each['frequency_u']:.1f} Hz" for axis, each in found.items()
    )
    why = "damping is not told by counting: take a shaper that stands 0.05 to 0.15, and verify it"
    return {
        "kind": "ripples",
        "axes": found,
        "problems": problems,
        "choice": words,
        "why": why,
        "notes": problems,
    }, draw


def _split(text: str, file: Path) -> tuple[str, dict[str, list[str]]]:
    """The header, and the rows by the axis that they are about; all of x where no column tells it."""
    lines = [line for line in text.lstrip("\ufeff").splitlines() if line.strip() and not line.startswith("#")]
    if len(lines) < 2:
        raise RecordError(f"{file} has no rows: it needs a header line {','.join(RIPPLES)} and a row for each band.")
    header = [cell.strip().lower() for cell in lines[0].split(",")]
    if "axis" not in header:
        return lines[0], {"x": lines[1:]}
    at = header.index("axis")
    found: dict[str, list[str]] = {}
    for number, line in enumerate(lines[1:], start=2):
        cells = line.split(",")
        axis = cells[at].strip().lower() if at < len(cells) else ""
        if axis not in ("x", "y", "z"):
            raise RecordError(f"{file}: row {number}: axis: found “{axis}”; allowed: x, y, z.")
        cells[at] = "0"
        found.setdefault(axis, []).append(",".join(cells))
    return lines[0], found
