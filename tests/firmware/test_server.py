"""The board's process against a rude host: floods, and a store that was edited badly."""

from __future__ import annotations

import asyncio
import json
import time
import tracemalloc
from pathlib import Path

import pytest

from tests.conftest import tern, tern_scenario
from ublet.firmware.line import PacedLine
from ublet.firmware.server import serve
from ublet.firmware.store import Store
from ublet.link.client import Client
from ublet.link.transport import open_transport
from ublet.simulated import SimulatedMachine

FLOOD_BYTES = 30_000_000


def test_a_flood_without_a_newline_fills_no_memory_and_holds_up_nobody() -> None:
    async def work() -> int:
        simulated = SimulatedMachine(tern_scenario(), tern(), time.monotonic)
        answered: asyncio.Future[str] = asyncio.get_running_loop().create_future()
        serving = asyncio.ensure_future(serve(simulated.service, "tcp:localhost:0", 1.0, answered.set_result))
        url = await answered
        tracemalloc.start()
        _, writer = await asyncio.open_connection("localhost", int(url.rpartition(":")[2]))

        async def flood() -> None:
            for _ in range(FLOOD_BYTES // 100_000):
                writer.write(b"a" * 100_000)
                await writer.drain()

        flooding = asyncio.ensure_future(flood())
        await asyncio.wait({flooding}, timeout=20)
        assert flooding.done()
        most = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        writer.transport.abort()
        await asyncio.sleep(0.1)
        client = Client(await open_transport(url, 250_000))
        await asyncio.wait_for(client.hello(), 20)
        client.close()
        serving.cancel()
        await asyncio.gather(serving, return_exceptions=True)
        return most

    assert asyncio.run(work()) < 12_000_000


def test_what_was_on_the_line_goes_with_whoever_sent_it() -> None:
    async def work() -> list[bytes]:
        came: list[bytes] = []
        line = PacedLine(10_000, came.append)
        line.push(b"x" * 4096)
        await asyncio.sleep(1.2)
        assert 0 < line.waiting_bytes < 4096
        line.clear()
        line.push(b"new")
        await asyncio.sleep(0.1)
        return came

    from tests.conftest import virtually

    came = virtually(work)
    assert came[-1] == b"new" and sum(map(len, came)) < 2100


@pytest.mark.parametrize(
    ("wrong", "why"),
    [
        ("NaN", "no finite number"),
        ("1e999", "no finite number"),
        ('"warm"', "found"),
        ("{}", "no value"),
        ("[[[1]]]", "no"),
    ],
)
def test_a_bad_value_in_a_store_is_named_and_the_good_rest_kept(wrong: str, why: str, tmp_path: Path) -> None:
    path = tmp_path / "store.json"
    text = f'{{"heaters.hotend.kp": {wrong}, "heaters.hotend.ki": 0.003}}'
    path.write_text(text, encoding="utf-8")
    store = Store(path, {"heaters.hotend.kd": 1.0})
    assert store.values == {"heaters.hotend.ki": 0.003}
    (refused,) = store.refused
    assert refused.startswith(f"{path}: heaters.hotend.kp: ") and why in refused
    assert path.with_name("store.json.refused").read_text(encoding="utf-8") == text
    store.change({"heaters.hotend.kp": 0.05})
    assert json.loads(path.read_text(encoding="utf-8")) == {"heaters.hotend.ki": 0.003, "heaters.hotend.kp": 0.05}


@pytest.mark.parametrize(("text", "words"), [("[" * 5000, "line"), ("nonsense", "no store"), ("[1]", "no store")])
def test_what_is_no_store_is_refused_and_left_as_it_is(text: str, words: str, tmp_path: Path) -> None:
    path = tmp_path / "store.json"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(OSError, match=words):
        Store(path, {})
    assert path.read_text(encoding="utf-8") == text
