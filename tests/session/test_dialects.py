"""Boards that speak another line language: the same trials, the same truths, and what a poor line may not do."""

from __future__ import annotations

import ast
import asyncio
import shutil
from pathlib import Path

import pytest

import ublet
from tests.conftest import virtually
from tests.session.spoken import BOTH, client_of, spoken
from ublet.core.acts import MakeFault
from ublet.core.capabilities import lacking_words
from ublet.core.catalogue import TRIALS
from ublet.core.dialect.language import check_dialect
from ublet.core.run import Option, Proposal
from ublet.link.dialect_client import DialectClient
from ublet.link.errors import BoardRefused, LinkLost
from ublet.session.dialects import DialectError, dialect_named, dialects_for
from ublet.session.document import Document
from ublet.session.headless import execute
from ublet.session.jogging import to_the_end
from ublet.session.library import DATA, machine_path
from ublet.session.orders import order_for
from ublet.session.session import Session


@pytest.mark.parametrize(("dialect", "machine"), [("moss", "tern-280"), ("slate", "wren-180")])
def test_a_heater_is_tuned_as_over_the_protocol(tmp_path: Path, dialect: str, machine: str) -> None:
    """Slate's board has a relay, moss's has none: there the host is it. The truth is the world's in both."""

    async def work() -> None:
        async with spoken(tmp_path, dialect, machine) as (session, simulated, watcher):
            early = await execute(order_for("hotend-control", [], False, False), session, watcher)
            assert early.outcome == "failed" and "Drill the guards first" in early.report["why"]
            assert simulated.world.plants["hotend"].block_c < 30
            drilled = await execute(order_for("guards-drill", [], False, False), session, watcher)
            assert drilled.outcome == "proven" and drilled.report["conditions"]["line_language"] == dialect
            done = await execute(order_for("hotend-control", [], False, False), session, watcher)
            assert done.outcome == "proven", done.report["why"]
            findings = {row["id"]: row for row in done.report["findings"]}
            for id, value in done.report["truth"].items():
                u = findings[id]["uncertainty"]
                if u is not None:
                    assert abs(findings[id]["value"] - value) <= 3 * u, id
            assert {"gain.hotend", "time_constant.hotend", "delay.hotend"} <= done.report["truth"].keys()
            await asyncio.sleep(1)
            assert not any(drive.target_c for drive in simulated.board.heat.drives.values())

    virtually(work)


@pytest.mark.parametrize("dialect", BOTH)
def test_planted_faults_of_the_wiring_are_named(tmp_path: Path, dialect: str) -> None:
    async def work() -> None:
        async with spoken(tmp_path, dialect, "tern-280") as (session, _, watcher):
            motors = await execute(order_for("motors-one-by-one", [], False, False), session, watcher)
            assert "Z right was commanded, and Z back turned instead" in motors.report["why"]
            ways = await execute(order_for("directions", [], False, False), session, watcher)
            assert ways.report["why"] == "The motor Y b runs the wrong way."
            homed = await execute(order_for("homing", [], False, False), session, watcher)
            assert homed.outcome == "failed" and "X did not find its end: no switch triggered" in homed.report["why"]

    virtually(work)


@pytest.mark.parametrize("dialect", BOTH)
def test_a_machine_homes_finds_its_limits_and_measures_its_steps(tmp_path: Path, dialect: str) -> None:
    async def work() -> None:
        async with spoken(tmp_path, dialect) as (session, _, watcher):
            for trial in ("homing", "travel-limits", "steps-per-mm"):
                done = await execute(order_for(trial, [], True, False), session, watcher)
                assert done.outcome == "proven", (trial, done.report["why"])
                findings = {row["id"]: row for row in done.report["findings"]}
                for id, value in done.report["truth"].items():
                    if findings[id]["uncertainty"]:
                        assert abs(findings[id]["value"] - value) <= 3 * findings[id]["uncertainty"], id

    virtually(work)


@pytest.mark.parametrize("dialect", BOTH)
def test_guards_are_drilled_and_a_silent_line_switches_off(tmp_path: Path, dialect: str) -> None:
    async def work() -> None:
        async with spoken(tmp_path, dialect) as (session, _, watcher):
            done = await execute(order_for("guards-drill", [], False, False), session, watcher)
            assert done.outcome == "proven", done.report["why"]
            drills = {row["subject"]["drill"] for row in done.report["findings"]}
            assert "link-cut" in drills and "sensor-pulled-out" in drills
            ours = "no guard of its own for drift and no rise: Ublet watches instead" in done.report["why"]
            assert ours == (dialect == "moss")

    virtually(work)


