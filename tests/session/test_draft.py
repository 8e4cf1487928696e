"""The draft: edits with undo and redo, checks as one types, and another program that writes the same file."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import Rig, machine_text, tern_scenario, virtually
from ublet.core.machine.edit import edited
from ublet.session.document import Document, DocumentError
from ublet.session.draft import Draft, EditError

FEED, KP = "axes.x.maximum_feed_mm_s", "heaters.hotend.kp"
EDITS = [(FEED, 100.0), (FEED, 200.0), ("modules.arcs", True), ("modules.arcs", None)]


@pytest.fixture
def draft(folder: Path) -> Draft:
    file = folder / "m.toml"
    file.write_text(machine_text(), encoding="utf-8")
    return Draft(Document(file))


def elsewhere(draft: Draft, **edits: object) -> None:
    """Another program writes the file."""
    path = draft.document.path
    named = {name.replace("__", "."): value for name, value in edits.items()}
    path.write_text(edited(path.read_text(encoding="utf-8"), named), encoding="utf-8")  # type: ignore[arg-type]


def test_edits_undo_redo_and_write(draft: Draft) -> None:
    assert not draft.dirty and not draft.can_undo
    draft.set(FEED, 250.0)
    draft.set("machine.note", "new belts")
    assert [(c.path, c.before, c.after) for c in draft.changes()][1] == (FEED, 300, 250)
    assert draft.undo() and draft.given("machine.note") != "new belts" and draft.given(FEED) == 250
    assert draft.redo() and draft.given("machine.note") == "new belts"
    draft.revert()
    assert not draft.dirty and draft.undo() and draft.dirty
    assert draft.write() == 2 and not draft.dirty
    assert Document(draft.document.path).value(FEED) == 250
    previous = draft.document.path.with_name("m.toml.previous")
    assert previous.read_text(encoding="utf-8") == machine_text()


@settings(max_examples=10, deadline=None)
@given(st.lists(st.sampled_from(EDITS), max_size=8))
def test_undoing_everything_gives_the_file_and_redoing_everything_the_edits(edits: list[tuple[str, object]]) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "m.toml"
        file.write_text(machine_text(), encoding="utf-8")
        draft = Draft(Document(file))
        for path, value in edits:
            draft.set(path, value)  # type: ignore[arg-type]
        end = draft.text
        while draft.undo():
            pass
        assert draft.text == machine_text()
        while draft.redo():
            pass
        assert draft.text == end


def test_a_draft_with_errors_is_not_written_and_says_what_to_mend(draft: Draft) -> None:
    draft.set("endstops.y.socket", "I1")
    with pytest.raises(DocumentError, match=r"mend 1 error first\.\n.*endstops\.y\.socket"):
        draft.write()
    assert draft.document.path.read_text(encoding="utf-8") == machine_text() and draft.dirty


def test_values_are_checked_against_the_rest_before_they_are_taken(draft: Draft) -> None:
    (problem,) = draft.try_value("endstops.y.socket", "I1")
    assert problem.key == "endstops.y.socket" and "endstops.x.socket" in problem.found
    assert draft.try_value("axes.z.maximum_feed_mm_s", 14.0) == ()
    assert draft.try_value("axes.z.maximum_feed_mm_s", 900.0)[0].key == "axes.z.maximum_feed_mm_s"
    assert not draft.dirty


def test_parts_are_added_with_values_to_start_from(draft: Draft) -> None:
    draft.add("endstops.z")
    assert draft.given("endstops.z.socket") == "I4" and not draft.checked.errors
    draft.remove("endstops.z")
    with pytest.raises(EditError):
        draft.remove("endstops.z")
    draft.remove("card")
    assert draft.given("card.socket") is None and not draft.checked.errors


def test_what_another_program_writes_is_taken_in_below_my_edits(draft: Draft) -> None:
    assert draft.meet() is None
    elsewhere(draft, machine__note="from elsewhere")
    assert draft.meet() == [] and not draft.dirty
    draft.set(FEED, 222.0)
    elsewhere(draft, bed__margin_mm=9.0)
    assert draft.meet() == []
    assert draft.given(FEED) == 222 and draft.given("bed.margin_mm") == 9
    assert [change.path for change in draft.changes()] == [FEED]


def test_a_collision_is_named_and_either_side_can_win(draft: Draft) -> None:
    draft.set(FEED, 222.0)
    draft.set("machine.note", "mine")
    elsewhere(draft, axes__x__maximum_feed_mm_s=111.0, machine__note="theirs")
    conflicts = draft.meet()
    assert conflicts is not None
    assert {(c.path, c.mine, c.theirs) for c in conflicts} == {(FEED, 222, 111), ("machine.note", "mine", "theirs")}
    assert draft.given(FEED) == 222
    draft.yield_to([c for c in conflicts if c.path == FEED])
    assert draft.given(FEED) == 111 and draft.given("machine.note") == "mine"


def test_a_file_broken_by_another_program_loses_nothing(draft: Draft) -> None:
    draft.set(FEED, 222.0)
    draft.document.path.write_text("[machine\n", encoding="utf-8")
    with pytest.raises(DocumentError):
        draft.meet()
    assert draft.given(FEED) == 222 and draft.document.machine.machine.name == "Tern 280"
    with pytest.raises(DocumentError, match="another program"):
        draft.write()


def test_the_session_notices_by_itself_and_a_save_of_kept_values_keeps_the_edits(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            assert session.look_at_disk() is None
            session.draft.set(FEED, 222.0)
            elsewhere(session.draft, bed__margin_mm=9.0)
            os.utime(rig.file, (1, 1))
            seen = session.look_at_disk()
            assert seen is not None and "nothing collided" in seen[0] and session.look_at_disk() is None
            await session.connection.write_live({KP: 0.05})
            await session.save()
            assert session.document.value(KP) == 0.05 and session.document.value(FEED) == 300
            assert [change.path for change in session.draft.changes()] == [FEED]
            rig.file.write_text("x = [", encoding="utf-8")
            seen = session.look_at_disk()
            assert seen is not None and "cannot be used as it is" in seen[0]
            assert session.draft.given(FEED) == 222

    virtually(work)
