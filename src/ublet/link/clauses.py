"""The clauses of docs/protocol.md that a board is checked by, in its order."""

from __future__ import annotations

import asyncio
import zlib
from itertools import pairwise

from ublet.link.bare import SESSION
from ublet.link.clause import CheckSetup, Unchecked, clause, must
from ublet.link.client import PROTOCOL
from ublet.link.frames import HALT_BYTE, encode
from ublet.link.rpc import SETTINGS_AT_ONCE

HELLO_KEYS = {"board", "boot", "firmware", "clock", "channels", "sample_period_s", "heartbeat_window_s", "events"}
LEAST_ROOM, LONGEST_LINE = 128, 65_536


# 1: frames


@clause("1.1", "Every line is compact JSON in ASCII with its CRC-32, at most 65,536 bytes long.")
async def _sums(bench: CheckSetup) -> None:
    before = bench.line.bad
    await bench.good("axis.status")
    await asyncio.sleep(0.6)
    must(bench.line.bad == before, f"{bench.line.bad - before} lines of the board had a wrong sum or shape")


@clause("1.2", "A line with a wrong checksum is not obeyed, and is reported as `damaged`.")
async def _wrong_sum(bench: CheckSetup) -> None:
    heater, number = bench.one_of("heaters.", ".maximum_c"), bench.line.number()
    frame = bench.line.request(number, "heat.target", {"heater": heater, "celsius": 99})
    bench.line.write(frame.replace(b"99", b"98"))
    await bench.line.notification("damaged", lambda params: params.get("count", 0) >= 1, "no `damaged` came")
    must(not await bench.line.answered(number, 0.2), "it answered a line with a wrong sum")


def _raw(body: bytes, digits: str = "") -> bytes:
    return b"%s %s\n" % (body, (digits or f"{zlib.crc32(body):08x}").encode())


@clause("1.3", "Digits beyond a double, NaN, sums with signs or prefixes, and lines that are too long are bad.")
async def _malformed(bench: CheckSetup) -> None:
    line, number = bench.line, bench.line.number()
    ask = b'{"jsonrpc":"2.0","id":%d,"method":"axis.status","params":{"x":%s}}'
    plain = ask % (number, b"0")
    spoilt = [_raw(ask % (number, b"NaN")), _raw(ask % (number, b"1e999"))]
    spoilt += [
        _raw(plain, f"0x{zlib.crc32(plain) & 0xFFFFFF:06x}"),
        _raw(plain, f"+{zlib.crc32(plain) & 0xFFFFFFF:07x}"),
    ]
    spoilt.append(_raw(ask % (number, b'"' + b"a" * LONGEST_LINE + b'"')))
    for text in spoilt:
        line.got.clear()
        line.write(text)
        await line.notification("damaged", lambda params: True, f"no `damaged` after {text[:60]!r}", 8.0)
        must(not await line.answered(number, 0.1), f"it answered {text[:60]!r}")


@clause("1.4", "Sums may be written in capitals, and a carriage return before the newline is ignored.")
async def _lenient(bench: CheckSetup) -> None:
    number = bench.line.number()
    body, digits = bench.line.request(number, "axis.status", {}).rstrip(b"\n").rsplit(b" ", 1)
    bench.line.write(body + b" " + digits.upper() + b"\r\n")
    await bench.line.answer(number, "a line with capitals and a carriage return")


@clause("1.5", "The halt byte counts inside a frame, and the frame is read as if it were not there.")
async def _halt_inside(bench: CheckSetup) -> None:
    number = bench.line.number()
    frame = bench.line.request(number, "axis.status", {})
    bench.line.write(frame[:12] + HALT_BYTE + frame[12:])
    await bench.line.answer(number, "a frame with a halt byte in it")
    await bench.mode("halted")


# 2: requests


@clause("2.1", "A request that comes again with its id is answered again, and not done again.")
async def _again(bench: CheckSetup) -> None:
    heater = bench.one_of("heaters.", ".kp")
    path, line = f"heaters.{heater}.kp", bench.line
    before = bench.values[path]["live"]
    first = line.number()
    frame = line.request(first, "settings.write", {"values": {path: 0.5}})
    line.write(frame)
    await line.answer(first)
    await bench.good("settings.write", values={path: 0.6})
    line.write(frame)
    await line.answer(first, "an id that came again")
    now = (await bench.good("settings.read", paths=[path]))["values"][path]["live"]
    await bench.good("settings.write", values={path: before})
    must(now == 0.6, f"{path} is {now}: the request was done again")