def test_a_board_that_stays_on_in_silence_fails_the_drill(tmp_path: Path) -> None:
    text = (DATA / "dialects" / "moss.toml").read_text(encoding="utf-8").replace("window_s = 5", "window_s = 0")
    language, _ = check_dialect(text)
    assert language is not None

    async def work() -> None:
        async with spoken(tmp_path, language) as (session, _, watcher):
            assert "does not switch off by itself" in session.connection.by_itself()
            done = await execute(order_for("guards-drill", [], False, False), session, watcher)
            assert done.outcome == "failed" and "does not switch off by itself" in done.report["why"]
            with pytest.raises(BoardRefused, match="say so with --watched"):
                await session.connection.controller.target("hotend", 120.0)
            session.silence.watched = True
            with pytest.raises(BoardRefused, match="nothing else does"):
                await session.connection.controller.target("hotend", 120.0)
            tuned = await execute(order_for("hotend-control", [], False, False), session, watcher)
            assert tuned.outcome == "proven", tuned.report["why"]

    virtually(work)


def test_a_board_without_guards_is_halted_by_the_host(tmp_path: Path) -> None:
    """Nothing on this board watches its heaters: each fault is seen in the readings, and halts it."""
    text = (DATA / "dialects" / "moss.toml").read_text(encoding="utf-8")
    language, _ = check_dialect(text.replace("over_maximum = true\nsensor_ends = true\n", ""))
    assert language is not None and len(language.guards_lacking()) == 4

    async def work() -> None:
        async with spoken(tmp_path, language) as (session, simulated, watcher):
            done = await execute(order_for("guards-drill", [], False, False), session, watcher)
            assert done.outcome == "proven", done.report["why"]
            assert "no guard of its own for drift and no rise and over maximum and sensor ends" in done.report["why"]
            noticed = {row["subject"]["drill"]: row for row in done.report["findings"] if row["unit"] == "s"}
            assert all(row["value"] <= row["limit"] for row in noticed.values()) and len(noticed) >= 3
            await session.connection.controller.target("hotend", 60.0)
            await asyncio.sleep(5)
            simulated.hands.perform(MakeFault("sensor-out", "hotend"))
            await asyncio.sleep(2)
            state = session.connection.state
            assert state.mode == "tripped" and state.guard == "sensor ends"
            assert "does not read while the hotend heats" in state.why and "has halted it" in state.why
            assert simulated.board.mode == "halted" and simulated.board.heat.drives["hotend"].target_c is None
            simulated.hands.perform(MakeFault("sensor-back", "hotend"))
            await session.connection.controller.release()
            await asyncio.sleep(1)
            assert session.connection.state.mode == "ready"

    virtually(work)


@pytest.mark.parametrize(("spoke", "opened"), [("slate", "moss"), ("moss", ""), ("", "slate")])
def test_what_speaks_another_language_is_named_by_what_it_said(tmp_path: Path, spoke: str, opened: str) -> None:
    async def work() -> None:
        async with spoken(tmp_path, spoke) as (session, _, _):
            await session.connection.close()
            language = dialect_named(opened, tmp_path) if opened else None
            other = Session(
                Path(shutil.copy(session.document.path, tmp_path / "other.toml")),
                session.connection.opener,
                language=language,
            )
            with pytest.raises(LinkLost) as lost:
                await other.connection.connect()
            expected = f"It may speak {spoke} (“" if spoke else "It speaks Ublet's own protocol"
            assert expected in str(lost.value), str(lost.value)
            await other.close()

    virtually(work)


def option(path: str, before: float, after: float) -> Option:
    return Option("x", "", (Proposal(path, before, after, "", ""),), {})


def test_slate_stores_what_was_saved_and_only_that(tmp_path: Path) -> None:
    async def first() -> None:
        async with spoken(tmp_path, "slate", store=True) as (session, simulated, _):
            await session.keep(option("heaters.hotend.kp", 0.022, 0.0712), None)
            await session.keep(option("heaters.hotend.kd", 0.1, 0.31), None)
            assert await session.save({"heaters.hotend.kp"}) == 1
            assert session.live("heaters.hotend.kd") == pytest.approx(0.31), "it is live, and not stored"
            assert simulated.board.layers.store.values.get("heaters.hotend.kd") != pytest.approx(0.31)
            assert "kp = 0.0712" in session.document.text

    async def again() -> None:
        async with spoken(tmp_path, "slate", store=True) as (session, _, _):
            assert session.live("heaters.hotend.kp") == pytest.approx(0.0712)
            assert session.connection.layers["heaters.hotend.kp"].stored == pytest.approx(0.0712)
            assert session.live("heaters.hotend.kd") != pytest.approx(0.31)

    virtually(first)
    virtually(again)


