"""What no longer holds, what would not, and what to do again: against small machines whose chain is known."""

from __future__ import annotations

import itertools
import json
import random
from pathlib import Path

import pytest
from typer.testing import CliRunner

from tests.conftest import Onlooker, Rig, machine_text, tern, tern_scenario, virtually
from tests.session.spoken import spoken
from ublet.cli import app
from ublet.core.catalogue import TRIALS
from ublet.core.evidence import Dependency
from ublet.core.facts import FactError
from ublet.core.machine.effective import effective
from ublet.core.route import ROUTE
from ublet.core.run import Finding, Option, Proposal, TrialResult
from ublet.ledger.book import Ledger
from ublet.ledger.entries import Opening
from ublet.session.headless import execute
from ublet.session.orders import order_for
from ublet.session.record import Offline
from ublet.session.saving import now
from ublet.session.stale import StaleError, Supposed, stale_runs, supposed, to_redo
from ublet.tui.trial.redo import WhatIf, made_stale_line


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
    with pytest.raises(error):
        supposed(tern(), text)


CHAIN = [
    name
    for station in ROUTE
    for name in station.trials
    if TRIALS[name].verify in (None, name) and not TRIALS[name].heaters(tern())
][:12]
PATHS = ["axes.x.steps_per_mm", "axes.y.steps_per_mm", "bed.soak_s", "extruder.retract_mm", "axes.z.steps_per_mm"]


def made_up(ledger: Ledger, random_: random.Random) -> dict[str, tuple[set[str], set[str], set[str]]]:
    """Proven runs of some trials; of each the settings that it rests on, the trials, and the settings it proposes."""
    known: dict[str, tuple[set[str], set[str], set[str]]] = {}
    values = effective(tern())
    for name in CHAIN:
        if random_.random() < 0.25:
            continue
        paths = set(random_.sample(PATHS, random_.randint(0, 2)))
        trials = set(random_.sample(list(known), min(len(known), random_.randint(0, 1))))
        proposes = {random_.choice(PATHS)} - paths if random_.random() < 0.3 else set()
        recorded = ledger.open_run(Opening(now(), name, TRIALS[name].station, {}))
        rests = [Dependency("setting", path, values[path]) for path in sorted(paths)]
        rests += [Dependency("finding", f"{trial}/size.{trial.replace('-', '_')}", 1.0) for trial in sorted(trials)]
        proposals = tuple(Proposal(path, values[path], values[path], "", "") for path in proposes)
        finding = Finding("size", 1.0, 0.1, subject={"of": name.replace("-", "_")})
        recorded.end(TrialResult("proven", "", {}, (finding,), (Option("o", "", proposals, {}),)), 1.0, tuple(rests))
        known[name] = (paths, trials, proposes)
    return known


@pytest.mark.parametrize("seed", range(40))
def test_stale_is_exactly_what_rests_on_it_and_the_list_is_the_shortest_closure(seed: int, tmp_path: Path) -> None:
    """Against a search that looks at every set of trials: the smallest one that holds what is stale, and with a trial
    everything that rests on what it finds or proposes.
    """
    random_ = random.Random(seed)
    file = tmp_path / "tern-280.toml"
    file.write_text(machine_text(), encoding="utf-8")
    offline = Offline(file)
    known = made_up(offline.ledger, random_)
    changed = random_.choice(PATHS)
    gone = stale_runs(tern(), offline.ledger, offline.presence, Supposed({changed: 12345.0}))
    stale = {name for name, (paths, _, _) in known.items() if changed in paths}
    assert {run.trial for run in gone} == stale

    def closed(names: set[str]) -> bool:
        return all(
            other in names
            for name in names
            for other, (paths, trials, _) in known.items()
            if name in trials or known[name][2] & paths
        )

    redo = to_redo(tern(), offline.ledger, offline.presence, gone)
    offline.close()
    listed = {step.trial for step in redo}
    assert {step.trial for step in redo if step.sure} == stale and closed(listed)
    others = sorted(set(known) - stale)
    sizes = (
        len(stale | set(chosen))
        for count in range(len(others) + 1)
        for chosen in itertools.combinations(others, count)
        if closed(stale | set(chosen))
    )
    assert len(listed) == next(sizes), "no smaller one will do"
    assert [step.trial for step in redo] == [name for name in CHAIN if name in listed], "in the order of the work"


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


def test_a_keep_says_in_a_line_what_it_makes_stale(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "") as (session, _, watcher):
            for name in ("directions", "homing", "steps-per-mm"):
                assert (await execute(order_for(name, [], False, False), session, watcher)).outcome == "proven"
            path, beds = "axes.x.steps_per_mm", "heaters.bed.kp"
            steps, what_if = session.live(path), WhatIf(session)
            assert isinstance(steps, float)
            for setting, after, line in (
                (path, steps * 1.01, "▲ makes stale: homing, steps per mm\n"),
                (path, steps, ""),
                (beds, 0.123, ""),
            ):
                proposal = Proposal(setting, session.live(setting), after, "", "")
                assert made_stale_line(what_if.of_option(Option("x", "", (proposal,), {}))).plain == line

    virtually(work)