@clause("2.2", "An unknown method is refused with -32601.")
async def _unknown(bench: CheckSetup) -> None:
    await bench.refused(-32601, "no.such.method")


@clause("2.3", "Parameters of another kind are refused with -32602.")
async def _bad_params(bench: CheckSetup) -> None:
    heater = bench.one_of("heaters.", ".maximum_c")
    for method, params in (
        ("heat.target", {"heater": heater}),
        ("heat.target", {"heater": heater, "celsius": "60"}),
        ("heat.target", {"heater": heater, "celsius": True}),
        ("settings.read", {"from": -5}),
        ("samples.read", {"from": -1, "to": 5}),
        ("axis.move", {"axis": "x", "mm": "1", "speed_mm_s": 5}),
    ):
        await bench.refused(-32602, method, **params)


# 3: sessions


@clause("3.1", "hello says what the board is, and refuses another protocol.")
async def _hello(bench: CheckSetup) -> None:
    missing = HELLO_KEYS - set(bench.about)
    must(not missing, f"hello says nothing of {', '.join(sorted(missing))}")
    must(len(set(bench.about["channels"])) == len(bench.about["channels"]), "a channel's name stands twice")
    await bench.refused(3, "hello", client="x", protocol=99)


@clause("3.2", "Another session finds everything off, and gets a report of what was on; the same one does not.")
async def _session(bench: CheckSetup) -> None:
    heater = bench.one_of("heaters.", ".maximum_c")
    await bench.good("heat.target", heater=heater, celsius=40)
    same = await bench.good("hello", client="x", protocol=PROTOCOL, session=SESSION)
    must(not same.get("was_on"), "the same session got a report that something had been on")
    other = await bench.good("hello", client="x", protocol=PROTOCOL, session="another")
    was = [off_heater.get("what") for off_heater in other.get("was_on", [])]
    must(f"heaters.{heater}" in was, f"another session got a report of {was}, and the heater was on")
    third = await bench.good("hello", client="x", protocol=PROTOCOL, session="a third")
    must(not third.get("was_on"), "a heater was on again after another session's hello")


# 4: settings


@clause("4.1", "settings.read gives every setting in pages of at most 40, with image, stored and live.")
async def _read(bench: CheckSetup) -> None:
    page = await bench.good("settings.read", **{"from": 0})
    must(0 < len(page["values"]) <= SETTINGS_AT_ONCE, f"{len(page['values'])} settings in one reply")
    must(len(bench.values) == page["total"], f"{len(bench.values)} of {page['total']} settings came")
    must(all({"image", "stored", "live"} <= set(value) for value in bench.values.values()), "a layer is missing")
    await bench.refused(3, "settings.read", paths=["no.such.setting"])


@clause("4.2", "settings.write changes all or none.")
async def _all_or_none(bench: CheckSetup) -> None:
    path = f"heaters.{bench.one_of('heaters.', '.kp')}.kp"
    before = bench.values[path]["live"]
    await bench.refused(3, "settings.write", values={path: 0.123, "no.such.setting": 1})
    now = (await bench.good("settings.read", paths=[path]))["values"][path]["live"]
    await bench.good("settings.write", values={path: before})
    must(now == before, f"{path} was changed to {now} by a write that was refused")


@clause("4.3", "What settings.lend changes comes back by settings.give_back, and with the session's end.")
async def _lent(bench: CheckSetup) -> None:
    path = f"heaters.{bench.one_of('heaters.', '.kp')}.kp"
    before = bench.values[path]["live"]

    async def live() -> object:
        return (await bench.good("settings.read", paths=[path]))["values"][path]["live"]

    await bench.refused(3, "settings.lend", values={path: 0.123, "no.such.setting": 1})
    must(await live() == before, f"{path} was changed by a loan that was refused")
    await bench.good("settings.lend", values={path: 0.125})
    await bench.good("settings.lend", values={path: 0.25})
    must(await live() == 0.25, f"{path} was lent 0.25 and is {await live()}")
    await bench.good("settings.give_back", paths=[path, "no.such.setting"])
    must(await live() == before, f"{path} was given back and is {await live()}, not {before}")
    await bench.good("settings.lend", values={path: 0.125})
    other = await bench.good("hello", client="x", protocol=PROTOCOL, session="after the loan")
    must(
        other.get("returned") == {path: before}, f"another session got a report that {other.get('returned')} came back"
    )
    must(await live() == before, f"{path} outlived the session that had borrowed it")


