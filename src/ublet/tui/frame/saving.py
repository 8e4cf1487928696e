"""The dialogues of writing and saving: what would change is shown first, and only what is wanted is done."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ublet.core.words import counted, several
from ublet.ledger.errors import LedgerError
from ublet.session import copying
from ublet.session.document import DocumentError
from ublet.session.saving import SaveFailed
from ublet.tui.frame.dialogs import SaveDialog, differences_text
from ublet.tui.frame.pickers import ConfirmDialog
from ublet.tui.frame.theme import Ink
from ublet.tui.trial.bench import StationBench

if TYPE_CHECKING:
    from textual.app import App

    from ublet.session.session import Session

SERIOUS_S, PASSING_S = 20, 8
MOST_NAMED = 3
"""Most settings that a line names; further ones are counted."""


async def write_draft(app: App[None], session: Session) -> bool:
    """Write the draft to the machine file, after showing it; False when it was not written."""
    if not session.draft.dirty:
        return True
    name = session.document.path.name
    text = differences_text(session.draft.changes())
    text.append("\nComments and order stay; the present file is kept beside it as .previous.", Ink.dim)
    if await app.push_screen_wait(ConfirmDialog(f"Write these to {name}?", text, "write the file")) != "yes":
        return False
    try:
        count = copying.write_draft(session)
    except DocumentError as error:
        app.notify(str(error), title="Not written", severity="error", timeout=SERIOUS_S)
        return False
    settings = counted(count, "setting")
    message = f"{settings} written to {name}. The board gets them at “write to board”."
    app.notify(message, title="Written", timeout=PASSING_S)
    return True


async def save_kept(app: App[None], session: Session) -> None:
    """Save what was kept, in the board's store and the file together, after showing it."""
    if not session.unsaved():
        return
    if why := session.barred():
        app.notify(why, title="Not saved", severity="error", timeout=SERIOUS_S)
        return
    file = session.document.path.name
    note = "The present machine file is kept beside it as .previous."
    about = session.connection.about
    stores = about is None or about.stores
    wanted = await app.push_screen_wait(SaveDialog(session.unsaved(), file, note, stores))
    if wanted is None:
        return
    try:
        count = await session.save(set(wanted.split("\n")))
    except (SaveFailed, LedgerError) as error:
        app.notify(str(error), title="Not saved", severity="error", timeout=SERIOUS_S)
    else:
        settings = counted(count, "setting")
        places = f"board's store and {file}" if stores else file
        message = f"{settings} saved: {places}, read back the same."
        app.notify(message, title="Saved", timeout=PASSING_S)
        for bench in app.query(StationBench):  # in the line that is looked at, too
            if bench.display:
                named = several(wanted.split("\n")[:MOST_NAMED])
                more = f" and {count - MOST_NAMED} more" if count > MOST_NAMED else ""
                bench.say(f"✓ Saved in {'the ' if stores else ''}{places}: {named}{more}.", Ink.good)
