"""The command that analyses recorded data."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, cast

import typer

from ublet.cli.base import (
    ANALYSE,
    GOOD,
    USAGE,
    JsonOption,
    app,
    friendly_errors,
    print_json,
    say,
    stop,
)

if TYPE_CHECKING:
    from ublet.core.motion.measuring import Instrument


@app.command(rich_help_panel=ANALYSE, short_help="Recorded heat, mesh, resonance, steps, ...")
def analyse(
    kind: str,
    file: Path,
    svg: Annotated[Path | None, typer.Option(help="Draw it to FILE.svg.")] = None,
    pdf: Annotated[Path | None, typer.Option(help="Draw it to FILE.pdf.")] = None,
    instrument: Annotated[str, typer.Option(help="What the lengths were read with: rule, callipers, dial-gauge.")] = (
        "callipers"
    ),
    machine: Annotated[Path | None, typer.Option(help="Mesh: compute turns for this machine file’s screws.")] = None,
    against: Annotated[Path | None, typer.Option(help="Mesh: compare with this earlier one.")] = None,
    spread: Annotated[float | None, typer.Option(help="Mesh: spread of one height, mm.", min=1e-4, max=1.0)] = None,
    acceleration: Annotated[
        float, typer.Option(help="Resonance: acceleration at which corners are rounded, mm/s².", min=10, max=1e6)
    ] = 5000.0,
    residual: Annotated[
        float, typer.Option(help="Resonance: largest share of ringing that a shaper may leave.", min=0.001, max=0.5)
    ] = 0.05,
    rounding: Annotated[float, typer.Option(help="Resonance: largest rounding, mm.", min=0.001, max=10)] = 0.15,
    drift: Annotated[float, typer.Option(help="Resonance: allowed frequency drift, fraction.", min=0.0, max=0.4)] = 0.1,
    as_json: JsonOption = False,
) -> None:
    """Analyse recorded data: KIND is heat (time_s,duty,temperature_c), mesh (x_mm,y_mm,z_mm), resonance
    (time_s,x_m_s2,y_m_s2,z_m_s2, a comment “# sweep: axis from_hz to_hz duration_s acceleration_per_hz_m_s2”), ripples
    (ripples,distance_mm,speed_mm_s), steps (commanded_mm,measured_mm), touches (z_mm, with or without speed_mm_s),
    advance (advance_s,width_difference_mm) or flow (flow_mm3_s,commanded_mm,measured_mm).
    """
    from ublet.core.motion.measuring import INSTRUMENTS
    from ublet.core.shake.choosing import Limits
    from ublet.session.analysing import Options, analyse_file

    if instrument not in INSTRUMENTS:
        raise stop(USAGE, f"--instrument {instrument}: allowed: {', '.join(INSTRUMENTS)}")
    with friendly_errors():
        limits = Limits(residual, rounding, drift, acceleration)
        options = Options(cast("Instrument", instrument), machine, against, spread, limits)
        report, draw = analyse_file(kind, file, options)
        try:
            for path in (svg, pdf):
                if path is not None:
                    draw(path)
        except ValueError as error:
            raise stop(USAGE, str(error)) from error
    if as_json:
        print_json(report)
    else:
        _print(report)
    raise typer.Exit(GOOD)


def _print(report: dict[str, Any]) -> None:
    PRINTS[report["kind"]](report)
    say(f"  {report['choice']}: {report['why']}")
    for note in report["notes"]:
        say(f"  ! {note}")


def _print_heat(report: dict[str, Any]) -> None:
    from ublet.core.units import duration, show, with_uncertainty

    model = report["model"]
    for key, words, unit in (
        ("gain_c", "gain", "°C"),
        ("time_constant_s", "time constant", "s"),
        ("delay_s", "dead time and lag", "s"),
    ):
        say(f"    {words:16} {with_uncertainty(model[key], model[f'{key}_u'], unit)}")
    say(f"    {'room':16} {show(model['ambient_c'], '°C')}")
    say(f"  predicted steps to {show(report['target_c'], '°C')}:")
    for candidate in report["candidates"]:
        settled = (
            "does not settle" if candidate["settle_s"] is None else f"settled in {duration(candidate['settle_s'])}"
        )
        gains = "  ".join(f"{key} {show(candidate[key], '', 4)}" for key in ("kp", "ki", "kd"))
        say(f"    {candidate['name']:10} {gains}   overshoot {candidate['overshoot_c']:.1f} °C, {settled}")


def _print_touches(report: dict[str, Any]) -> None:
    from ublet.core.units import with_uncertainty

    for speed in report["speeds"] or [{**report, "speed_mm_s": None}]:
        at = f"at {speed['speed_mm_s']:g} mm/s" if speed["speed_mm_s"] else "all"
        deviation = with_uncertainty(speed["deviation_mm"], speed["deviation_u_mm"], "mm")
        say(f"    {at:16} {speed['count']:>3} touches, standard deviation {deviation}")
    if report["drift_mm_per_touch"] is not None:
        drift = with_uncertainty(report["drift_mm_per_touch"], report["drift_u_mm_per_touch"], "mm")
        say(f"    drift            {drift} a touch")
    if report["outliers"]:
        say(f"    left out         rows {', '.join(map(str, report['outliers']))}, counted from 0")


def _print_steps(report: dict[str, Any]) -> None:
    from ublet.core.units import with_uncertainty

    say(f"    scale {with_uncertainty(report['scale'], report['scale_u'])}")


def _print_mesh(report: dict[str, Any]) -> None:
    say(f"    {report['columns']} columns, {report['rows']} rows")
    for words, key, sign in (
        ("range", "range_mm", ""),
        ("RMS", "rms_mm", ""),
        ("rises to the right", "tilt_x_mm", "+"),
        ("rises to the back", "tilt_y_mm", "+"),
        ("warp, range", "warp_range_mm", ""),
        ("warp, RMS", "warp_rms_mm", ""),
    ):
        say(f"    {words:20} {report[key]:{sign}.3f} mm")
    for words, key in (("no height", "holes"), ("looks wrong", "outliers")):
        for x, y in report[key]:
            say(f"    {words:20} X {x:g}, Y {y:g} mm")
    for screw in report.get("screws", ()):
        say(f"    {screw['name']:20} {screw['effect']}")
    if (against := report.get("against")) is not None:
        say(
            f"    differs by            shift {against['shift_mm']:+.3f}, tilt {against['tilt_x_mm']:+.3f} and "
            f"{against['tilt_y_mm']:+.3f}, shape {against['shape_rms_mm']:.3f} mm RMS"
        )


def _print_resonance(report: dict[str, Any]) -> None:
    from ublet.core.units import with_uncertainty

    for axis, axis_report in report["axes"].items():
        say(f"    {axis}")
        for mode in axis_report["modes"]:
            hz = with_uncertainty(mode["frequency_hz"], mode["frequency_u"], "Hz")
            damping = with_uncertainty(mode["damping_ratio"], mode["damping_u"])
            say(f"      mode {hz}, damping {damping}, share {100 * mode['share']:.0f} %")
        for shaper in axis_report["shapers"]:
            mark = "▸" if shaper["name"] == axis_report["choice"] else " "
            say(
                f"    {mark} {shaper['name']:14} {shaper['frequency_hz']:6.1f} Hz  leaves "
                f"{100 * shaper['residual']:5.1f} %"
                f" ({100 * shaper['residual_drifted']:5.1f} drifted)  rounds {shaper['rounding_mm']:.3f} mm"
                f"  up to {shaper['max_acceleration_mm_s2']:7.0f} mm/s²"
            )


def _print_ripples(report: dict[str, Any]) -> None:
    from ublet.core.units import with_uncertainty

    for axis, axis_report in report["axes"].items():
        say(f"    {axis:4} {with_uncertainty(axis_report['frequency_hz'], axis_report['frequency_u'], 'Hz')}")


def _print_advance(report: dict[str, Any]) -> None:
    from ublet.core.units import with_uncertainty

    say(f"    pressure advance {with_uncertainty(report['advance_s'], report['advance_u_s'], 's')}")


def _print_flow(report: dict[str, Any]) -> None:
    from ublet.core.units import with_uncertainty

    say(f"    flow limit       {with_uncertainty(report['limit_mm3_s'], report['limit_u_mm3_s'], 'mm³/s')}")


PRINTS: Mapping[str, Callable[[dict[str, Any]], None]] = {
    "heat": _print_heat,
    "mesh": _print_mesh,
    "resonance": _print_resonance,
    "ripples": _print_ripples,
    "steps": _print_steps,
    "touches": _print_touches,
    "advance": _print_advance,
    "flow": _print_flow,
}
