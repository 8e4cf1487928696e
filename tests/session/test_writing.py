"""Writing an image: through drops and breaks, refused in time, never half; then shadows settled and backed up."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import pytest

from tests.conftest import Rig, tern_scenario, virtually
from ublet.core.machine.edit import edited
from ublet.ledger.book import Ledger
from ublet.link.upload import UploadProgress, block_bytes, missing
from ublet.session import writing
from ublet.session.layers import rows
from ublet.session.saving import SaveFailed
from ublet.session.session import Session
from ublet.session.writing import WriteRefused

FEED, KP, RETRACT = "axes.z.maximum_feed_mm_s", "heaters.hotend.kp", "extruder.retract_mm"


def nothing(_: object) -> None:
    """Nobody looks on."""


async def write(session: Session, report_fact: Callable[[UploadProgress], None] = nothing) -> None:
    session.connection.keep()
    await session.write_image(session.plan_write(), report_fact, nothing)


def test_a_write_brings_the_file_to_the_board_and_leaves_the_shadows_to_settle(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), folder / "store.json") as rig:
            session, steps = rig.session, []
            planned = session.plan_write()
            assert {change.path for change in planned.changes} == {
                "axes.x.maximum_mm",
                FEED,
                "axes.z.acceleration_mm_s2",
                "probe.offset_x_mm",
            }
            assert session.live("axes.x.maximum_mm") == 276
            await write(session, steps.append)
            assert session.plan_write().same_as_running
            assert session.connection.image is not None and session.connection.image.slot == "B"
            assert rig.board.slots.running.digest == planned.image.digest
            assert session.live("axes.x.maximum_mm") == 286 and session.live(FEED) == 6
            assert steps[-1].done == steps[-1].total == len(planned.image.data)
            assert [(row.path, row.file, row.stored) for row in session.shadowed()] == [
                (FEED, 15, 6),
                (KP, 0.024, 0.022),
                (RETRACT, 0.8, 1.2),
            ]
            count, backup = await session.settle_shadows({FEED: "file", KP: "stored", RETRACT: "adopt"})
            assert count == 2 and backup is not None
            assert json.loads(backup.read_text(encoding="utf-8"))[FEED] == 6
            assert session.live(FEED) == 15 and FEED not in rig.board.layers.store.values
            assert session.document.value(RETRACT) == 1.2 and "retract_mm = 1.2" in rig.file.read_text(encoding="utf-8")
            assert [row.path for row in session.shadowed()] == [KP]
            kinds = {(change.kind, change.setting, change.layer) for change in session.ledger.changes()}
            assert {("settle", FEED, "stored"), ("settle", RETRACT, "file"), ("write", "image", "image")} <= kinds
            wins = {row.path: row.wins for row in rows(session.document, session.connection)}
            assert wins[FEED] == "image" and wins[KP] == "stored" and wins["machine.note"] == "file"

    virtually(work)


def test_the_upload_uses_the_line_and_the_slots_outlive_a_power_off(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), folder / "store.json") as rig:
            steps: list[UploadProgress] = []
            await write(rig.session, steps.append)
            assert steps[-1].rate > 0.9 * 25_000
            again = rig.board.slots.__class__(b"", rig.board.slots.slot_bytes, folder / "store.slots")
            assert again.running.digest == rig.board.slots.running.digest

    virtually(work)


def test_one_percent_lost_both_ways_and_two_disconnects_still_arrive_once(folder: Path) -> None:
    async def work() -> None:
        link = "[link]\nbaud = 250000\ndrop_rate = 0.01\nhost_drop_rate = 0.01\nflip_rate = 0.005\n"
        async with Rig(folder, tern_scenario(link)) as rig:
            cut_at = [60_000, 140_000]
            progress: list[UploadProgress] = []

            def report_fact(step: UploadProgress) -> None:
                progress.append(step)
                if cut_at and step.done > cut_at[0]:
                    cut_at.pop(0)
                    assert rig.host is not None and rig.host.other is not None
                    rig.host.other.close()

            await write(rig.session, report_fact)
            assert not cut_at and rig.session.plan_write().same_as_running
            resumed = [b.done for a, b in pairwise(progress) if b.elapsed_s < a.elapsed_s]
            assert len(resumed) == 2 and resumed[0] > 50_000 and resumed[1] > 130_000

    virtually(work)


@pytest.mark.parametrize("at", [1, 20_000, 150_000, 217_000])
def test_a_power_cut_at_any_byte_leaves_the_old_image(folder: Path, at: int) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), folder / "store.json") as rig:
            old = rig.board.slots.running.digest
            done = asyncio.Event()

            def report_fact(step: UploadProgress) -> None:
                if step.done >= at and not done.is_set():
                    done.set()
                    rig.board.slots.forget_upload()
                    rig.board.reset()
                    rig.host = None

            session = rig.session
            session.connection.keep()
            planned = session.plan_write()
            task = asyncio.ensure_future(session.write_image(planned, report_fact, nothing))
            await done.wait()
            assert rig.board.slots.running.digest == old and not (folder / "store.slots").exists()
            running = await task  # the app notices the restart and begins anew
            assert running.digest == planned.image.digest

    virtually(work)


def test_a_board_that_stays_away_is_told_and_nothing_is_changed(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            old = rig.board.slots.running.digest

            def report_fact(step: UploadProgress) -> None:
                if step.done > 50_000:
                    monkeypatch.setattr(rig.session.connection, "opener", refuse)
                    if rig.host is not None and rig.host.other is not None:
                        rig.host.other.close()

            with pytest.raises(WriteRefused, match="runs on with the image it had"):
                await write(rig.session, report_fact)
            assert rig.board.slots.running.digest == old

    async def refuse() -> object:
        from ublet.link.transport import PortError

        raise PortError("gone")

    virtually(work)


@pytest.mark.parametrize(
    ("replaced", "edits", "words"),
    [
        ({'firmware = "0.1.0"': 'firmware = "9.0.0"'}, {}, "older than 9.0.0"),
        ({'board = "larch-6"': 'board = "rowan-8"'}, {}, "made for larch-6, this board is rowan-8"),
        ({"slot_bytes = 262144": "slot_bytes = 200000"}, {}, "a slot of this board takes 200,000"),
    ],
)
def test_foreign_old_and_large_images_are_refused_by_app_and_board_alike(
    folder: Path, replaced: dict[str, str], edits: dict[str, object], words: str
) -> None:
    async def work() -> None:
        from ublet.link.client import BoardRefused

        async with Rig(folder, tern_scenario(replaced=replaced)) as rig:
            planned = rig.session.plan_write()
            assert planned.refused is not None and words in planned.refused
            with pytest.raises(WriteRefused, match="Not written"):
                await rig.session.write_image(planned, nothing, nothing)
            head = {
                "size": len(planned.image.data),
                "digest": planned.image.digest,
                "board": "larch-6",
                "firmware": "1.1.0",
            }
            with pytest.raises(BoardRefused):
                await rig.session.connection.call("image.begin", **head)

    virtually(work)


def test_nothing_is_written_while_something_heats_and_a_wrong_digest_is_caught(folder: Path) -> None:
    async def work() -> None:
        from ublet.link.client import BoardRefused

        async with Rig(folder, tern_scenario()) as rig:
            connection = rig.session.connection
            await connection.call("heat.target", heater="bed", celsius=40)
            with pytest.raises(WriteRefused, match="something heats"):
                await write(rig.session)
            await connection.call("heat.off")
            head = {"size": 4, "digest": "0" * 64, "board": "larch-6", "firmware": "1.1.0"}
            await connection.call("image.begin", **head)
            with pytest.raises(BoardRefused, match="not complete"):
                await connection.call("image.verify")
            assert connection.client is not None
            with pytest.raises(BoardRefused, match="outside"):
                await connection.client.block(2, b"\x18\x0a\x10")
            await connection.client.block(0, b"\x18\x0a\x10\x0d")
            assert rig.board.mode == "ready", "a halt byte inside a block is escaped"
            with pytest.raises(BoardRefused, match="damaged"):
                await connection.call("image.verify")
            with pytest.raises(BoardRefused, match="no verified image"):
                await connection.call("image.switch")

    virtually(work)


def test_shadows_stay_when_the_backup_or_the_store_cannot_be_written(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario(), folder / "store.json") as rig:
            await write(rig.session)
            before = (dict(rig.board.layers.store.values), rig.file.read_text(encoding="utf-8"))

            def full(*_: object) -> None:
                raise OSError(28, "No space left on device")

            with monkeypatch.context() as patch:
                patch.setattr(writing, "write_atomically", full)
                with pytest.raises(SaveFailed, match="could not be backed up"):
                    await rig.session.settle_shadows({FEED: "file"})
            with monkeypatch.context() as patch:
                patch.setattr(rig.board.layers.store, "change", full)
                with pytest.raises(SaveFailed, match="Nothing was saved"):
                    await rig.session.settle_shadows({FEED: "file", RETRACT: "adopt"})
            assert (dict(rig.board.layers.store.values), rig.file.read_text(encoding="utf-8")) == before
            assert rig.session.ledger.pending_save() is None

    virtually(work)


def test_a_file_that_the_image_has_not_yet_is_stored_when_it_is_to_win(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await rig.session.settle_shadows({FEED: "file"})
            assert rig.board.layers.store.values[FEED] == 15 and rig.session.live(FEED) == 15

    virtually(work)


def test_parts_added_to_the_file_have_channels_after_the_write(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            text = edited(rig.file.read_text(encoding="utf-8"), {"fans.extra.role": "board", "fans.extra.socket": "F4"})
            rig.file.write_text(text, encoding="utf-8")
            assert session.look_at_disk() is not None
            await write(session)
            await asyncio.sleep(1)
            assert session.connection.channel("fans.extra") == 0.0
            assert session.connection.channel("sensors.bed") == pytest.approx(23, abs=1)

    virtually(work)


def test_what_is_missing_is_cut_into_blocks() -> None:
    assert list(missing(10, [], 4)) == [(0, 4), (4, 8), (8, 10)]
    assert list(missing(10, [[0, 4], [8, 9]], 4)) == [(4, 8), (9, 10)]
    assert list(missing(10, [[0, 10]], 4)) == []
    assert (block_bytes(9600), block_bytes(115_200), block_bytes(250_000)) == (128, 460, 1000)


def test_the_ledger_knows_edits(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            rig.session.draft.set("axes.x.maximum_feed_mm_s", 250.0)
            assert rig.session.write_draft() == 1
            change = rig.session.ledger.changes("edit")[0]
            assert (change.setting, change.before, change.after) == ("axes.x.maximum_feed_mm_s", 300, 250)
        book = Ledger(folder / "tern-280.ledger")
        assert len(book.changes("edit")) == 1
        book.close()

    virtually(work)