# 5: states and samples


@clause("5.1", "States come at least twice a second, with samples whose numbers and times rise.")
async def _states(bench: CheckSetup) -> None:
    await asyncio.sleep(1.6)
    states = [m["params"] for m in bench.line.got if m.get("method") == "state"]
    must(len(states) >= 3, f"{len(states)} states in 1.6 s")
    rows = [row for state in states for row in state["samples"]]
    must(all(b[0] == a[0] + 1 for a, b in pairwise(rows)), "sample numbers do not rise by one")
    must(all(b[1] > a[1] for a, b in pairwise(rows)), "sample times do not rise")
    must(
        all(len(row) == 2 + len(bench.about["channels"]) for row in rows), "a sample has not one value for each channel"
    )


@clause("5.2", "samples.read gives the same samples again.")
async def _samples(bench: CheckSetup) -> None:
    state = await bench.line.notification("state", lambda params: bool(params["samples"]), "no state with samples")
    rows = state["samples"][:1]
    again = (await bench.good("samples.read", **{"from": rows[0][0], "to": rows[0][0] + 1}))["samples"]
    must(again == rows, f"{again} came, {rows} had been reported")


# 6: motion and events


def _motor(bench: CheckSetup) -> str:
    return bench.one_of("axes.", ".run_a")


@clause(
    "6.1",
    "The reply to a move has its number, duration and speed; its end is an event, once, that can be asked for again.",
)
async def _move(bench: CheckSetup) -> None:
    accepted = await bench.good("motor.turn", motor=_motor(bench), mm=0.2, speed_mm_s=5)
    must({"motion", "seconds", "speed_mm_s", "capped_by"} <= set(accepted), f"motor.turn answered {accepted}")
    ended = await bench.event("ended", accepted["motion"])
    must(ended.get("how") == "done", f"it ended {ended.get('how')}")
    again = (await bench.good("events.read", **{"from": ended["number"]}))["events"]
    must(again and again[0].get("number") == ended["number"], "events.read does not give it again")
    await bench.line.notification("state", lambda s: s.get("events", 0) >= ended["number"], "no state reports it")
    ends = [m for m in bench.line.got if m.get("method") == "event" and m["params"]["number"] == ended["number"]]
    must(len(ends) == 1, f"its end was reported {len(ends)} times")


@clause("6.2", "motion.stop ends a move, which is reported as stopped; one move at a time.")
async def _stop(bench: CheckSetup) -> None:
    motor = _motor(bench)
    accepted = await bench.good("motor.turn", motor=motor, mm=10, speed_mm_s=2)
    await bench.refused(3, "motor.turn", motor=motor, mm=1, speed_mm_s=2)
    await bench.good("motion.stop")
    how = (await bench.event("ended", accepted["motion"])).get("how")
    must(how == "stopped", f"it ended {how}")


@clause("6.3", "Before homing nothing moves further than 20 mm or faster than 20 mm/s.")
async def _unhomed(bench: CheckSetup) -> None:
    for params in ({"mm": 21, "speed_mm_s": 10}, {"mm": 5, "speed_mm_s": 21}, {"mm": 0, "speed_mm_s": 5}):
        await bench.refused(3, "motor.turn", motor=_motor(bench), **params)
    await bench.refused(3, "axis.move", axis="no such axis", mm=1, speed_mm_s=1)


@clause("6.4", "motor.off lets every motor go: no axis knows where it stands; refused while something moves.")
async def _motors_off(bench: CheckSetup) -> None:
    accepted = await bench.good("motor.turn", motor=_motor(bench), mm=10, speed_mm_s=2)
    await bench.refused(3, "motor.off")
    await bench.good("motion.stop")
    await bench.event("ended", accepted["motion"])
    await bench.good("motor.off")
    status = await bench.good("axis.status")
    must(all(axis["mm"] is None for axis in status.values()), f"an axis still knows where it stands: {status}")


# 7: programs


def _add(at: int, *segments: object, last: bool = False, program: str = "p") -> dict[str, object]:
    return {"program": program, "at": at, "segments": list(segments), "last": last}