def test_what_shadows_the_file_is_settled_though_the_firmware_has_the_same_value(tmp_path: Path) -> None:
    """Tern's board arrives with five stored values; one of the file's is what its firmware was built with."""

    async def work() -> None:
        async with spoken(tmp_path, "slate", "tern-280", store=True) as (session, simulated, _):
            differing = [row.path for row in session.shadowed()]
            assert "heaters.hotend.kp" in differing and len(differing) == 6
            count, _ = await session.settle_shadows(dict.fromkeys(differing, "file"))
            assert count == 6 and not session.shadowed()
            assert "heaters.hotend.kp" not in simulated.board.layers.store.values

    virtually(work)


def test_digits_that_a_line_cuts_are_no_other_value(tmp_path: Path) -> None:
    """Half a thousandth is all that this board's line carries: what was saved is what is read back."""
    text = (DATA / "dialects" / "slate.toml").read_text(encoding="utf-8")
    language, problems = check_dialect(text.replace("kp {heater} {value*1000}", "kp {heater} {value*1000:.1f}"))
    assert language is not None, problems
    kp = 0.0712345678912345

    async def work() -> None:
        async with spoken(tmp_path, language, store=True) as (session, simulated, _):
            await session.keep(option("heaters.hotend.kp", 0.022, kp), None)
            assert await session.save() == 1 and session.live("heaters.hotend.kp") == kp
            assert simulated.board.layers.store.values["heaters.hotend.kp"] == pytest.approx(0.0712, abs=1e-9)
        async with spoken(tmp_path, language, store=True) as (session, _, _):
            assert session.connection.layers["heaters.hotend.kp"].stored == kp, "as the file says"
            assert not [row for row in session.shadowed() if row.path == "heaters.hotend.kp"]

    virtually(work)


def test_moss_has_no_store_and_the_file_keeps_what_was_saved(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "moss") as (session, simulated, _):
            await session.keep(option("heaters.hotend.kp", 0.022, 0.0712), None)
            assert await session.save() == 1 and not session.unsaved()
            assert "kp = 0.0712" in session.document.text
            assert simulated.board.layers.store.values.get("heaters.hotend.kp") != 0.0712
            simulated.board.reset()
            await asyncio.sleep(8)
            layer = session.connection.layers["heaters.hotend.kp"]
            assert layer.live != 0.0712 and layer.stored is None, "its power went, and the app has read it anew"

    virtually(work)


def test_lines_that_are_lost_spoilt_or_doubled_move_nothing_twice(tmp_path: Path) -> None:
    async def work() -> None:
        link = "drop_rate = 0.04\nflip_rate = 0.04\nhost_drop_rate = 0.04"
        async with spoken(tmp_path, "slate", link=link) as (session, simulated, _):
            controller, spun = session.connection.controller, simulated.world.mechanics.spun
            before = spun.get("x", 0.0)
            for _ in range(25):
                await to_the_end(session.connection, await controller.move("x", 1.0, 20.0))
            await to_the_end(session.connection, await controller.move("x", -5.0, 20.0))
            moved = {role: mm for role, mm in spun.items() if abs(mm) > 1e-6}
            assert list(moved.values()) == [pytest.approx(20.0 + before, abs=0.02)], moved
            assert session.connection.client is not None and session.connection.client.quality.retries > 10
            await controller.target("hotend", 60.0)
            await controller.target("hotend", None)
            assert simulated.board.heat.drives["hotend"].target_c is None

    virtually(work)


def test_spoilt_digits_without_a_checksum_make_no_readings_and_no_settings(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "moss", link="flip_rate = 0.02\ndouble_rate = 0.02") as (session, simulated, _):
            warm, boots = [], set()
            for _ in range(120):
                await asyncio.sleep(0.25)
                assert session.connection.linked, session.connection.why
                client = client_of(session)
                warm += [client.values["sensors.hotend"]] if client.values["sensors.hotend"] is not None else []
                boots.add(client.state.boot)
            assert boots == {simulated.board.boot}, "no digit makes a restart"
            assert len(warm) > 100 and max(warm) - min(warm) < 11.0
            for gain in (0.0211, 0.0322, 0.0433):
                await session.connection.controller.write({"heaters.hotend.kp": gain})
                simulated.board.layers.live["heaters.hotend.kp"] = gain + 0.0011  # by somebody else
                read = await session.connection.controller.read(["heaters.hotend.kp"])
                assert read["heaters.hotend.kp"].live == pytest.approx(gain + 0.0011, abs=1e-9)

    virtually(work)


