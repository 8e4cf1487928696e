"""The board: layers, transaction, refusals, dead-man, halt, clock, scenario, store."""

from __future__ import annotations

import asyncio
import json
import os
from pathlib import Path

import pytest

from tests.conftest import Rig, tern, tern_scenario, virtually
from ublet.firmware.board import HEARTBEAT_WINDOW_S, Refused, SimulatedBoard
from ublet.firmware.clock import run_virtually
from ublet.link.client import BoardRefused
from ublet.simulated import SimulatedMachine
from ublet.world.scenario import ScenarioError, parse_scenario

KP = "heaters.hotend.kp"


class Clock:
    now = 0.0

    def __call__(self) -> float:
        return self.now


def simulated(extra: str = "", store: Path | None = None) -> tuple[SimulatedMachine, Clock]:
    clock = Clock()
    return SimulatedMachine(tern_scenario(extra), tern(), clock, store), clock


def make(extra: str = "", store: Path | None = None) -> tuple[SimulatedBoard, Clock]:
    machine, clock = simulated(extra, store)
    return machine.board, clock


def run(board: SimulatedBoard, clock: Clock, seconds: float, alive: bool = True) -> None:
    for _ in range(round(seconds / 0.1)):
        clock.now += 0.1
        if alive:
            board.note_host()
        board.tick()


def test_layers_stored_wins_over_image_and_live_is_lost_at_reset() -> None:
    board, _ = make()
    board.save({KP: 0.07})
    board.reset()
    assert (board.layers.image[KP], board.layers.live[KP]) == (0.024, 0.07)
    board.write({KP: 0.2})
    board.reset()
    assert board.layers.live[KP] == 0.07
    board.save({KP: 0.3})
    board.reset()
    assert board.layers.live[KP] == 0.3
    board.save({KP: None})
    board.reset()
    assert board.layers.live[KP] == 0.024


def test_a_write_is_all_or_nothing() -> None:
    board, _ = make()
    with pytest.raises(Refused, match="allowed: 0 to 10"):
        board.write({KP: 0.2, "heaters.hotend.ki": -1})
    assert board.layers.live[KP] == 0.022
    with pytest.raises(Refused, match="no such part"):
        board.write({"heaters.other.kp": 0.1})


