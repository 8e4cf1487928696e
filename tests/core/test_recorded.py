"""Recorded tables: what is read, what is noted, what is refused; analyses of known plants and lengths."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from typer.testing import CliRunner

from ublet.cli import app
from ublet.core.heat.analysis import analyse_heat, ultimate_of
from ublet.core.heat.limit_cycle import levels_off
from ublet.core.heat.model import HeaterModel, respond
from ublet.core.least_squares import Floats
from ublet.core.motion.steps import analyse_steps
from ublet.core.recorded import RecordError, check_times, parse_table

HEAT = ("time_s", "duty", "temperature_c")


def record(gain: float, lag: float, dead: float, noise: float, seed: int, minutes: float = 20) -> list[Floats]:
    """A noisy record of a known plant: half a minute of rest, a climb, then on and off."""
    time_s = np.arange(int(minutes * 600)) * 0.1
    heat_up = 30 + 0.6 * lag
    duty = np.where(time_s < 30, 0.0, np.where(time_s < heat_up, 1.0, (np.sin(time_s / 6) > 0.2) * 0.8))
    seen = respond(HeaterModel(gain, lag, dead, 22.0), time_s, duty, 22.0)
    return [time_s, duty, seen + np.random.default_rng(seed).normal(0, noise, len(seen))]


@pytest.mark.parametrize(("gain", "lag", "dead"), [(540, 205, 2.5), (380, 120, 4.0), (160, 600, 6.0), (800, 260, 1.0)])
@pytest.mark.parametrize("noise", [0.05, 0.5])
def test_a_noisy_record_of_a_known_plant_gives_it_back(gain: float, lag: float, dead: float, noise: float) -> None:
    found = analyse_heat(*record(gain, lag, dead, noise, 3))
    model = found.fit.model
    assert model.gain_c == pytest.approx(gain, rel=0.05) and model.time_constant_s == pytest.approx(lag, rel=0.05)
    assert model.dead_time_s == pytest.approx(dead, abs=0.5) and model.ambient_c == pytest.approx(22, abs=0.1)
    best = found.made[found.choice].step.measure
    assert best.overshoot_c < 2 and best.settle_s is not None


def test_the_ultimate_point_of_a_model_just_oscillates() -> None:
    model = HeaterModel(500, 200, 2.0, 20, 3.0)
    point = ultimate_of(model)
    w = 2 * np.pi / point.period_s
    response = (
        point.gain * model.gain_c * np.exp(-1j * w * 2.0) / ((1j * w * 200 + 1) * (1j * w * 3.0 + 1))
    )  # the loop at that frequency is -1
    assert response == pytest.approx(-1, abs=1e-6)


def test_where_a_climb_levels_off_is_told_early() -> None:
    time_s = np.arange(4000) * 0.1
    for gain, lag in ((150.0, 200.0), (150.0, 120.0), (200.0, 300.0)):
        duty = np.ones_like(time_s)
        seen = respond(HeaterModel(gain, lag, 2.0, 22.0, 3.0), time_s, duty, 22.0)
        seen += np.random.default_rng(2).normal(0, 0.1, len(seen))
        early = int(0.8 * lag * 10)
        top = levels_off(time_s[:early], seen[:early])
        assert top is not None and top.celsius == pytest.approx(22 + gain, abs=4 * top.uncertainty_c + 2)
        assert top.sure_below(22 + 1.3 * gain) and not top.sure_below(22 + 0.98 * gain)


CSV = "# made up\ntime_s,note,duty,temperature_c\n" + "".join(f"{n},x,0.5,{20 + n}\n" for n in range(20))


def test_a_table_is_read_with_what_was_noticed() -> None:
    table = parse_table("\ufeff" + CSV.replace("x,", "9,") + "20,9", HEAT, "a.csv")
    assert table.rows == 20 and table.comments == ("made up",) and table.columns["temperature_c"][3] == 23
    assert table.notes == ("line 23 was cut off and is left out",)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "a.csv is empty"),
        ("# only this\n", "a.csv is empty"),
        (CSV.replace("temperature_c", "temperature"), "temperature_c missing of .*rename “temperature”"),
        (CSV.replace("0.5,23", "0.5,warm"), "a.csv:6: temperature_c: found “warm”; a number is needed"),
        (CSV.replace("0.5,23", ",23"), "a.csv:6: duty: found nothing"),
        (CSV.replace("0.5,23", "nan,23"), "a.csv:6: duty: found “nan”"),
        ("time_s,duty,temperature_c\n1,2,3\n", "1 rows of numbers"),
    ],
)
def test_what_is_wrong_with_a_table_is_named_by_its_place(text: str, words: str) -> None:
    with pytest.raises(RecordError, match=words):
        parse_table(text, HEAT, "a.csv")


def test_times_that_go_back_are_refused() -> None:
    rows = CSV.splitlines()
    rows[5], rows[6] = rows[6], rows[5]
    with pytest.raises(RecordError, match="row 5: time_s goes from 4 to 3"):
        check_times(parse_table("\n".join(rows), HEAT, "a.csv"), "time_s", "a.csv")


def test_lengths_are_judged() -> None:
    commanded = np.array([50.0, 100.0, 150.0])
    good = analyse_steps(commanded, commanded + np.array([0.02, -0.03, 0.01]))
    assert good.choice == "leave it" and good.scale == pytest.approx(1, abs=2 * good.uncertainty)
    off = analyse_steps(commanded, commanded * 1.004)
    assert off.choice == "change" and off.scale == pytest.approx(1.004) and "0.99602" in off.why
    assert (
        analyse_steps(commanded, commanded * 0.5).choice == "look"
        and analyse_steps(commanded, commanded * 0).choice == "look"
    )
    assert analyse_steps(commanded, -commanded).choice == "look"  # the other way is no factor


def analyse(*words: str) -> tuple[int, str, str]:
    done = CliRunner().invoke(app, ["analyse", *words])
    return done.exit_code, done.stdout, done.stderr


def test_the_command_prints_one_object_and_draws(tmp_path: Path) -> None:
    file = tmp_path / "a.csv"
    rows = np.stack(record(500, 150, 3, 0.1, 5, 10), 1)
    np.savetxt(file, rows, delimiter=",", header="time_s,duty,temperature_c", comments="")
    code, out, _ = analyse("heat", str(file), "--json", "--svg", str(tmp_path / "a.svg"))
    report = json.loads(out)
    assert code == 0 and set(report["model"]) >= {"gain_c", "time_constant_s", "dead_time_s", "ambient_c"}
    assert {"overshoot_c", "settle_s", "kp", "ki", "kd"} <= set(report["candidates"][0])
    assert (tmp_path / "a.svg").stat().st_size > 5000
    assert "gain" in analyse("heat", str(file))[1]
    file.write_text("commanded_mm,measured_mm\n100,100.01\n100,99.98\n", encoding="utf-8")
    code, out, _ = analyse("steps", str(file), "--json")
    assert code == 0 and json.loads(out)["choice"] == "leave it"


def rows(line: str) -> bytes:
    """Ninety rows of a heat record; n is the row."""
    made = "".join(f"{n},{line.format(n=n, odd=n % 2)}\n" for n in range(90))
    return f"time_s,duty,temperature_c\n{made}".encode()


@pytest.mark.parametrize(
    ("kind", "text", "words"),
    [
        ("heat", rows("0.5,{n}"), "never changes"),
        ("heat", rows("{odd},25"), "less than 3"),
        ("heat", rows("50{odd},{n}"), "0..1"),
        ("heat", b"\xff\xfe\x00", "is not text"),
        ("advance", b"", "needs a header"),
        ("advance", b"advance_s,width_difference_mm\n0.1,0.2\n0.2,0.3\n0.3,0.4\n", "grow from line to line"),
        ("advance", b"advance_s,width_difference_mm\n0.1,0.2\n4,0\n9,-0.1\n", "from 0 to 3 s"),
        ("flow", b"flow_mm3_s,commanded_mm,measured_mm\n4,50,50\n8,50,50\n12,50,50\n", "nothing falls short"),
        ("flow", b"flow_mm3_s,commanded_mm,measured_mm\n4,0,50\n8,50,50\n12,50,50\n", "must be above 0"),
        ("tea", b"", "unknown; allowed: heat, mesh, resonance"),
        ("steps", b"commanded_mm,measured_mm\n0,1\n5,5\n", "commanded length is 0"),
    ],
)
def test_what_cannot_be_analysed_is_a_sentence_and_exit_2(kind: str, text: bytes, words: str, tmp_path: Path) -> None:
    file = tmp_path / "a.csv"
    file.write_bytes(text)
    code, out, err = analyse(kind, str(file), "--json")
    assert code == 2 and words in err and out == "" and "Traceback" not in err
    assert analyse(kind if kind == "heat" else "heat", str(tmp_path / "none.csv"))[0] == 2
