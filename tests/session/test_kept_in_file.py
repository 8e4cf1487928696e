"""Settings that no board holds are kept, saved, dropped and taken up again like those of the board."""

from __future__ import annotations

from pathlib import Path

from tests.conftest import Rig, tern_scenario, virtually
from ublet.core.run import Option, Proposal
from ublet.session.document import Document
from ublet.session.session import Session

PLACE, KP = "bed.screws.left.x_mm", "heaters.hotend.kp"
FOUND = Option("as found", "", (Proposal(PLACE, -18.0, -15.5, "mm", ""),), {})
BOTH = Option("both", "", (*FOUND.proposals, Proposal(KP, 0.022, 0.14, "/°C", "")), {})


def test_it_counts_at_once_and_a_save_puts_it_into_the_file_alone(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            await session.keep(BOTH, None)
            assert session.machine_now.bed.screws["left"].x_mm == -15.5 and session.live(PLACE) == -15.5
            assert session.presence.settings()[PLACE] == -15.5
            assert Document(rig.file).value(PLACE) == -18.0
            assert {(item.setting, item.stored, item.after) for item in session.unsaved()} == {
                (PLACE, None, -15.5),
                (KP, 0.022, 0.14),
            }
            assert await session.save() == 2 and session.unsaved() == []
            assert (Document(rig.file).value(PLACE), Document(rig.file).value(KP)) == (-15.5, 0.14)
            assert PLACE not in rig.board.layers.store.values
            layers = {(c.kind, c.layer) for c in session.ledger.changes() if c.setting == PLACE}
            assert layers == {("keep", "live"), ("save", "file")}

    virtually(work)


def test_dropped_it_is_what_the_file_says_again(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await rig.session.keep(FOUND, None)
            assert [item.setting for item in await rig.session.drop()] == [PLACE]
            assert rig.session.machine_now.bed.screws["left"].x_mm == -18.0 and rig.session.unsaved() == []

    virtually(work)


def test_it_outlives_the_program_until_it_is_saved_or_the_file_says_something_else(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            await rig.session.keep(FOUND, None)
        again = Session(rig.file, rig._open, threaded=False)
        assert dict(again.kept_in_file) == {PLACE: -15.5}
        await again.close()
        text = rig.file.read_text(encoding="utf-8")
        rig.file.write_text(text.replace("\nx_mm = -18\n", "\nx_mm = -19\n"), encoding="utf-8")
        edited = Session(rig.file, rig._open, threaded=False)
        assert not edited.kept_in_file, "who wrote another value since knows better"
        await edited.close()

    virtually(work)