@clause("7.1", "Segments are taken in their order, all or none, with room for at least 128.")
async def _order(bench: CheckSetup) -> None:
    await bench.refused(3, "motion.add", **_add(1, {"rest_s": 0.1}))
    for wrong in ({}, {"rest_s": "x"}, {"to": {"q": 1}, "mm_s": 1}, {"push": 1}, {"rest_s": 1, "push": 1, "mm_s": 1}):
        await bench.refused(-32602, "motion.add", **_add(0, {"rest_s": 0.1}, wrong))
    taken = await bench.good("motion.add", **_add(0, {"rest_s": 0.1}))
    must(taken["taken"] == 1 and taken["room"] >= LEAST_ROOM - 1, f"motion.add answered {taken}")
    await bench.refused(3, "motion.add", **_add(0, {"rest_s": 0.1}))
    await bench.refused(3, "motion.add", **_add(2, {"rest_s": 0.1}))
    await bench.refused(3, "motion.add", **_add(1, {"rest_s": 0.1}, program="q"))


@clause("7.2", "Places, a queue that runs dry, holding and the end are reported as events.")
async def _ends_reported(bench: CheckSetup) -> None:
    taken = await bench.good("motion.add", **_add(0, {"rest_s": 0.1, "place": "here"}))
    place = await bench.event("place", taken["motion"])
    must(place.get("place") == "here", f"the place was reported as {place.get('place')}")
    await bench.event("starved", taken["motion"])
    await bench.good("motion.add", **_add(1, {"rest_s": 0.3}, {"rest_s": 0.1}, last=True))
    await bench.event("fed", taken["motion"])
    await bench.good("motion.hold")
    await bench.event("held", taken["motion"])
    await bench.good("motion.go_on")
    await bench.event("going on", taken["motion"])
    ended = await bench.event("ended", taken["motion"])
    must((ended.get("how"), ended.get("segment")) == ("done", 3), f"its end was reported as {ended}")


@clause(
    "7.3", "What is not homed does not move in a program, cold filament is not pushed, an idle heater not waited for."
)
async def _checked(bench: CheckSetup) -> None:
    await bench.refused(3, "motion.add", **_add(0, {"to": {"x": 5}, "mm_s": 10}))
    heater = bench.one_of("heaters.", ".maximum_c")
    await bench.refused(3, "motion.add", **_add(0, {"warm": heater}))
    if "extruder.least_c" in bench.values:
        await bench.refused(3, "motion.add", **_add(0, {"push": 1, "mm_s": 1}))


@clause("7.4", "A sweep needs a direction of length 1, frequencies that rise, and axes that are homed.")
async def _swept(bench: CheckSetup) -> None:
    can = bench.about.get("can")
    if isinstance(can, list) and "swings" not in can:
        raise Unchecked("its capabilities exclude sweeps")
    good = {"from_hz": 5, "to_hz": 60, "seconds": 2, "per_hz_m_s2": 0.005}
    for wrong in ({"swing": {"x": 0.5}, **good}, {"swing": {"x": 1}, **good, "to_hz": 4}, {"swing": {"x": 1}}):
        await bench.refused(-32602, "motion.add", **_add(0, wrong))
    await bench.refused(3, "motion.add", **_add(0, {"swing": {"x": 1}, **good}))


@clause("7.5", "How a program parks is checked when it begins: a lift from 0, a place of x and y, a speed above 0.")
async def _parked(bench: CheckSetup) -> None:
    good = {"lift_mm": 1, "at": {"x": 1}, "mm_s": 5}
    for wrong in ({**good, "lift_mm": -1}, {**good, "at": {"z": 1}}, {"lift_mm": 1}):
        await bench.refused(-32602, "motion.add", **_add(0, {"rest_s": 0.1}), park=wrong)
    taken = await bench.good("motion.add", **_add(0, {"rest_s": 0.2}), park=good)
    await bench.good("motion.stop")  # not homed: it cannot park, and ends where it is
    how = (await bench.event("ended", taken["motion"])).get("how")
    must(how == "stopped", f"it ended {how}")


@clause("7.6", "A program sets pressure advance from 0 to 3 s where `advance` is in can; elsewhere it is refused.")
async def _advanced(bench: CheckSetup) -> None:
    for wrong in ({"advance_s": -0.1}, {"advance_s": 3.1}, {"advance_s": "much"}):
        await bench.refused(-32602, "motion.add", **_add(0, wrong))
    can = bench.about.get("can")
    if isinstance(can, list) and "advance" not in can:
        await bench.refused(3, "motion.add", **_add(0, {"advance_s": 0.05}))
        return
    taken = await bench.good("motion.add", **_add(0, {"advance_s": 0.05, "place": "set"}, {"rest_s": 0.1}, last=True))
    place = await bench.event("place", taken["motion"])
    must(place.get("place") == "set", f"the place was reported as {place.get('place')}")
    how = (await bench.event("ended", taken["motion"])).get("how")
    must(how == "done", f"it ended {how}")


