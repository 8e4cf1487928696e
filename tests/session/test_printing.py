"""A print of one's own from its text to the board: checked, printed, changed, stopped and gone on with."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Sequence
from pathlib import Path

import pytest

from tests.commands import ublet
from tests.conftest import Onlooker, Rig, virtually
from tests.session.test_wire_trials import RIGHT
from ublet.core.catalogue import TRIALS
from ublet.core.extrude.own_print_trials import OwnPrintParameters
from ublet.core.extrude.piece_trials import AWAY, CLOSER, STOP
from ublet.core.questions import Live, Question
from ublet.core.run import TrialResult
from ublet.session.document import Document
from ublet.session.library import machine_path
from ublet.session.printing import PrintError, plan_for_file
from ublet.world.scenario import parse_scenario

SPEC = TRIALS["own-print"]
SQUARES = "(two squares)\nG21 G90\nG92 E0\nG0 X60 Y50 F6000\n"
for height in ("0.2", "0.4", "0.6"):
    SQUARES += f"G92 E0\nG0 Z{height} F600\nG1 X100 E1.4 F1500\nG1 Y90 E2.8\nG1 X60 E4.2\nG1 Y50 E5.6\n"


class Uses(Onlooker):
    """Uses controls while it prints, so many seconds apart."""

    def __init__(self, controls: Sequence[str], apart_s: float) -> None:
        super().__init__()
        self.controls, self.apart_s = list(controls), apart_s

    async def answer(self, question: Question) -> str:
        if not isinstance(question, Live) or ("It prints" not in question.text and "Not nudged" not in question.text):
            return await super().answer(question)
        self.questions.append(question)
        await asyncio.sleep(self.apart_s if self.controls else 1e6)
        return self.controls.pop(0)


def printed(folder: Path, text: str, watcher: Onlooker, again: Onlooker | None = None) -> tuple[list[TrialResult], Rig]:
    """How it ends; again: gone on with afterwards."""
    file = folder / "squares.gcode"
    file.write_text(text, encoding="ascii")

    async def work() -> tuple[list[TrialResult], Rig]:
        async with Rig(folder, parse_scenario(RIGHT)) as rig:
            aim = OwnPrintParameters(file=str(file))
            results = [(await rig.session.run(SPEC, aim, watcher)).ran.result]
            if again is not None:
                results.append((await rig.session.run(SPEC, aim, again, go_on=True)).ran.result)
            assert rig.everything_is_off() and not rig.board.mover.moving
            return results, rig

    return virtually(work)


def test_it_is_printed_hot_in_the_time_that_was_predicted(tmp_path: Path) -> None:
    watcher = Uses([], 1.0)
    (result,), rig = printed(tmp_path, SQUARES, watcher)
    assert result.outcome == "proven", result.why
    taken, predicted = result.finding("taken"), result.finding("predicted")
    assert taken is not None and predicted is not None and taken.value == pytest.approx(predicted.value, abs=3.0)
    assert rig.world.filament.fed_mm == pytest.approx(3 * 5.6 * 11.34 / 11.52, rel=0.02)
    details = [step.detail for step in watcher.steps]
    assert "layer 1 of 3" in details and "layer 3 of 3" in details
    assert isinstance(watcher.questions[0].text, str) and "wipe it" in watcher.questions[0].text


def test_what_was_nudged_is_offered_and_never_into_the_bed(tmp_path: Path) -> None:
    watcher = Uses([CLOSER] * 9 + [AWAY], 1.2)
    (result,), _ = printed(tmp_path, SQUARES, watcher)
    nudged = result.finding("nudged")
    assert nudged is not None and nudged.value == pytest.approx(-0.12), "0.2 mm less 0.05 is as near as it goes"
    assert any("Not nudged: less than 0.05 mm" in question.text for question in watcher.questions)
    assert [option.name for option in result.options] == ["as nudged"]
    assert result.options[0].proposals[0].after == pytest.approx(float(result.options[0].proposals[0].before) - 0.12)


def test_stopped_it_is_parked_and_can_be_gone_on_with_at_its_layer(tmp_path: Path) -> None:
    (stopped, rest), rig = printed(tmp_path, SQUARES, Uses([STOP], 11.0), Uses([], 1.0))
    assert stopped.outcome == "halted" and "Stopped in layer 2 of 3" in stopped.why
    assert rest.outcome == "proven", rest.why
    assert rig.world.filament.fed_mm > 3 * 5.6 * 0.95


def test_a_text_that_does_not_fit_moves_nothing_and_says_where(tmp_path: Path) -> None:
    (result,), rig = printed(tmp_path, SQUARES + "G1 X999 E9\n", Uses([], 1.0))
    assert result.outcome == "failed" and "line 23: X 999 mm is above its limits" in result.why
    assert rig.board.mover.position["x"] is None and result.remedies[0].words == "parameter file: a text that fits"


def test_the_dry_check_is_the_contracts_json(tmp_path: Path) -> None:
    file = tmp_path / "squares.gcode"
    file.write_text(SQUARES + "M77 S1\n", encoding="ascii")
    done = ublet("print", str(file), "--scenario", "wren", "--dry", "--json")
    report = json.loads(done.stdout)
    assert done.returncode == 0 and report["fits"] is True and report["layers"] == 3
    assert report["lines"] == 23 and report["filament_mm"] == pytest.approx(16.8) and report["left_out"] == {"M77": 1}
    assert report["x_mm"] == [60, 100] and report["z_mm"] == [0.2, 0.6] and report["problems"] == []
    file.write_text(SQUARES + "G1 X9999\n", encoding="ascii")
    done = ublet("print", str(file), "--machine", str(machine_path("wren-180")), "--dry", "--json")
    assert done.returncode == 1 and json.loads(done.stdout)["problems"][0]["line"] == 23
    done = ublet("print", str(file), "--scenario", "tern", "--dry", "-o", str(tmp_path / "out.svg"))
    assert (tmp_path / "out.svg").read_text().startswith("<?xml") and done.returncode == 1


@pytest.mark.parametrize(
    ("content", "words"),
    [
        ("G1 X1\n".encode("utf-16"), "is a text in UTF-16: save it as UTF-8"),
        (b"\x7fELF\x00\x01", "is no text: it has zero bytes"),
        (None, "cannot be read: No such file"),
    ],
)
def test_what_is_no_text_is_refused(tmp_path: Path, content: bytes | None, words: str) -> None:
    file = tmp_path / "a.gcode"
    if content is not None:
        file.write_bytes(content)
    document = Document(machine_path("wren-180"))
    with pytest.raises(PrintError, match=words):
        plan_for_file(file, document.machine, document.board.steps_per_s)


def test_one_that_is_too_large_is_refused_unread(tmp_path: Path) -> None:
    file = tmp_path / "large.gcode"
    with file.open("wb") as out:
        out.truncate(1_000_000_000)
    document = Document(machine_path("wren-180"))
    with pytest.raises(PrintError, match="has 1,000 MB: a print text may have 400 MB"):
        plan_for_file(file, document.machine, document.board.steps_per_s)
