"""Conformance of a board with docs/protocol.md. Set UBLET_PORT to test another board than the simulated one."""

from __future__ import annotations

import asyncio
import os
import zlib
from collections.abc import Callable, Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest

from tests.test_processes import Board
from ublet.link.frames import HALT_BYTE, Decoder, encode
from ublet.link.transport import Transport, open_transport

pytestmark = pytest.mark.waits


@pytest.fixture(scope="module")
def port(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    given = os.environ.get("UBLET_PORT")
    if given:
        yield given
        return
    board = Board(Path(tmp_path_factory.mktemp("board")) / "store.json")
    yield board.port
    board.process.kill()
    board.process.wait()


class Line:
    """The bare line: frames out, frames in, nothing clever between."""

    def __init__(self, transport: Transport) -> None:
        self.transport, self.decoder = transport, Decoder()
        self.got: list[dict[str, Any]] = []
        transport.received = self.received

    def received(self, data: bytes) -> None:
        self.got += [message for message in self.decoder.feed(data) if message is not None]

    async def ask(self, number: int, method: str, **params: object) -> dict[str, Any]:
        self.transport.write(encode({"jsonrpc": "2.0", "id": number, "method": method, "params": params}))
        for _ in range(100):
            for message in self.got:
                if message.get("id") == number:
                    self.got.remove(message)
                    return message
            await asyncio.sleep(0.02)
        raise AssertionError(f"no answer to {method}")

    async def event(self, what: str, motion: int, seconds: float = 3.0) -> dict[str, Any]:
        """An event of a motion, as soon as it is told."""
        for _ in range(round(seconds / 0.02)):
            for message in self.got:
                params = message.get("params", {})
                if message.get("method") == "event" and (params["what"], params.get("motion")) == (what, motion):
                    return dict(params)
            await asyncio.sleep(0.02)
        raise AssertionError(f"no event “{what}” of motion {motion}")


def on_line(port: str, work: Any) -> None:
    async def run() -> None:
        transport = await open_transport(port, 250_000)
        try:
            line = Line(transport)
            await line.ask(1, "hello", client="conformance", protocol=1, session="conformance")
            await line.ask(2, "release")
            await work(line)
            await line.ask(9999, "heat.off")
        finally:
            transport.close()
            await asyncio.sleep(0.1)

    asyncio.run(run())


def test_hello_says_what_the_board_is(port: str) -> None:
    async def work(line: Line) -> None:
        about = (await line.ask(3, "hello", client="x", protocol=1))["result"]
        assert set(about) >= {"board", "boot", "firmware", "clock", "channels", "sample_period_s", "heartbeat_window_s"}
        assert about["channels"] and all("." in channel for channel in about["channels"])
        refused = await line.ask(4, "hello", client="x", protocol=99)
        assert refused["error"]["code"] == 3

    on_line(port, work)


def test_states_come_at_least_twice_a_second_with_numbered_samples(port: str) -> None:
    async def work(line: Line) -> None:
        line.got.clear()
        await asyncio.sleep(1.2)
        states = [message["params"] for message in line.got if message.get("method") == "state"]
        assert len(states) >= 2
        rows = [row for state in states for row in state["samples"]]
        numbers = [row[0] for row in rows]
        assert numbers == list(range(int(numbers[0]), int(numbers[0]) + len(numbers)))
        assert all(b[1] > a[1] for a, b in pairwise(rows))
        again = (await line.ask(5, "samples.read", **{"from": numbers[0], "to": numbers[0] + 2}))["result"]["samples"]
        assert again == rows[:2]

    on_line(port, work)


def test_errors_have_their_codes(port: str) -> None:
    async def work(line: Line) -> None:
        assert (await line.ask(3, "no.such.method"))["error"]["code"] == -32601
        assert (await line.ask(4, "heat.target", heater="hotend"))["error"]["code"] == -32602
        assert (await line.ask(5, "heat.target", heater="none", celsius=50))["error"]["code"] == 3
        assert (await line.ask(6, "heat.target", heater="hotend", celsius=5000))["error"]["code"] == 3
        assert (await line.ask(7, "settings.write", values={"no.such": 1}))["error"]["code"] == 3

    on_line(port, work)


def test_a_damaged_line_is_reported_and_not_obeyed(port: str) -> None:
    async def work(line: Line) -> None:
        frame = encode(
            {"jsonrpc": "2.0", "id": 3, "method": "heat.target", "params": {"heater": "hotend", "celsius": 99}}
        )
        line.transport.write(frame.replace(b"99", b"98"))
        await asyncio.sleep(0.3)
        assert any(message.get("method") == "damaged" for message in line.got)
        assert not any(message.get("id") == 3 for message in line.got)

    on_line(port, work)


def test_a_repeated_id_is_answered_and_not_done_again(port: str) -> None:
    async def work(line: Line) -> None:
        path = "heaters.hotend.kp"
        first = (await line.ask(3, "settings.read"))["result"]
        assert first["total"] >= len(first["values"]) > 0
        layers = (await line.ask(33, "settings.read", paths=[path]))["result"]["values"][path]
        await line.ask(4, "settings.write", values={path: 0.5})
        await line.ask(5, "settings.write", values={path: 0.6})
        assert "result" in await line.ask(4, "settings.write", values={path: 0.5})
        now = (await line.ask(6, "settings.read", paths=[path]))["result"]["values"][path]["live"]
        assert now == 0.6
        await line.ask(7, "settings.write", values={path: layers["live"]})

    on_line(port, work)


def test_the_halt_byte_counts_inside_a_frame_and_latches(port: str) -> None:
    async def work(line: Line) -> None:
        assert "result" in await line.ask(3, "heat.target", heater="hotend", celsius=100)
        frame = encode({"jsonrpc": "2.0", "method": "heartbeat", "params": {}})
        line.transport.write(frame[:10] + HALT_BYTE + frame[10:])
        await asyncio.sleep(0.4)
        modes = [m["params"]["mode"] for m in line.got if m.get("method") == "state"]
        assert modes[-1] == "halted"
        assert (await line.ask(4, "heat.target", heater="hotend", celsius=100))["error"]["code"] == 1
        await line.ask(5, "release")
        assert "result" in await line.ask(6, "heat.target", heater="hotend", celsius=100)

    on_line(port, work)


def raw(body: bytes, digits: str = "") -> bytes:
    return b"%s %s\n" % (body, (digits or f"{zlib.crc32(body):08x}").encode())


ASK = b'{"jsonrpc":"2.0","id":77,"method":"settings.read","params":{"from":%s}}'


@pytest.mark.parametrize(
    "line_of",
    [
        pytest.param(lambda: raw(ASK % b"NaN"), id="not a number"),
        pytest.param(lambda: raw(ASK % b"-Infinity"), id="infinite"),
        pytest.param(lambda: raw(ASK % b"1e999"), id="beyond a double"),
        pytest.param(lambda: raw(ASK % (b"9" * 400)), id="whole number beyond a double"),
        pytest.param(lambda: raw(ASK % b"0", f"0x{zlib.crc32(ASK % b'0') & 0xFFFFFF:06x}"), id="0x sum"),
        pytest.param(lambda: raw(ASK % b"0", f"+{zlib.crc32(ASK % b'0') & 0xFFFFFFF:07x}"), id="signed sum"),
        pytest.param(
            lambda: raw(ASK % b"0", f"{zlib.crc32(ASK % b'0'):08x}"[:4] + "_" + "000"), id="underscore in sum"
        ),
        pytest.param(lambda: raw((ASK % b"0")[:-1] + b',"x":"' + b"a" * 66_000 + b'"}'), id="too long"),
        pytest.param(lambda: raw('{"id":77,"method":"settings.read","x":"°"}'.encode()), id="not ascii"),
    ],
)
def test_bad_lines_are_dropped_and_said(port: str, line_of: Callable[[], bytes]) -> None:
    async def work(line: Line) -> None:
        line.transport.write(line_of())
        for _ in range(60):  # a line that is too long takes its time on the wire
            await asyncio.sleep(0.1)
            if any(message.get("method") == "damaged" for message in line.got):
                break
        assert any(message.get("method") == "damaged" for message in line.got)
        await asyncio.sleep(0.2)
        assert not any(message.get("id") == 77 for message in line.got)
        assert "result" in await line.ask(78, "axis.status")

    on_line(port, work)


@pytest.mark.parametrize(
    ("method", "params", "code"),
    [
        ("heat.target", {"heater": "hotend", "celsius": "60"}, -32602),
        ("heat.target", {"heater": "hotend", "celsius": True}, -32602),
        ("heat.target", {"heater": ["hotend"], "celsius": 60}, -32602),
        ("fan.set", {"fan": "part", "duty": "1"}, -32602),
        ("probe.pin", {"deployed": "false"}, -32602),
        ("settings.read", {"from": -5}, -32602),
        ("settings.read", {"paths": ["no.such.setting"]}, 3),
        ("settings.read", {"paths": "heaters"}, -32602),
        ("samples.read", {"from": -1, "to": 5}, -32602),
        ("image block", {"block": {"offset": 0}}, -32601),
        ("axis.move", {"axis": "x", "mm": "1", "speed_mm_s": 5}, -32602),
    ],
)
def test_what_is_malformed_is_refused_by_its_name(port: str, method: str, params: dict[str, Any], code: int) -> None:
    async def work(line: Line) -> None:
        answer = await line.ask(3, method, **params)
        assert answer["error"]["code"] == code and answer["error"]["message"]

    on_line(port, work)


def test_another_session_switches_off_and_says_what_was_on(port: str) -> None:
    async def work(line: Line) -> None:
        await line.ask(3, "heat.target", heater="hotend", celsius=60)
        same = (await line.ask(4, "hello", client="x", protocol=1, session="conformance"))["result"]
        assert same["was_on"] == []
        other = (await line.ask(5, "hello", client="x", protocol=1, session="another"))["result"]
        assert other["was_on"] == [{"what": "heaters.hotend", "target_c": 60.0, "relay": False}]
        await line.ask(6, "heat.target", heater="hotend", celsius=60)
        unnamed = (await line.ask(7, "hello", client="x", protocol=1))["result"]
        assert [each["what"] for each in unnamed["was_on"]] == ["heaters.hotend"]

    on_line(port, work)


def test_the_same_ids_of_the_next_session_are_not_answered_from_memory(port: str) -> None:
    path = "heaters.hotend.kp"

    async def work(line: Line) -> None:
        live = (await line.ask(3, "settings.read", paths=[path]))["result"]["values"][path]["live"]
        await line.ask(5, "settings.write", values={path: 0.5})
        await line.ask(1, "hello", client="next", protocol=1, session="next")
        await line.ask(5, "settings.write", values={path: 0.7})
        assert (await line.ask(6, "settings.read", paths=[path]))["result"]["values"][path]["live"] == 0.7
        await line.ask(7, "settings.write", values={path: live})

    on_line(port, work)


def test_a_second_host_is_told_why_it_is_not_served(port: str) -> None:
    async def work(line: Line) -> None:
        if not port.startswith("socket://"):
            pytest.skip("a serial port is held by one program anyway")
        other = Line(await open_transport(port, 250_000))
        await asyncio.sleep(0.3)
        assert [message["method"] for message in other.got] == ["busy"]

    on_line(port, work)


def test_nothing_is_done_for_a_host_that_has_not_said_hello(port: str) -> None:
    async def work() -> None:
        if not port.startswith("socket://"):
            pytest.skip("a board cannot tell who is at a serial line")
        transport = await open_transport(port, 250_000)
        line = Line(transport)
        assert (await line.ask(1, "heat.target", heater="hotend", celsius=50))["error"]["code"] == 3
        assert "result" in await line.ask(2, "heat.off")
        transport.close()
        await asyncio.sleep(0.1)

    asyncio.run(work())


def test_a_motion_tells_its_end_and_an_event_can_be_asked_for_again(port: str) -> None:
    async def work(line: Line) -> None:
        motor = ""
        for start in range(0, 2000, 40):
            page = (await line.ask(100 + start, "settings.read", **{"from": start}))["result"]["values"]
            found = [path for path in page if path.startswith("axes.") and path.endswith(".run_a")]
            if found:
                motor = found[0].removeprefix("axes.").removesuffix(".run_a")
                break
        answer = (await line.ask(3, "motor.turn", motor=motor, mm=0.2, speed_mm_s=5))["result"]
        ended = await line.event("ended", answer["motion"])
        assert ended["how"] == "done" and answer["seconds"] < 1
        again = (await line.ask(4, "events.read", **{"from": ended["number"]}))["result"]["events"]
        assert {**again[0], "boot": ended["boot"]} == ended
        await asyncio.sleep(0.6)
        states = [message["params"] for message in line.got if message.get("method") == "state"]
        assert states[-1]["events"] >= ended["number"]
        longer = (await line.ask(5, "motor.turn", motor=motor, mm=10, speed_mm_s=2))["result"]
        await line.ask(6, "motion.stop")
        assert (await line.event("ended", longer["motion"]))["how"] == "stopped" and longer["motion"] > answer["motion"]

    on_line(port, work)


def test_a_program_is_checked_taken_in_order_and_told_to_its_end(port: str) -> None:
    async def work(line: Line) -> None:
        def add(at: int, *segments: object, last: bool = False, program: str = "p") -> dict[str, object]:
            return {"program": program, "at": at, "segments": list(segments), "last": last}

        assert (await line.ask(3, "motion.add", **add(1, {"rest_s": 0.1})))["error"]["code"] == 3
        for number, wrong in enumerate(({}, {"rest_s": "x"}, {"to": {"q": 1}, "mm_s": 1}, {"push": 1})):
            refused = (await line.ask(10 + number, "motion.add", **add(0, {"rest_s": 0.1}, wrong)))["error"]
            assert refused["code"] == -32602 and "segment 1" in refused["message"]
        assert (await line.ask(20, "motion.add", **add(0, {"to": {"x": 5}, "mm_s": 10})))["error"]["code"] == 3, (
            "not homed"
        )
        taken = (await line.ask(21, "motion.add", **add(0, {"rest_s": 0.1, "place": "here"})))["result"]
        assert taken["taken"] == 1 and taken["room"] >= 127
        assert (await line.event("place", taken["motion"]))["place"] == "here"
        await line.event("starved", taken["motion"])
        assert (await line.ask(22, "motion.add", **add(0, {"rest_s": 0.1})))["error"]["code"] == 3, "out of order"
        assert (await line.ask(23, "motion.add", **add(1, {"rest_s": 0.1}, program="q")))["error"]["code"] == 3
        await line.ask(24, "motion.add", **add(1, {"rest_s": 0.3}, {"rest_s": 0.1}, last=True))
        await line.event("fed", taken["motion"])
        await line.ask(25, "motion.hold")
        await line.event("held", taken["motion"])
        await line.ask(26, "motion.go_on")
        ended = await line.event("ended", taken["motion"])
        assert (ended["how"], ended["program"], ended["segment"]) == ("done", "p", 3)
        assert (await line.ask(27, "motion.hold"))["error"]["code"] == 3

    on_line(port, work)
