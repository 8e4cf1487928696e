"""What no longer holds, what would not, and what to do again: against small machines whose chain is known."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from typer.testing import CliRunner

from tests.conftest import Onlooker, Rig, tern_scenario, virtually
from ublet.cli import app
from ublet.core.catalogue import TRIALS
from ublet.core.facts import FactError
from ublet.session.stale import StaleError, Supposed, stale_runs, supposed, to_redo


def test_a_supposed_setting_makes_stale_exactly_what_rests_on_it_and_nothing_is_entered(tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            session = rig.session
            for name in ("sensors-at-rest", "hotend-control", "bed-control"):
                await session.run(TRIALS[name], TRIALS[name].parameters(), Onlooker())
            machine = session.document.machine
            assert stale_runs(machine, session.ledger, session.presence) == []
            what_if = supposed(machine, "sensors.hotend.pullup_ohm=4000")
            gone = stale_runs(machine, session.ledger, session.presence, what_if)
            assert [(run.trial, run.subject) for run in gone] == [
                ("sensors-at-rest", {}),
                ("hotend-control", {"heater": "hotend"}),
            ]
            assert "sensors.hotend.pullup_ohm was 4700, is now 4000" in gone[1].reasons[0]
            both = Supposed({"sensors.bed.pullup_ohm": 4000.0, "sensors.hotend.pullup_ohm": 4000.0})
            trials = {run.trial for run in stale_runs(machine, session.ledger, session.presence, both)}
            assert trials == {"sensors-at-rest", "hotend-control", "bed-control"}
            assert stale_runs(machine, session.ledger, session.presence) == [], "it was only supposed"
            same = supposed(machine, "sensors.hotend.pullup_ohm=4700")
            assert stale_runs(machine, session.ledger, session.presence, same) == []

    virtually(work)


def test_what_rests_on_a_value_that_is_found_anew_follows_as_not_sure(tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            session = rig.session
            machine = session.document.machine
            for name in ("hotend-control", "hotend-verify"):
                aim = TRIALS[name].parameters()
                entered = await session.run(TRIALS[name], aim, Onlooker())
                if name == "hotend-control":
                    assert entered.ran.result.proposals
                    values = {proposal.setting: proposal.after for proposal in entered.ran.result.proposals}
                    await session.connection.write_live(values)
            gone = stale_runs(machine, session.ledger, session.presence, supposed(machine, "nozzle"))
            redo = to_redo(machine, session.ledger, session.presence, gone)
            assert [(step.trial, step.sure) for step in redo if step.trial == "hotend-control"] == [
                ("hotend-control", True)
            ]
            assert redo == sorted(redo, key=lambda step: [*TRIALS].index(step.trial))
            assert all(step.machine_s > 60 for step in redo)
            only_tuning = [run for run in gone if run.trial == "hotend-control"]
            followed = to_redo(machine, session.ledger, session.presence, only_tuning)
            if any(run.trial == "hotend-verify" for run in gone):
                assert [(step.trial, step.sure) for step in followed] == [
                    ("hotend-control", True),
                    ("hotend-verify", False),
                ]

    virtually(work)


@pytest.mark.parametrize(
    ("text", "error"),
    [("axes.q.steps_per_mm=3", StaleError), ("extruder.nozzle_mm=wide", StaleError), ("nozle", FactError)],
)
def test_what_cannot_be_supposed_is_named(text: str, error: type[Exception], tmp_path: Path) -> None:
    from tests.conftest import tern

    with pytest.raises(error):
        supposed(tern(), text)


def test_the_command_lists_what_is_stale_and_what_to_do_again(tmp_path: Path) -> None:
    files: list[Path] = []

    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            for name in ("sensors-at-rest", "hotend-control"):
                await rig.session.run(TRIALS[name], TRIALS[name].parameters(), Onlooker())
            files.append(rig.session.document.path)

    virtually(work)
    runner = CliRunner()
    nothing = runner.invoke(app, ["stale", str(files[0]), "--json"])
    assert nothing.exit_code == 0 and json.loads(nothing.stdout) == {"stale": [], "redo": []}
    then = runner.invoke(app, ["stale", str(files[0]), "--if", "nozzle", "--json"])
    report = json.loads(then.stdout)
    assert {entry["station"] for entry in report["stale"]} == {"hotend control"}
    assert any(entry["finding"] == "gain.hotend" for entry in report["stale"])
    assert [(step["trial"], step["sure"]) for step in report["redo"]] == [("hotend-control", True)]
    words = runner.invoke(app, ["stale", str(files[0]), "--if", "nozzle"]).stdout
    assert "to do again, in this order" in words and "nozzle" in words
    wrong = runner.invoke(app, ["stale", str(files[0]), "--if", "nozle"])
    assert wrong.exit_code == 2 and "Did you mean nozzle" in wrong.stderr
