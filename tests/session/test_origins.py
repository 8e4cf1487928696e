"""Where each layer's value came from: the file's line, the image, what was kept and saved, and by which run."""

from __future__ import annotations

from pathlib import Path

from tests.conftest import Rig, tern_scenario, virtually
from ublet.core.machine.edit import edited
from ublet.core.run import Option, Proposal
from ublet.session.layers import rows
from ublet.session.origins import Origin, origins
from ublet.session.session import Session


def told(session: Session, path: str) -> dict[str, Origin]:
    row = next(row for row in rows(session.document, session.connection) if row.path == path)
    return {str(each.layer): each for each in origins(session, row)}


def option(path: str, before: float, after: float) -> Option:
    return Option("x", "", (Proposal(path, before, after, "", ""),), {})


def test_what_came_with_the_machine_says_so(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            kp = told(session, "heaters.hotend.kp")
            line = next(n for n, text in enumerate(session.document.text.split("\n"), 1) if text.startswith("kp ="))
            assert kp["file"].words == f"line {line} of tern-280.toml" and kp["file"].value == 0.024
            assert kp["image"].words.startswith("built into image ") and "before this ledger began" in kp["image"].words
            assert kp["stored"].wins and "stored before this ledger began" in kp["stored"].words
            assert kp["live"].words == "as in the board's store" and not kp["live"].wins
            feed = told(session, "axes.x.maximum_feed_mm_s")
            assert feed["stored"].value is None and "nothing stored" in feed["stored"].words and feed["image"].wins
            assert told(session, "axes.x.steps_per_mm")["file"].words == "not given: it follows from other settings"
            assert set(told(session, "machine.name")) == {"file"}, "no board holds it"

    virtually(work)


def test_what_was_kept_saved_and_edited_is_told_with_its_time(folder: Path) -> None:
    path = "heaters.hotend.kp"

    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            session = rig.session
            await session.keep(option(path, 0.022, 0.1), None)
            live = told(session, path)["live"]
            assert (
                live.wins and live.words.startswith("kept 20") and live.words.endswith("not saved, lost at power-off")
            )
            await session.save({path})
            kept = told(session, path)
            assert kept["stored"].wins and kept["stored"].words.startswith("saved 20")
            assert kept["file"].value == 0.1 and ", saved 20" in kept["file"].words
            session.draft.set("axes.x.maximum_mm", 285.0)
            session.write_draft()
            assert ", edited 20" in told(session, "axes.x.maximum_mm")["file"].words
            await session.connection.write_live({path: 0.2})  # by nobody that the ledger knows
            assert told(session, path)["live"].words == "changed on the board by another program; not saved"

    virtually(work)


def test_a_line_follows_the_file(folder: Path) -> None:
    async def work() -> None:
        async with Rig(folder, tern_scenario()) as rig:
            document = rig.session.document
            before = document.line("axes.x.maximum_mm")
            assert before is not None and document.line("axes.x.soft_limits") is None
            document.take("# one line more\n" + edited(document.text, {"axes.x.maximum_mm": 285.0}))
            assert document.line("axes.x.maximum_mm") == before + 1

    virtually(work)
