"""The client against a board that misbehaves."""

from __future__ import annotations

import asyncio
from typing import Any

import pytest

from tests.conftest import virtually
from ublet.link.client import Client
from ublet.link.errors import BoardRefused, LinkLost
from ublet.link.frames import HALT_BYTE, Decoder, encode
from ublet.link.transport import MemoryTransport, PortError, memory_pair, open_transport

HELLO = {
    "board": "larch-6",
    "boot": 1,
    "firmware": "0",
    "clock": 1.0,
    "channels": ["sensors.a"],
    "sample_period_s": 0.1,
    "heartbeat_window_s": 4.0,
}


class Board:
    """Answers by a script: what to do with each request, in turn."""

    def __init__(self, end: MemoryTransport, script: list[str]) -> None:
        self.end, self.script = end, script
        self.requests: list[dict[str, Any]] = []
        self.raw = b""
        self.decoder = Decoder()
        end.received = self.received

    def received(self, data: bytes) -> None:
        self.raw += data
        for message in self.decoder.feed(data.replace(HALT_BYTE, b"")):
            if message is None or "id" not in message:
                continue
            self.requests.append(message)
            what = self.script.pop(0) if self.script else "answer"
            result = HELLO if message["method"] == "hello" else {"method": message["method"]}
            reply = encode({"jsonrpc": "2.0", "id": message["id"], "result": result})
            if what == "answer":
                self.end.write(reply)
            elif what == "garbage":
                self.end.write(b"\xff\xfe\x00noise\n" + reply)
            elif what == "flip":
                self.end.write(reply.replace(b"2.0", b"2.1"))
            elif what == "refuse":
                error = {"code": 3, "message": "not allowed"}
                self.end.write(encode({"jsonrpc": "2.0", "id": message["id"], "error": error}))
            elif what == "damaged":
                self.end.write(encode({"jsonrpc": "2.0", "method": "damaged", "params": {"count": 1}}))


def talk(script: list[str], work: Any) -> Any:
    async def run() -> Any:
        ours, theirs = memory_pair()
        board = Board(theirs, script)
        client = Client(ours)
        try:
            return await work(client, board)
        finally:
            client.close()

    return virtually(run)


def test_a_lost_or_corrupted_answer_is_asked_for_again_with_the_same_id() -> None:
    async def work(client: Client, board: Board) -> None:
        assert await client.call("settings.read") == {"method": "settings.read"}
        assert [request["id"] for request in board.requests] == [1, 1, 1, 1]
        assert client.quality.retries == 3
        assert client.quality.bad_sums == 2

    talk(["lose", "flip", "flip", "answer"], work)


def test_garbage_before_an_answer_costs_nothing() -> None:
    async def work(client: Client, board: Board) -> None:
        assert (await client.call("x"))["method"] == "x"
        assert client.quality.bad_sums == 1 and client.quality.retries == 0

    talk(["garbage"], work)


def test_a_damaged_request_is_sent_again_at_once() -> None:
    async def work(client: Client, board: Board) -> None:
        began = asyncio.get_running_loop().time()
        await client.call("x")
        assert asyncio.get_running_loop().time() - began < 0.1
        assert len(board.requests) == 2

    talk(["damaged", "answer"], work)


def test_a_refusal_comes_with_its_code() -> None:
    async def work(client: Client, board: Board) -> None:
        with pytest.raises(BoardRefused, match="not allowed") as caught:
            await client.call("x")
        assert caught.value.code == 3 and len(board.requests) == 1

    talk(["refuse"], work)


def test_a_silent_board_is_a_lost_link() -> None:
    async def work(client: Client, board: Board) -> None:
        with pytest.raises(LinkLost, match="no answer in 5 s"):
            await client.call("x")

    talk(["lose"] * 20, work)


def test_a_closed_port_ends_waiting_calls_at_once() -> None:
    async def work(client: Client, board: Board) -> None:
        calls: list[str] = []
        client.on_lost = calls.append
        call = asyncio.ensure_future(client.call("x"))
        await asyncio.sleep(0.1)
        board.end.close()
        with pytest.raises(LinkLost, match="closed"):
            await call
        assert calls == ["the other end was closed"]

    talk(["lose"] * 3, work)


def test_heartbeats_flow_and_silence_is_noticed() -> None:
    async def work(client: Client, board: Board) -> None:
        calls: list[str] = []
        client.on_lost = calls.append
        await client.hello()
        await asyncio.sleep(3.0)
        assert board.raw.count(b'"heartbeat"') >= 3
        await asyncio.sleep(4.0)
        assert calls and "silent" in calls[0]

    talk([], work)


def test_missing_samples_are_asked_for_and_come_in_order() -> None:
    async def work(client: Client, board: Board) -> None:
        got: list[list[float | None]] = []
        client.on_samples = got.extend

        def state(*numbers: int) -> bytes:
            rows = [[float(n), n / 10, 20.0] for n in numbers]
            return encode(
                {"jsonrpc": "2.0", "method": "state", "params": {"boot": 1, "mode": "ready", "samples": rows}}
            )

        def answer(data: bytes) -> None:
            for message in board.decoder.feed(data):
                if message and message.get("method") == "samples.read":
                    first, last = message["params"]["from"], message["params"]["to"]
                    rows = [[float(n), n / 10, 20.0] for n in range(first, last)]
                    theirs.write(encode({"jsonrpc": "2.0", "id": message["id"], "result": {"samples": rows}}))

        theirs = board.end
        theirs.received = answer
        for batch in ([5, 6], [9, 10], [11]):  # 7 and 8 were lost on the way
            theirs.write(state(*batch))
            await asyncio.sleep(0.01)
        await asyncio.sleep(0.2)
        assert [row[0] for row in got] == [5, 6, 7, 8, 9, 10, 11]
        assert client.quality.recovered_samples == 2

    talk([], work)


@pytest.mark.parametrize(
    ("url", "words"),
    [
        ("/nowhere/port", "is not there"),
        ("socket://localhost:1", "does not answer"),
        ("socket://nonsense", "no address"),
        ("socket://localhost:99999", "no address"),
    ],
)
def test_ports_that_cannot_be_opened_say_why(url: str, words: str) -> None:
    with pytest.raises(PortError, match=words):
        asyncio.run(open_transport(url, 250_000))
