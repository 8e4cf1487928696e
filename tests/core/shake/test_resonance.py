"""Recorded shaking of frames made up by other physics: modes within their claims; what is wrong with it is said."""

from __future__ import annotations

import json
from collections.abc import Callable
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from typer.testing import CliRunner

from ublet.benchmark.structures import Structure, recorded, structure
from ublet.cli import app
from ublet.core.recorded import RecordError
from ublet.core.shake.choosing import Limits
from ublet.core.shake.mode_fit import fit_modes
from ublet.core.shake.recorded_shake import Resonance, analyse_resonance
from ublet.core.shake.spectra import density_of, frequency_response_of
from ublet.core.shake.sweep import Sweep
from ublet.core.shake.tower import frequency_of

RATE = 1600.0
SWEEP = Sweep("x", 5, 130, 30, 0.08)
TIMES = np.arange(int(RATE * 31)) / RATE
TWO = Structure((41.0, 73.0), (0.06, 0.04), (0.7, 0.3))


def table(columns: dict[str, np.ndarray], comment: str = "# sweep: x 5 130 30 0.08", times: np.ndarray = TIMES) -> str:
    rows = np.column_stack([times, *columns.values()])
    lines = [",".join(f"{value:.8g}" for value in row) for row in rows.tolist()]
    return "\n".join([comment, ",".join(["time_s", *columns]), *lines]) + "\n"


@cache
def shaken(noise_db: float = 35.0, made: Structure = TWO, seed: int = 1) -> np.ndarray:
    return recorded(made, SWEEP.at, TIMES, np.random.default_rng(seed), noise_db)


def found(text: str) -> Resonance:
    return analyse_resonance(text, "a.csv", Limits())


@pytest.mark.parametrize("noise_db", [40.0, 15.0])
def test_modes_of_made_up_frames_are_found_none_is_invented_and_claims_cover(noise_db: float) -> None:
    covered, within = [], []
    for seed in range(7):
        random = np.random.default_rng(seed)
        made = structure(random)
        response = recorded(made, SWEEP.at, TIMES, random, noise_db)
        modes = fit_modes(frequency_response_of(SWEEP.at(TIMES), response, RATE, 5.5, 129))
        main = int(np.argmax(made.modal_share))
        mode = min(modes, key=lambda each: abs(each.frequency_hz - made.hz[main]))
        covered.append(abs(mode.frequency_hz - made.hz[main]) <= 2 * mode.frequency_u)
        covered.append(abs(mode.damping_ratio - made.damping[main]) <= 2 * mode.damping_u)
        within.append(abs(mode.frequency_hz / made.hz[main] - 1) < 0.01)
        within.append(abs(mode.damping_ratio / made.damping[main] - 1) < 0.2)
        assert mode.modal_share == pytest.approx(made.modal_share[main], abs=0.05)
        for each in modes:
            assert each.modal_share < 0.05 or min(abs(each.frequency_hz / hz - 1) for hz in made.hz) < 0.1, "invented"
    assert np.mean(covered) >= 0.9 and np.mean(within) >= 0.95


def test_a_record_tells_its_modes_its_line_and_its_shapers() -> None:
    response = shaken() + 0.4 * np.sin(2 * np.pi * 97 * TIMES)
    report = found(table({"x_m_s2": response, "y_m_s2": 0.01 * response, "z_m_s2": 9.8 + 0 * response}))
    (axis,) = report.axes
    modes = report.axes[axis].modes
    assert axis == "x" and [round(mode.frequency_hz) for mode in modes] == [41, 73]
    assert any("97 Hz does not follow the sweep" in problem for problem in report.problems)
    names = [shaper.name for shaper in report.axes[axis].choice.shapers]
    assert names == ["zv", "zvd", "ei", "two-hump-ei", "three-hump-ei", "optimised"]


def test_a_diagonal_is_told_under_its_own_name() -> None:
    response = shaken()
    both = {"x_m_s2": response / np.sqrt(2), "y_m_s2": -response / np.sqrt(2)}
    report = found(table(both, "# sweep: x-y 5 130 30 0.08"))
    assert list(report.axes) == ["x-y"] and report.axes["x-y"].modes[0].frequency_hz == pytest.approx(41, rel=0.01)


