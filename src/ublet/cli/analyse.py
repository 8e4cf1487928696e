"""The command that analyses recorded data."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, cast

import typer

from ublet.cli.base import GOOD, USAGE, JsonOption, app, print_json, stop, told

if TYPE_CHECKING:
    from ublet.core.motion.measuring import Instrument


@app.command()
def analyse(
    kind: str,
    file: Path,
    svg: Annotated[Path | None, typer.Option(help="Draw it to FILE.svg.")] = None,
    pdf: Annotated[Path | None, typer.Option(help="Draw it to FILE.pdf.")] = None,
    instrument: Annotated[str, typer.Option(help="What the lengths were read with: rule, callipers, dial-gauge.")] = (
        "callipers"
    ),
    as_json: JsonOption = False,
) -> None:
    """Analyse recorded data: KIND is heat (time_s,duty,temperature_c), steps (commanded_mm,measured_mm) or touches
    (z_mm, with or without speed_mm_s).
    """
    from ublet.core.motion.measuring import INSTRUMENTS
    from ublet.session.analysing import analyse_file

    if instrument not in INSTRUMENTS:
        raise stop(USAGE, f"--instrument {instrument}: allowed: {', '.join(INSTRUMENTS)}")
    with told():
        report, draw = analyse_file(kind, file, cast("Instrument", instrument))
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
    from ublet.core.units import duration, show, with_uncertainty

    if report["kind"] == "heat":
        model = report["model"]
        for key, words, unit in (
            ("gain_c", "gain", "°C"),
            ("time_constant_s", "time constant", "s"),
            ("delay_s", "dead time and lag", "s"),
        ):
            print(f"    {words:16} {with_uncertainty(model[key], model[f'{key}_u'], unit)}")
        print(f"    {'room':16} {show(model['ambient_c'], '°C')}")
        print(f"  predicted steps to {show(report['target_c'], '°C')}:")
        for each in report["candidates"]:
            settled = "does not settle" if each["settle_s"] is None else f"settled in {duration(each['settle_s'])}"
            gains = "  ".join(f"{key} {show(each[key], '', 4)}" for key in ("kp", "ki", "kd"))
            print(f"    {each['name']:10} {gains}   overshoot {each['overshoot_c']:.1f} °C, {settled}")
    elif report["kind"] == "touches":
        for each in report["speeds"] or [{**report, "speed_mm_s": None}]:
            at = f"at {each['speed_mm_s']:g} mm/s" if each["speed_mm_s"] else "all"
            told = with_uncertainty(1000 * each["deviation_mm"], 1000 * each["deviation_u_mm"], "µm")
            print(f"    {at:16} {each['count']:>3} touches, standard deviation {told}")
        if report["drift_mm_per_touch"] is not None:
            drift = with_uncertainty(1000 * report["drift_mm_per_touch"], 1000 * report["drift_u_mm_per_touch"], "µm")
            print(f"    drift            {drift} a touch")
        if report["outliers"]:
            print(f"    left out         rows {', '.join(map(str, report['outliers']))}, counted from 0")
    else:
        print(f"    scale {with_uncertainty(report['scale'], report['scale_u'])}")
    print(f"  {report['choice']}: {report['why']}")
    for note in report["notes"]:
        print(f"  ! {note}")
