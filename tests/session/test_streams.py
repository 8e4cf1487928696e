"""Fast readings over a slow and lossy line: all of them arrive or the gap is named, states come beside them as ever."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import Onlooker, Rig, tern_scenario, virtually
from ublet.core.capabilities import LACKING
from ublet.core.catalogue import TRIALS
from ublet.core.shake.rest_trials import RestParameters
from ublet.core.streams import Chunk
from ublet.link.errors import BoardRefused, LinkLost, Malformed
from ublet.link.frames import Block
from ublet.link.stream_blocks import StreamBlock, pack, unpack
from ublet.session.standings import standings
from ublet.session.streams import StreamRun, streaming

LOSSY = {"baud = 250000": "baud = 250000\ndrop_rate = 0.05\nflip_rate = 0.004\nhost_drop_rate = 0.01"}
SPEC = TRIALS["accelerometer-at-rest"]


def gaps_in(chunks: Sequence[Chunk]) -> tuple[tuple[int, int], ...]:
    """Readings that are missing between chunks: numbers of the first and the last of each gap."""
    found, due = [], 0
    for chunk in chunks:
        if chunk.index > due:
            found.append((due, chunk.index - 1))
        due = chunk.index + len(chunk.time_s)
    return tuple(found)


@dataclass
class Heard:
    """What came of a stream, how many states came beside it a second, and how long it took."""

    run: StreamRun
    chunks: list[Chunk]
    states_hz: float
    seconds: float

    @property
    def values(self) -> np.ndarray:
        return np.concatenate([chunk.values for chunk in self.chunks])


async def listened(rig: Rig, rate_hz: float, seconds: float, captured: bool) -> Heard:
    """Listen for so long."""
    connection, loop = rig.session.connection, asyncio.get_running_loop()
    began, states, chunks = loop.time(), [], []
    connection.sampled.append(lambda samples: states.extend(samples))
    async with streaming(connection, "accelerometer", rate_hz, seconds if captured else None) as run:
        async for chunk in run:
            chunks.append(chunk)
            if chunk.index + len(chunk.values) >= rate_hz * seconds:
                break
    passed = loop.time() - began
    return Heard(run, chunks, len(states) / passed, passed)


@pytest.mark.parametrize(
    ("rate_hz", "captured", "spoiled"),
    [(1600.0, False, {}), (1600.0, False, LOSSY), (3200.0, True, {}), (3200.0, True, LOSSY)],
)
def test_every_reading_arrives_beside_ten_states_a_second(
    rate_hz: float, captured: bool, spoiled: Mapping[str, str], tmp_path: Path
) -> None:
    scenario = tern_scenario(replaced=dict(spoiled))

    async def work() -> Heard:
        async with Rig(tmp_path, scenario, state_s=0.1) as rig:
            return await listened(rig, rate_hz, 8.0, captured)

    on_event = virtually(work)
    assert scenario.link.baud == 250_000 and on_event.run.gaps == [] == list(gaps_in(on_event.chunks))
    assert len(on_event.values) >= 8 * rate_hz and bool(on_event.run.recovered) is bool(spoiled)
    assert on_event.states_hz == pytest.approx(10.0, abs=0.15)
    # the sensor's clock is half a percent fast, and found out
    assert on_event.run.rate_hz == pytest.approx(1.005 * rate_hz, rel=1e-6)
    times = on_event.run.times(0, len(on_event.values))
    assert np.diff(times) == pytest.approx(1 / (1.005 * rate_hz), rel=1e-6)
    assert on_event.values.mean(axis=0) == pytest.approx([0.15, 0.0, 9.80665 - 0.2], abs=0.01)
    assert on_event.seconds < (20 if captured else 9)


@pytest.mark.parametrize(("rate_hz", "captured"), [(1600.0, False), (3200.0, True)])
def test_what_the_sensor_itself_loses_is_a_gap_as_any_other(rate_hz: float, captured: bool, tmp_path: Path) -> None:
    scenario = tern_scenario(replaced={"[accelerometer]\n": "[accelerometer]\noverflows_s = 2.0\n"})

    async def work() -> tuple[Heard, int]:
        async with Rig(tmp_path, scenario, state_s=0.1) as rig:
            on_event = await listened(rig, rate_hz, 8.0, captured)
            assert rig.world.accelerometer is not None
            return on_event, rig.world.accelerometer.missed

    on_event, missed = virtually(work)
    named = sum(last - first + 1 for first, last in on_event.run.gaps)
    assert list(gaps_in(on_event.chunks)) == on_event.run.gaps and len(on_event.run.gaps) > 5
    assert 0 <= missed - named <= 24, "what it lost last may come after the end"
    # numbers count what is missing: times are as if nothing were
    assert on_event.run.rate_hz == pytest.approx(1.005 * rate_hz, rel=1e-5)
    first, last = on_event.chunks[0], on_event.chunks[-1]
    apart = float(last.time_s[-1] - first.time_s[0]) * 1.005 * rate_hz
    assert apart == pytest.approx(last.index + len(last.values) - 1 - first.index, abs=0.2)


def test_a_capture_is_handed_over_whole_and_ends_by_itself(tmp_path: Path) -> None:
    async def work() -> Heard:
        async with Rig(tmp_path, tern_scenario(), state_s=0.1) as rig:
            return await listened(rig, 3200.0, 2.01, True)

    on_event = virtually(work)
    assert len(on_event.values) == round(2.01 * 3200) and len(on_event.chunks[-1].values) == round(2.01 * 3200) % 256


def test_a_stream_that_is_faster_than_the_line_or_longer_than_the_memory_is_refused(tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario(replaced={"memory_bytes = 2097152": "memory_bytes = 24576"})) as rig:
            connection = rig.session.connection
            for name, rate, capture_s, words in (
                ("accelerometer", 3200.0, None, "take 20.2 kB/s of the line, which has 15.0 for them: capture them"),
                ("accelerometer", 3200.0, 2.0, "a capture lasts up to 1.28 s"),
                ("accelerometer", 1000.0, None, "takes 400, 800, 1600, 3200 readings a second, not 1000"),
                ("coil", 1600.0, None, "has no “coil”; it has: accelerometer"),
            ):
                with pytest.raises(BoardRefused, match=words):
                    await connection.controller.open_stream(name, rate, capture_s)
            opened = await connection.controller.open_stream("accelerometer", 400.0, None)
            with pytest.raises(BoardRefused, match=f"stream {opened.number} is open"):
                await connection.controller.open_stream("accelerometer", 400.0, None)

    virtually(work)


def test_a_host_that_takes_too_slowly_is_told_its_gap(tmp_path: Path) -> None:
    small = tern_scenario(replaced={"memory_bytes = 2097152": "memory_bytes = 24576"})

    async def work() -> list[Chunk]:
        chunks = []
        async with (
            Rig(tmp_path, small, state_s=0.1) as rig,
            streaming(rig.session.connection, "accelerometer", 1600.0) as run,
        ):
            async for chunk in run:
                chunks.append(chunk)
                if len(chunks) == 10:
                    await asyncio.sleep(28)  # it may send 96 blocks of 128, 7.6 s, and keeps 33 more, 2.6 s
                if len(chunks) == 400:
                    break
            ((first, last),) = run.gaps
            assert gaps_in(chunks) == ((first, last),) and 1600 * 14 < last - first < 1600 * 22
        return chunks

    chunks = virtually(work)
    assert sum(len(chunk.values) for chunk in chunks) == 400 * 128, "nothing stands in for what is missing"


@pytest.mark.parametrize("how", ["cut", "reboot"])
def test_a_link_that_goes_ends_it(how: str, tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario(), state_s=0.1) as rig:
            with pytest.raises(LinkLost):
                async with streaming(rig.session.connection, "accelerometer", 1600.0) as run:
                    async for chunk in run:
                        if chunk.index > 3000 and how == "cut":
                            assert rig.host is not None and rig.host.other is not None
                            rig.host.other.close()
                        elif chunk.index > 3000:
                            rig.board.reset()

    virtually(work)


def test_a_block_of_another_shape_is_malformed(tmp_path: Path) -> None:
    async def work() -> None:
        async with (
            Rig(tmp_path, tern_scenario()) as rig,
            streaming(rig.session.connection, "accelerometer", 400.0) as run,
        ):
            run.block(Block(99, 0, b"of another stream"))
            with pytest.raises(Malformed, match="is not one of 3 columns"):
                run.block(Block(1, 0, b"\0" * 21))

    virtually(work)


def test_at_rest_it_is_upright_quiet_and_its_clock_is_told(tmp_path: Path) -> None:
    async def work() -> None:
        async with Rig(tmp_path, tern_scenario()) as rig:
            onlooker = Onlooker()
            entered = await rig.session.run(SPEC, RestParameters(seconds=3), onlooker)
            result = entered.ran.result
            assert result.outcome == "proven" and "0.50 % faster than nominal" in result.why
            rows = rig.session.ledger.streams(entered.number or 0)["readings"].rows
            assert len(rows) >= 4800 and 3 * 40 < onlooker.rows < 3 * 60, "all are kept, some are drawn"

    virtually(work)


def test_what_a_board_lacks_is_said_before_anything_is_begun(tmp_path: Path) -> None:
    deaf = tern_scenario(replaced={"[accelerometer]": "[accelerometer]\n#"}).model_copy(
        update={"accelerometer": None, "lacks": ["heat", "programs"]}
    )

    async def work() -> None:
        async with Rig(tmp_path, deaf) as rig:
            assert rig.session.connection.can == frozenset(
                {"motion", "loans", "probe", "image", "mesh", "swings", "shaping", "advance"}
            )
            for name, lacks in (
                ("accelerometer-at-rest", ["accelerometer"]),
                ("hotend-control", ["heat"]),
                ("extruder-steps", ["heat", "programs"]),
            ):
                entered = await rig.session.run(TRIALS[name], TRIALS[name].parameters(), Onlooker())
                states = " and ".join(LACKING[each] for each in lacks)  # type: ignore[index]
                assert entered.ran.result.why == f"Not started: this board {states}." and entered.number is None
            states = standings(rig.session)
            assert {states[name].state for name in ("hotend control", "bed control", "accelerometer")} == {"waiting"}
            assert states["accelerometer"].reason == f"this board {LACKING['accelerometer']}"
            assert states["homing"].state == "waiting", "the bed is warmed before Z homes, as declared"
            assert states["motors"].state == "open"
            with pytest.raises(BoardRefused, match="unknown method"):
                await rig.session.connection.controller.target("hotend", 200.0)
            await rig.session.connection.controller.all_off()

    virtually(work)


def lying(rig: Rig, change: Callable[[StreamBlock], StreamBlock]) -> None:
    """The board changes its blocks before it sends them, from the twentieth on."""
    honest = rig.board.streams.due

    def due() -> Block | None:
        block = honest()
        found = unpack(block, 3) if block is not None else None
        return pack(change(found)) if found is not None and found.number >= 20 else block

    rig.board.streams.due = due  # type: ignore[method-assign]


LOADED_RATIO: dict[str, tuple[Callable[[StreamBlock], StreamBlock], str]] = {
    "a number without end": (lambda b: replace(b, number=2**32 - 1), "were allowed for"),
    "times that stand": (lambda b: replace(b, last_s=b.first_s), "span 0.0 ms"),
    "times that run backwards": (lambda b: replace(b, first_s=b.first_s - 3, last_s=b.last_s - 3), "had passed"),
    "times that jump": (lambda b: replace(b, first_s=b.first_s + 90, last_s=b.last_s + 90), "ahead of the board"),
    "readings that come again": (lambda b: replace(b, index=3), "came after reading"),
    "slower than it was asked for": (
        lambda b: replace(b, first_s=b.first_s + 0.02 * (b.number - 20), last_s=b.last_s + 0.02 * (b.number - 20)),
        "had passed",
    ),
}


@pytest.mark.parametrize("lie", LOADED_RATIO)
def test_blocks_that_cannot_be_are_no_finding(lie: str, tmp_path: Path) -> None:
    change, words = LOADED_RATIO[lie]

    async def work() -> None:
        async with Rig(tmp_path, tern_scenario(), state_s=0.1) as rig:
            lying(rig, change)
            result = (await rig.session.run(SPEC, RestParameters(seconds=6.0), Onlooker())).ran.result
            assert result.outcome == "failed" and words in result.why, result.why
            assert result.findings == ()

    virtually(work)