def test_without_a_comment_flat_excitation_is_taken_and_only_axes_that_shook_are_told() -> None:
    random = np.random.default_rng(2)
    response = recorded(TWO, lambda times: random.normal(0, 3.0, len(times)), TIMES, random, 40)
    report = found(table({"x_m_s2": response, "y_m_s2": 0.01 * random.normal(0, 1, len(TIMES))}, "# nothing"))
    assert list(report.axes) == ["x"] and any("a flat one is assumed" in problem for problem in report.problems)
    main = report.axes["x"].modes[0]
    assert main.frequency_hz == pytest.approx(41, rel=0.02) and abs(main.damping_ratio - 0.06) <= 3 * main.damping_u


def test_gaps_jitter_clipping_and_rounded_times_are_told_and_do_not_mislead() -> None:
    response, random = shaken(), np.random.default_rng(5)
    there = np.ones(len(TIMES), dtype=bool)
    for start in random.integers(0, len(TIMES) - 200, 12):
        there[start : start + 120] = False
    report = found(table({"x_m_s2": response[there]}, times=TIMES[there]))
    assert any("readings are missing, in" in problem for problem in report.problems)
    assert report.axes["x"].modes[0].frequency_hz == pytest.approx(41, rel=0.01)
    late = TIMES + random.normal(0, 0.05 / RATE, len(TIMES))
    assert any("jitter by" in problem for problem in found(table({"x_m_s2": response}, times=late)).problems)
    rounded = found(table({"x_m_s2": response}, times=np.round(TIMES, 4)))
    assert all("not recorded" in problem for problem in rounded.problems), "rounded times are no fault of themselves"
    assert rounded.axes["x"].modes[0].frequency_hz == pytest.approx(41, rel=0.005)
    clipped = found(table({"x_m_s2": np.clip(response, -0.4 * response.max(), 0.4 * response.max())}))
    assert any("clipped" in problem for problem in clipped.problems)


def test_noise_alone_rings_nowhere_and_a_record_that_shakes_at_its_ends_is_said() -> None:
    for seed in range(4):
        noise = np.random.default_rng(seed).normal(0, 1.0, len(TIMES))
        with pytest.raises(RecordError, match="nothing in it rings"):
            found(table({"x_m_s2": noise}, "# nothing"))
    late = TIMES > 4.0
    cut = found(table({"x_m_s2": shaken()[late]}, times=TIMES[late]))
    assert any("begins while it shakes" in problem for problem in cut.problems)
    assert cut.axes["x"].modes[0].frequency_hz == pytest.approx(41, rel=0.01)


def test_symptoms_are_said_in_words() -> None:
    loose = found(table({"x_m_s2": shaken(made=Structure((28.0,), (0.2,), (1.0,)))}))
    assert any("loose belt" in problem for problem in loose.problems)
    close = found(table({"x_m_s2": shaken(made=Structure((50.0, 57.0), (0.03, 0.03), (0.5, 0.5)))}))
    assert any("two peaks close" in problem for problem in close.problems)
    weak = found(table({"x_m_s2": shaken(made=Structure((8.0, 60.0), (0.05, 0.05), (0.6, 0.4)))}))
    assert any("on its feet" in problem for problem in weak.problems)
    short = found(table({"x_m_s2": shaken()[: int(20 * RATE)]}, times=TIMES[: int(20 * RATE)]))
    assert any("the record ends at 20.0 of 30 s" in problem for problem in short.problems)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (lambda: table({"x_m_s2": shaken() / 9.81, "y_m_s2": 0 * TIMES, "z_m_s2": 1 + 0 * TIMES}), "multiples of g"),
        (lambda: table({"y_m_s2": shaken()}), "x_m_s2 is not recorded"),
        (lambda: table({"x_m_s2": 0 * TIMES + 3}), "every reading is the same"),
        (lambda: table({"x_m_s2": shaken()[:800]}, times=TIMES[:800]), "0.50 s of data"),
        (lambda: table({"x_m_s2": shaken()[::-1]}, times=TIMES[::-1]), "time must rise"),
        (lambda: table({"x_m_s2": shaken()[::8]}, times=TIMES[::8]), "readings a second do not reach 130 Hz"),
        (lambda: table({"x_m_s2": shaken()}, "# sweep: x 130 5 30 0.08"), "from_hz < to_hz"),
        (lambda: table({"x_m_s2": shaken()}, "# sweep: u 5 130 30 0.08"), "is no sweep"),
        (lambda: "time_s,a\n0,1\n1,2\n", "no acceleration: columns x_m_s2"),
        (lambda: "", "is empty"),
        (lambda: "time_s,x_m_s2\n0,1\n0.1,lots\n", "found “lots”"),
    ],
)
def test_what_cannot_be_used_is_said(text: Callable[[], str], words: str) -> None:
    with pytest.raises(RecordError, match=words):
        found(text())