@clause("7.7", "A skew of the frame up to 2 degrees is taken and read back, a larger one is refused.")
async def _skewed(bench: CheckSetup) -> None:
    path = "motion.skew_deg"
    if path not in bench.values:
        raise Unchecked("it has no motion.skew_deg: it corrects no skew")
    before = bench.values[path]["live"]
    for wrong in (2.5, -2.5):
        await bench.refused(3, "settings.write", values={path: wrong})
    await bench.good("settings.write", values={path: 0.25})
    now = (await bench.good("settings.read", paths=[path]))["values"][path]["live"]
    await bench.good("settings.write", values={path: before})
    must(now == 0.25, f"a skew of 0.25 was written, {now} is live")


# 8: heat


@clause("8.1", "A target above the maximum, or of a heater that is not there, is refused; null is always taken.")
async def _targets(bench: CheckSetup) -> None:
    heater = bench.one_of("heaters.", ".maximum_c")
    await bench.refused(3, "heat.target", heater=heater, celsius=5000)
    await bench.refused(3, "heat.target", heater="no such heater", celsius=40)
    await bench.good("heat.target", heater=heater, celsius=None)


@clause("8.2", "heat.off switches off what heats and blows.")
async def _off(bench: CheckSetup) -> None:
    heater, channels = bench.one_of("heaters.", ".maximum_c"), bench.about["channels"]
    place = 2 + channels.index(f"heaters.{heater}.target_c")
    await bench.good("heat.target", heater=heater, celsius=40)
    await bench.line.notification(
        "state", lambda s: any(r[place] == 40 for r in s["samples"]), "no sample shows the target"
    )
    await bench.good("heat.off")
    bench.line.got.clear()
    await asyncio.sleep(0.7)
    rows = [row for m in bench.line.got if m.get("method") == "state" for row in m["params"]["samples"]]
    must(rows and rows[-1][place] is None, "a target is still shown after heat.off")


# 9: halt


@clause("9.1", "After a halt nothing is done with code 1 until release, and everything stays off then.")
async def _halted(bench: CheckSetup) -> None:
    heater = bench.one_of("heaters.", ".maximum_c")
    await bench.good("heat.target", heater=heater, celsius=40)
    bench.line.write(HALT_BYTE)
    await bench.mode("halted")
    await bench.refused(1, "heat.target", heater=heater, celsius=40)
    await bench.refused(1, "motor.turn", motor=_motor(bench), mm=1, speed_mm_s=2)
    await bench.good("release")
    await bench.mode("ready")
    other = await bench.good("hello", client="x", protocol=PROTOCOL, session="after the halt")
    must(not other.get("was_on"), f"after release {other.get('was_on')} was on")


@clause("9.2", "A board that heats and receives nothing for its heartbeat window switches off and trips `link lost`.")
async def _dead_man(bench: CheckSetup) -> None:
    heater = bench.one_of("heaters.", ".maximum_c")
    await bench.good("heat.target", heater=heater, celsius=40)
    frame = encode({"jsonrpc": "2.0", "method": "heartbeat", "params": {"session": "somebody else's"}})
    window = float(bench.about["heartbeat_window_s"])
    for _ in range(5):  # heartbeats of another session do not count
        bench.line.write(frame)
        await asyncio.sleep((window + 1.5) / 5)
    state = await bench.line.notification("state", lambda s: s["mode"] == "tripped", "it went on heating", 1.0)
    must(
        state.get("guard") == "link lost" and state.get("why"),
        f"it tripped {state.get('guard')!r}, why {state.get('why')!r}",
    )


@clause("9.3", "A release that was sent before the halt byte does not outlive it, though both arrive at once.")
async def _overtaken(bench: CheckSetup) -> None:
    number = bench.line.number()
    bench.line.write(bench.line.request(number, "release", {}) + HALT_BYTE)
    await bench.line.answer(number, "a release before a halt byte")
    await bench.mode("halted")
    await bench.refused(1, "motor.turn", motor=_motor(bench), mm=1, speed_mm_s=2)