def test_an_unnumbered_move_whose_reply_is_lost_ends_the_link_and_is_not_repeated(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "moss") as (session, simulated, _):
            spun, send = simulated.world.mechanics.spun, simulated.service.send
            await session.connection.next_samples()  # no question is under way
            simulated.service.send = lambda data: None
            with pytest.raises(LinkLost, match="no answer"):
                await session.connection.controller.move("x", 3.0, 20.0)
            simulated.service.send = send
            await asyncio.sleep(1)
            assert not session.connection.linked and "nobody knows whether it was done" in session.connection.why
            assert all(abs(mm) <= 3.02 for mm in spun.values())

    virtually(work)


@pytest.mark.parametrize("dialect", BOTH)
def test_what_the_file_forbids_is_not_sent(tmp_path: Path, dialect: str) -> None:
    async def work() -> None:
        async with spoken(tmp_path, dialect) as (session, _, _):
            controller = session.connection.controller
            before = len(session.connection.talk)
            with pytest.raises(BoardRefused, match="is not sent: up to"):
                await controller.target("hotend", 999.0)
            with pytest.raises(BoardRefused, match="is not sent: allowed"):
                await controller.write({"heaters.hotend.power_limit": 7.0})
            said = [str(message["line"]) for way, message in list(session.connection.talk)[before:] if way == ">"]
            assert not any("999" in line or "700" in line or " 7" in line for line in said)

    virtually(work)


def test_a_reading_that_no_machine_has_ends_the_link(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "moss") as (session, _, _):
            client_of(session).transport.received(b"")
            say = client_of(session)
            lost: list[str] = []
            session.connection.broken.append(lambda what, why: lost.append(why))
            rule = say.language.readings["warmth"]
            with pytest.raises(LinkLost, match=r"sensors.bed = 9999"):
                say._note(rule.read("bed is 9999"), 1)

    virtually(work)


@pytest.mark.parametrize("dialect", BOTH)
def test_halt_comes_first_and_is_left_only_by_release(tmp_path: Path, dialect: str) -> None:
    async def work() -> None:
        async with spoken(tmp_path, dialect) as (session, simulated, _):
            controller = session.connection.controller
            await controller.target("hotend", 60.0)
            assert session.connection.halt()
            await asyncio.sleep(0.5)
            assert simulated.board.mode == "halted" and session.connection.state.mode == "halted"
            with pytest.raises(BoardRefused):
                await controller.target("hotend", 60.0)
            await controller.release()
            await asyncio.sleep(0.5)
            assert session.connection.state.mode == "ready"

    virtually(work)


def test_a_line_that_halts_does_so_whatever_its_number(tmp_path: Path) -> None:
    text = (DATA / "dialects" / "slate.toml").read_text(encoding="utf-8")
    language, problems = check_dialect(text.replace("[halt]\nbyte = 24", '[halt]\nline = "!halt"'))
    assert language is not None, problems

    async def work() -> None:
        async with spoken(tmp_path, language) as (session, simulated, _):
            await session.connection.controller.target("hotend", 60.0)
            session.connection.signal_halt()
            await asyncio.sleep(0.5)
            assert simulated.board.mode == "halted" and session.connection.state.mode == "halted"

    virtually(work)


def test_a_board_that_restarts_in_the_middle_is_noticed(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "slate") as (session, simulated, _):
            reply = await session.connection.controller.move("x", 15.0, 2.0)
            await asyncio.sleep(1)
            simulated.board.reset()
            with pytest.raises(LinkLost, match="restarted"):
                await to_the_end(session.connection, reply)
            await asyncio.sleep(3)
            assert session.connection.linked and session.connection.state.boot == simulated.board.boot
            assert session.connection.layers, "its settings were read anew"

    virtually(work)


def test_a_trial_that_needs_more_than_the_language_has_is_not_begun(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "moss") as (session, _, watcher):
            done = await execute(order_for("resonance", [], False, False), session, watcher)
            assert done.outcome == "failed" and "cannot run the sine motion that a sweep needs" in done.report["why"]

    virtually(work)


