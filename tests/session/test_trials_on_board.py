"""Trials on the simulated board, through the link: accuracy, and every fault that can end them."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from pathlib import Path

import pytest

from tests.conftest import Onlooker, Rig, tern_scenario, truths, virtually, word
from ublet.core.catalogue import TRIALS
from ublet.core.heat.trials import HotendParameters, HotendVerifyParameters
from ublet.core.run import TrialResult
from ublet.session.headless import run_on_scenario
from ublet.session.library import DEMOS, scenario_path
from ublet.session.orders import order_for

CONTROL, VERIFY = TRIALS["hotend-control"], TRIALS["hotend-verify"]


@pytest.mark.parametrize("stem", DEMOS.values())
def test_the_whole_trial_finds_the_truth_and_its_gains_do_what_was_predicted(stem: str) -> None:
    order = order_for("hotend-control", [], keep=True, save=True)
    done = run_on_scenario(order, scenario_path(stem), None, 1, lambda progress: None)
    report, truth = done.report, truths(done.report)
    found = {word(finding["id"]): finding["value"] for finding in report["findings"]}
    assert (report["outcome"], done.outcome, report["saved"]) == ("proven", "proven", 3)
    assert found["gain"] == pytest.approx(truth["gain"], rel=0.01)
    unconfirmed = {word(finding["id"]): finding["uncertainty"] for finding in report["findings"]}
    for name in ("gain", "time_constant", "delay"):
        assert abs(found[name] - truth[name]) < 2.5 * unconfirmed[name], name
    assert found["time_constant"] == pytest.approx(truth["time_constant"], rel=0.03)
    assert unconfirmed["delay"] < 0.05 * truth["delay"] and unconfirmed["dead_time"] is None
    assert found["hold_duty"] == pytest.approx(truth["hold_duty"], rel=0.03)
    assert found["fan_loss_ratio"] == pytest.approx(truth["fan_loss_ratio"], rel=0.03)
    seen = {word(finding["id"]): finding["value"] for finding in report["verify"]["findings"]}
    assert seen["overshoot"] < 2.0
    assert seen["ripple"] < 0.5
    assert abs(seen["overshoot_against_prediction"]) < 1.0
    assert seen["settle"] == pytest.approx(seen["predicted_settle"], rel=0.1)
    assert seen["fan_dip"] == pytest.approx(seen["predicted_fan_dip"], abs=0.3)
    paths = [proposal["setting"] for proposal in report["proposals"]]
    assert paths == ["heaters.hotend.kp", "heaters.hotend.ki", "heaters.hotend.kd"]


def test_the_same_seed_gives_the_same_report_and_another_one_does_not() -> None:
    order = order_for("hotend-control", ["target=160", "cycles=5"], keep=False, save=False)
    one, two, three = (
        run_on_scenario(order, scenario_path("tern-280"), None, seed, lambda progress: None).report
        for seed in (3, 3, 4)
    )
    assert one == two
    assert one["findings"] != three["findings"]


Upset = Callable[[Rig], Awaitable[None]]


def spoil(
    folder: Path, extra: str = "", upset: Upset | None = None, replaced: dict[str, str] | None = None
) -> tuple[TrialResult, bool, bool]:
    """Run hotend control while something goes wrong: its result, whether all is off after, link lost."""

    async def work() -> tuple[TrialResult, bool, bool]:
        async with Rig(folder, tern_scenario(extra, replaced)) as rig:
            if upset is not None:
                asyncio.get_running_loop().create_task(upset(rig))
            entered = await rig.session.run(CONTROL, HotendParameters(), Onlooker())
            await asyncio.sleep(6)
            stored = rig.session.ledger.latest("hotend-control")
            assert stored is not None and stored.result.why == entered.ran.result.why
            return entered.ran.result, rig.everything_is_off(), entered.ran.lost

    return virtually(work)


@pytest.mark.parametrize(
    ("event", "words"),
    [
        ('kind = "sensor-open"\nof = "T1"\nabove_c = 150', "sensor reads open"),
        ('kind = "sensor-short"\nof = "T1"\nabove_c = 150', "sensor reads shorted"),
        ('kind = "heater-dead"\nof = "hotend"\nat_s = 0', "rose only"),
    ],
)
def test_a_tripped_guard_ends_the_trial_with_its_sentence(folder: Path, event: str, words: str) -> None:
    result, off, lost = spoil(folder, f"[[events]]\n{event}\n")
    assert result.outcome == "halted" and words in result.why and "check" in result.why
    assert off and not lost


def test_an_open_sensor_before_the_start_is_refused_without_heating(folder: Path) -> None:
    result, off, _ = spoil(folder, '[[events]]\nkind = "sensor-open"\nof = "T1"\nat_s = 0\n')
    assert result.outcome == "failed" and "check its plug" in result.why and "Nothing was heated" in result.why
    assert off


def test_a_sensor_unplugged_while_it_cools_is_noticed(folder: Path) -> None:
    warm = {"radiating_cm2 = 9\n": "radiating_cm2 = 9\nstart_c = 120\n"}
    result, off, _ = spoil(folder, '[[events]]\nkind = "sensor-open"\nof = "T1"\nat_s = 30\n', replaced=warm)
    assert result.outcome == "failed" and "stopped reading" in result.why
    assert off


def test_a_reboot_in_the_middle_fails_the_trial(folder: Path) -> None:
    result, off, _ = spoil(folder, '[[events]]\nkind = "reboot"\nabove_c = 180\n')
    assert result.outcome == "failed" and "board restarted" in result.why
    assert off


def test_a_board_that_falls_silent_is_a_lost_link_and_switches_off_by_itself(folder: Path) -> None:
    result, off, lost = spoil(folder, '[[events]]\nkind = "silence"\nabove_c = 120\nfor_s = 60\n')
    assert result.outcome == "failed" and lost and "silent" in result.why
    assert off


def test_a_pulled_plug_is_a_lost_link_and_the_dead_man_switches_off(folder: Path) -> None:
    async def pull(rig: Rig) -> None:
        await asyncio.sleep(20)
        assert not rig.everything_is_off() and rig.host is not None and rig.host.other is not None
        rig.host.other.close()

    result, off, lost = spoil(folder, upset=pull)
    assert result.outcome == "failed" and lost and "receives nothing for 4 s switches off" in result.why
    assert off


def test_halt_in_the_middle(folder: Path) -> None:
    async def halt(rig: Rig) -> None:
        await asyncio.sleep(30)
        assert rig.session.connection.halt()

    result, off, _ = spoil(folder, upset=halt)
    assert result.outcome == "halted" and result.why == "Halted by you."
    assert off


def test_cancelling_switches_off(folder: Path) -> None:
    async def cancel(rig: Rig) -> None:
        await asyncio.sleep(30)
        rig.session.runner.cancel()

    result, off, _ = spoil(folder, upset=cancel)
    assert result.outcome == "halted" and "Cancelled by you" in result.why
    assert off


def test_a_bad_line_is_no_reason_to_fail_nor_to_be_wrong(folder: Path) -> None:
    noisy = "[link]\nflip_rate = 0.03\ngarbage_rate = 0.03\ndrop_rate = 0.03\nlatency_ms = 5\n"

    async def work() -> tuple[TrialResult, int, int]:
        async with Rig(folder, tern_scenario(noisy), state_s=0.2) as rig:
            client = rig.session.connection.client
            assert client is not None
            result = (await rig.session.run(CONTROL, HotendParameters(), Onlooker())).ran.result
            return result, client.quality.bad_sums, client.quality.recovered_samples

    result, bad, recovered = virtually(work)
    gain = result.finding("gain")
    assert result.outcome == "proven" and gain is not None
    assert gain.value == pytest.approx(545.2, rel=0.01)
    assert bad > 30 and recovered > 50


def test_a_weak_heater_says_so(folder: Path) -> None:
    result, off, _ = spoil(folder, replaced={"power_w = 48": "power_w = 21"})
    assert result.outcome in ("failed", "halted")
    assert "weak" in result.why or "rose only" in result.why
    assert off


def test_a_target_too_near_the_maximum_is_refused(folder: Path) -> None:
    async def work() -> TrialResult:
        async with Rig(folder, tern_scenario()) as rig:
            return (await rig.session.run(CONTROL, HotendParameters(target=280.0), Onlooker())).ran.result

    result = virtually(work)
    assert result.outcome == "failed" and "Choose 270 °C or less" in result.why


def test_a_warm_start_asks_and_a_no_leaves_everything_cold(folder: Path) -> None:
    async def work() -> tuple[TrialResult, Onlooker]:
        warm = {"radiating_cm2 = 9\n": "radiating_cm2 = 9\nstart_c = 90\n"}
        async with Rig(folder, tern_scenario("", warm)) as rig:
            no = Onlooker({"cancel": ""})
            result = (await rig.session.run(CONTROL, HotendParameters(), no)).ran.result
            assert all(plant.cartridge_c < 95 for plant in rig.world.plants.values())
            return result, no

    result, onlooker = virtually(work)
    assert result.outcome == "failed" and "chose not to wait" in result.why
    (question,) = onlooker.questions
    assert question.answers == ("wait", "cancel") and "in about" in question.text and "min" in question.text


def test_verify_without_a_model_says_what_to_do_first(folder: Path) -> None:
    async def work() -> TrialResult:
        async with Rig(folder, tern_scenario()) as rig:
            return (await rig.session.run(VERIFY, HotendVerifyParameters(), Onlooker())).ran.result

    result = virtually(work)
    assert result.outcome == "failed" and "There is no model of the hotend yet: tune it first" in result.why


def test_progress_and_rows_reach_the_onlooker(folder: Path) -> None:
    async def work() -> Onlooker:
        async with Rig(folder, tern_scenario()) as rig:
            onlooker = Onlooker()
            await rig.session.run(CONTROL, HotendParameters(), onlooker)
            return onlooker

    onlooker = virtually(work)
    phases = list(dict.fromkeys(step.phase.split(" of ")[0] for step in onlooker.steps))
    assert phases[0] == "heating up" and "cycle 3" in phases and phases[-2:] == ["fan on", "fitting the model"]
    assert onlooker.rows > 1500
    late = [step.left_s for step in onlooker.steps if step.left_s is not None]
    assert late[0] == pytest.approx(240, rel=0.4)  # the first guess of the time left is not far off
    assert all(0 <= step.fraction <= 1 for step in onlooker.steps)