def test_the_command_gives_the_contracts_shape_and_draws(tmp_path: Path) -> None:
    file = tmp_path / "shake.csv"
    file.write_text(table({"x_m_s2": shaken()}), encoding="utf-8")
    words = ["analyse", "resonance", str(file), "--acceleration", "3000", "--svg", str(tmp_path / "a.svg")]
    done = CliRunner().invoke(app, [*words, "--json"])
    assert done.exit_code == 0, done.output
    report = json.loads(done.stdout)
    axis = report["axes"]["x"]
    assert set(axis["modes"][0]) == {"frequency_hz", "frequency_u", "damping_ratio", "damping_u", "share"}
    assert axis["choice"] in [each["name"] for each in axis["shapers"]] and axis["why"]
    for shaper in axis["shapers"]:
        times, amplitudes = zip(*shaper["impulses"], strict=True)
        assert times[0] == 0 and sum(amplitudes) == pytest.approx(1) and shaper["acceleration_mm_s2"] == 3000
    assert "<svg" in (tmp_path / "a.svg").read_text(encoding="utf-8") and report["seconds_of_data"] > 30
    assert "▸" in CliRunner().invoke(app, words).output


def test_a_density_has_the_power_of_what_was_recorded() -> None:
    random = np.random.default_rng(1)
    hz, density, windows = density_of(random.normal(0, 2.0, 200_000), 1000.0, 0.0, 500.0)
    assert windows > 50 and float(np.sum(density) * (hz[1] - hz[0])) == pytest.approx(4.0, rel=0.03)


def test_ripples_tell_a_frequency_and_a_band_that_contradicts() -> None:
    result = frequency_of([(8, 20.0, 100.0), (10, 18.8, 75.0), (6, 12.2, 80.0)])
    assert result.frequency_hz == pytest.approx(40, abs=2 * result.frequency_u) and result.frequency_u < 1.5
    assert result.problems == ()
    odd = frequency_of([(8, 20.0, 100.0), (10, 18.8, 75.0), (4, 16.0, 80.0)])
    assert any("band 3 says 20.0 Hz" in problem for problem in odd.problems) and odd.frequency_u > result.frequency_u
    assert 2 in odd.odd, "it can be measured again"
    top_first = frequency_of([(8, 20.0, 100.0), (10, 18.8, 75.0), (4, 16.0, 80.0)], ("band 4", "band 3", "band 2"))
    assert any(problem.startswith("band 2 says") for problem in top_first.problems), "by its name, not by its place"
    with pytest.raises(ValueError, match="above 0"):
        frequency_of([(0, 1.0, 1.0)])


def test_one_wrong_reading_of_four_is_the_only_one_that_is_named() -> None:
    odd = frequency_of([(5, 14.0, 80.0), (5, 9.5, 80.0), (5, 9.6, 80.0), (5, 9.4, 80.0)])
    assert odd.odd == (0,)
    assert odd.problems == ("band 1 says 28.6 Hz, the others 42.1: count it again",)


def test_ripples_by_axis_from_a_file(tmp_path: Path) -> None:
    file = tmp_path / "r.csv"
    file.write_text("axis,ripples,distance_mm,speed_mm_s\nx,5,12.5,100\ny,6,10,100\nx,4,10,100\n", encoding="utf-8")
    done = CliRunner().invoke(app, ["analyse", "ripples", str(file), "--json"])
    axes = json.loads(done.stdout)["axes"]
    assert axes["x"]["frequency_hz"] == pytest.approx(40) and axes["y"]["frequency_hz"] == pytest.approx(60)
    file.write_text("axis,ripples,distance_mm,speed_mm_s\nw,5,12.5,100\n", encoding="utf-8")
    bad = CliRunner().invoke(app, ["analyse", "ripples", str(file)])
    assert bad.exit_code == 2 and "allowed: x, y, z" in bad.output