def test_a_store_on_a_full_disk_keeps_what_it_held(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "store.json"
    board, _ = make(store=path)
    board.save({KP: 0.3})

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(Refused, match="No space left"):
        board.save({KP: 0.4})
    assert json.loads(path.read_text(encoding="utf-8"))[KP] == 0.3
    assert board.layers.live[KP] == 0.3 and [p.name for p in tmp_path.iterdir()] == ["store.json"]


def test_it_heats_to_its_target_and_holds() -> None:
    machine, clock = simulated()
    board, plants = machine.board, machine.world.plants
    board.save({KP: 0.14, "heaters.hotend.ki": 0.0098, "heaters.hotend.kd": 0.24})
    board.hold("hotend", 200.0)
    run(board, clock, 200)
    assert plants["hotend"].block_c == pytest.approx(200, abs=0.6)
    assert plants["bed"].block_c == pytest.approx(23, abs=0.1)


@pytest.mark.parametrize("celsius", [286.0, -5.0, float("nan")])
def test_targets_outside_are_refused(celsius: float) -> None:
    board, _ = make()
    with pytest.raises(Refused, match="allowed up to 285"):
        board.hold("hotend", celsius)


def test_the_dead_man_switches_off_within_its_window() -> None:
    board, clock = make()
    board.hold("hotend", 215.0)
    run(board, clock, 5)
    assert board.mode == "ready" and board.heat.drives["hotend"].duty == 1.0
    run(board, clock, HEARTBEAT_WINDOW_S + 0.2, alive=False)
    assert (board.mode, board.guard) == ("tripped", "link lost")
    assert board.heat.drives["hotend"].duty == 0.0
    with pytest.raises(Refused, match="Release it"):
        board.hold("hotend", 100.0)


def test_an_idle_board_does_not_mind_silence() -> None:
    board, clock = make()
    run(board, clock, 60, alive=False)
    assert board.mode == "ready"


def test_halt_switches_everything_off_and_latches() -> None:
    board, clock = make()
    board.hold("hotend", 215.0)
    board.blow("part", 1.0)
    run(board, clock, 1)
    board.halt()
    assert not any(drive.target_c for drive in board.heat.drives.values()) and board.heat.fan_duty["part"] == 0.0
    with pytest.raises(Refused):
        board.blow("part", 1.0)
    board.release()
    board.blow("part", 0.5)


@pytest.mark.parametrize(
    ("hysteresis", "high", "low"), [(0.5, 1.2, 0), (0.5, 0.2, 0.5), (0.5, 0.5, -0.1), (0, 1, 0), (float("nan"), 1, 0)]
)
def test_a_relay_out_of_order_is_refused(hysteresis: float, high: float, low: float) -> None:
    board, _ = make()
    with pytest.raises(Refused, match="0 <= low < high"):
        board.relay("hotend", 215.0, hysteresis, high, low)


def test_a_stuck_heater_is_caught_below_the_component_limit() -> None:
    machine, clock = simulated()
    board = machine.board
    board.relay("hotend", 284.0, 0.5, 1.0, 0.9)  # the lower duty still heats: it cannot be held
    run(board, clock, 400)
    assert board.guard == "over maximum"
    assert machine.world.plants["hotend"].block_c < 295


@pytest.mark.parametrize(
    ("event", "guard"),
    [
        ('kind = "sensor-open"\nof = "T1"\nabove_c = 100', "sensor open"),
        ('kind = "sensor-short"\nof = "T1"\nabove_c = 100', "sensor shorted"),
        ('kind = "heater-dead"\nof = "hotend"\nat_s = 0', "no rise"),
        ('kind = "heater-dead"\nof = "hotend"\nabove_c = 214', "no rise"),
    ],
)
def test_planted_faults_trip_their_guard(event: str, guard: str) -> None:
    board, clock = make(extra=f"[[events]]\n{event}\n")
    board.hold("hotend", 215.0)
    run(board, clock, 240)
    assert (board.mode, board.guard) == ("tripped", guard)
    assert board.heat.drives["hotend"].duty == 0.0


def test_samples_are_kept_by_number() -> None:
    board, clock = make()
    run(board, clock, 400)
    assert [row[0] for row in board.since(3990, 3993)] == [3990, 3991, 3992]
    assert board.since(0, 5) == []  # gone
    assert len(board.since(0, 10**9)) == 200, "what a board of 64 KiB has room for"


def test_the_same_seed_gives_the_same_samples() -> None:
    first, second = make(), make()
    run(*first, 20)
    run(*second, 20)
    assert list(first[0].samples) == list(second[0].samples)


def test_a_virtual_hour_takes_no_time() -> None:
    async def sleep() -> float:
        await asyncio.sleep(3600)
        return asyncio.get_running_loop().time()

    assert run_virtually(sleep()) == pytest.approx(3600)


def test_over_the_link_a_repeated_request_is_done_once(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            client = rig.session.connection.client
            assert client is not None
            await client.call("settings.write", {"values": {KP: 0.5}})
            with pytest.raises(BoardRefused, match="unknown method"):
                await client.call("make.coffee")
            with pytest.raises(BoardRefused, match="bad parameters"):
                await client.call("heat.target", {"heater": "hotend"})
            replies = len(rig.service.replies)
            rig.service.received(client_frame := _frame("settings.write", 999, {"values": {KP: 0.6}}))
            await client.call("settings.write", {"values": {KP: 0.7}})
            rig.service.received(client_frame)  # late copy of an answered request
            assert rig.board.layers.live[KP] == 0.7
            assert len(rig.service.replies) == replies + 2

    virtually(work)


def test_nonsense_in_good_frames_does_not_upset_the_board(folder: Path) -> None:
    from ublet.link.frames import encode

    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            for message in ({}, {"id": [1], "method": "hello"}, {"id": 5}, {"id": 6, "method": 3, "params": [1]}):
                rig.service.received(encode({"jsonrpc": "2.0", **message}))
            rig.service.received(_frame("settings.write", 907, {"values": [1]}))
            rig.service.received(_frame("heat.relay", 908, {"heater": {}, "centre_c": "x"}))
            rig.service.received(bytes(range(24)) + bytes(range(25, 256)))
            await asyncio.sleep(1)
            assert rig.session.connection.linked and rig.board.mode == "ready"
            assert (await rig.session.connection.call("settings.read"))["values"]

    virtually(work)


def _frame(method: str, number: int, params: object) -> bytes:
    from ublet.link.frames import encode

    return encode({"jsonrpc": "2.0", "id": number, "method": method, "params": params})


@pytest.mark.parametrize(
    ("before", "after", "words"),
    [
        ('H1 = "hotend"', 'H1 = "hot"', "heaters.H1"),
        ("power_w = 48", "power = 48", "Did you mean “power_w”?"),
        ("dead_time_s = 0.9", "dead_time_s = -1", "plants.hotend.dead_time_s"),
        ("kp = 0.022", "kp = -1", "stored.heaters.hotend.kp"),
        ("[plants.hotend]", "[plants.hotend", "TOML"),
    ],
)
def test_scenarios_are_checked_like_machine_files(before: str, after: str, words: str) -> None:
    from ublet.session.library import scenario_path

    text = scenario_path("tern-280").read_text(encoding="utf-8")
    assert before in text
    with pytest.raises(ScenarioError) as caught:
        parse_scenario(text.replace(before, after), "tern.toml")
    assert words in str(caught.value) and "tern.toml:" in str(caught.value)


def test_a_fan_follows_its_heater_and_runs_on_after_a_halt(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            connection = rig.session.connection
            assert connection.channel("fans.hotend") == 0.0
            await connection.call("heat.target", heater="hotend", celsius=90)
            await asyncio.sleep(60)
            assert connection.channel("fans.hotend") == 1.0 and connection.channel("fans.part") == 0.0
            await connection.call("halt")
            await asyncio.sleep(1)
            assert connection.channel("fans.hotend") == 1.0, "what is hot still needs its fan"
            await connection.call("release")
            await connection.call("fan.set", fan="part", duty=0.05)
            await asyncio.sleep(1)
            assert connection.channel("fans.part") == 0.12, "less than the fan turns with is raised to it"

    virtually(work)


def test_an_on_off_heater_swings_by_what_is_declared(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            connection = rig.session.connection
            await connection.write_live({"heaters.bed.control": "on-off", "heaters.bed.swing_c": 3.0})
            await connection.call("heat.target", heater="bed", celsius=45)
            await asyncio.sleep(240)
            seen: list[float] = []
            connection.sampled.append(lambda rows: seen.extend(row[2] or 0.0 for row in rows))
            await asyncio.sleep(600)
            duties = {connection.channel("heaters.bed.duty")}
            assert duties <= {0.0, 1.0}
            assert 42.5 < min(seen) < 43.6 and 46.4 < max(seen) < 50

    virtually(work)


@pytest.mark.parametrize(
    ("values", "celsius"),
    [
        ({"sensors.bed.kind": "beta", "sensors.bed.beta_k": 4100.0}, 23.1),
        ({"sensors.bed.kind": "platinum", "sensors.bed.r0_ohm": 1000.0}, None),
    ],
)
def test_another_kind_of_sensor_reads_by_its_own_curve(
    folder: Path, values: dict[str, object], celsius: float | None
) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            connection = rig.session.connection
            rig.board.layers.live["sensors.bed.r0_ohm"] = 1000.0
            rig.board.layers.image.setdefault("sensors.bed.r0_ohm", 1000.0)
            await connection.write_live(values)  # type: ignore[arg-type]
            await asyncio.sleep(1)
            read = connection.channel("sensors.bed")
            assert read is None if celsius is None else abs((read or 0) - celsius) < 0.4

    virtually(work)


SOFT, FOLLOWS = "axes.z.soft_limits", "mesh.follows"


def test_a_loan_returns_to_what_was_live_and_a_write_below_it_waits() -> None:
    board, _ = make()
    board.write({KP: 0.05})
    board.lend({KP: 0.1})
    board.lend({KP: 0.2})
    assert board.layers.live[KP] == 0.2
    assert board.give_back([KP, "no.such.setting"]) == {KP: 0.05} and board.layers.live[KP] == 0.05
    board.lend({KP: 0.1})
    board.save({KP: 0.07})
    assert (board.layers.live[KP], board.layers.store.values[KP]) == (0.1, 0.07)
    assert board.give_back([KP]) == {KP: 0.07} and board.layers.live[KP] == 0.07
    with pytest.raises(Refused):
        board.lend({KP: 0.1, "no.such.setting": 1.0})
    assert board.layers.live[KP] == 0.07 and not board.layers.on_loan


@pytest.mark.parametrize("end", ["silence", "restart"])
def test_a_loan_ends_with_the_host_or_the_power(end: str) -> None:
    board, clock = make()
    board.lend({SOFT: False})
    run(board, clock, HEARTBEAT_WINDOW_S - 0.5)
    run(board, clock, HEARTBEAT_WINDOW_S - 0.5, alive=False)
    assert board.layers.live[SOFT] is False
    if end == "silence":
        run(board, clock, 1.0, alive=False)
        assert board.mode == "ready"  # nothing heated or moved
    else:
        board.reset()
    assert board.layers.live[SOFT] is True and not board.layers.on_loan