def test_a_board_of_another_language_is_not_spoken_to_further(tmp_path: Path) -> None:
    """The greeting is all that is said, and it is answered otherwise than the language says."""

    async def work() -> None:
        text = (DATA / "dialects" / "moss.toml").read_text(encoding="utf-8")
        other, _ = check_dialect(
            text.replace('ask = "who is there"', 'ask = "how warm"')
            .replace('[readings.warmth]\nask = "how warm"', '[readings.warmth]\nask = "warmth"')
            .replace('[readings.heat]\nask = "how warm"', '[readings.heat]\nask = "warmth"')
            .replace('[readings.air]\nask = "how warm"', '[readings.air]\nask = "warmth"')
        )
        assert other is not None
        async with spoken(tmp_path, "moss") as (session, simulated, _):
            from ublet.core.dialect.parts import parts_of
            from ublet.link.end import LinkListeners
            from ublet.link.transport import memory_pair

            ours, theirs = memory_pair()
            theirs.received, simulated.service.send = simulated.service.received, theirs.write
            client = DialectClient(ours, other, parts_of(session.document.machine), LinkListeners())
            with pytest.raises(LinkLost, match="not the language moss"):
                await client.hello()
            client.close()

    virtually(work)


def test_dialects_beside_a_machine_file_come_before_shipped_ones(tmp_path: Path) -> None:
    (tmp_path / "dialects").mkdir()
    text = (DATA / "dialects" / "moss.toml").read_text(encoding="utf-8")
    (tmp_path / "dialects" / "moss.toml").write_text(text.replace("plain words", "my words", 1), encoding="utf-8")
    (tmp_path / "dialects" / "broken.toml").write_text("name = 1\n", encoding="utf-8")
    known = dialects_for(tmp_path)
    assert set(known) == {"broken", "moss", "slate"} and known["broken"].language is None
    assert known["moss"].path.parent.parent == tmp_path
    with pytest.raises(DialectError, match=r"broken.toml:1: name: found 1"):
        dialect_named("broken", tmp_path)
    with pytest.raises(DialectError, match="known: moss, slate, broken"):
        dialect_named("fern", tmp_path)


CHOOSES = {"session/connection.py", "session/session.py", "session/dialect_try.py"}
"""Where the language of a line is chosen, or tried; nobody else above the link knows which one it is."""


def test_nothing_above_the_link_knows_its_language() -> None:
    source = Path(ublet.__file__).parent
    ends = {"ublet.link.client", "ublet.link.rpc", "ublet.link.dialect_client", "ublet.link.dialect_controller"}
    knows = set()
    for floor in ("session", "tui", "cli", "core"):
        for path in (source / floor).rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                if isinstance(node, ast.ImportFrom) and node.module in ends:
                    names = {one.name for one in node.names} - {"NO_NEWS_S"}
                    if names:
                        knows.add(str(path.relative_to(source)))
    assert knows == CHOOSES


def test_a_board_that_does_not_say_how_far_off_an_end_was_is_homed_nevertheless(tmp_path: Path) -> None:
    text = (DATA / "dialects" / "moss.toml").read_text(encoding="utf-8")
    language, problems = check_dialect(text.replace(", {shift_mm|-} off", ""))
    assert language is not None, problems

    async def work() -> None:
        async with spoken(tmp_path, language) as (session, _, watcher):
            done = await execute(order_for("homing", ["repeats=3"], False, False), session, watcher)
            assert done.outcome == "proven" and "How well X and Y and Z repeats is not known" in done.report["why"]
            assert not done.report["findings"]

    virtually(work)


def test_readings_that_come_unasked_are_taken(tmp_path: Path) -> None:
    text = (DATA / "dialects" / "moss.toml").read_text(encoding="utf-8")
    language, problems = check_dialect(
        text.replace('ask = "how warm"\n', "").replace('ask = "who is there"', 'ask = "who"')
    )
    assert language is not None, problems

    async def work() -> None:
        async with spoken(tmp_path, language) as (session, _, watcher):
            done = await execute(order_for("sensors-at-rest", [], False, False), session, watcher)
            assert done.outcome == "proven", done.report["why"]
            assert not any(message["line"] == "how warm" for _, message in session.connection.talk)

    virtually(work)


def test_a_language_without_pressure_advance_is_not_sent_to_build_an_image(tmp_path: Path) -> None:
    language = dialect_named("moss", tmp_path)
    words = lacking_words(TRIALS["advance-lines"].uses(Document(machine_path("wren-180")).machine), language.can())
    assert "its language has no lines, or no setting of it" in words and "module" not in words


def test_where_nobody_follows_readings_they_are_asked_for_less_often(tmp_path: Path) -> None:
    async def work() -> None:
        async with spoken(tmp_path, "moss") as (session, _, _):
            connection, looks = session.connection, list[object]()
            connection.sampled.append(looks.append)
            await asyncio.sleep(2)
            looks.clear()
            await asyncio.sleep(5)
            at_rest = len(looks)
            connection.attends = lambda: True
            await asyncio.sleep(5)
            assert 15 <= at_rest <= 21 and len(looks) - at_rest >= 35

    virtually(work)
