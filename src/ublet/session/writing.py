"""Writing to the board: the image judged before anything is sent, uploaded through breaks, verified, switched."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from ublet.core.capabilities import lacking_words
from ublet.core.machine.compare import Difference, differences
from ublet.core.machine.image import Head, Image, version_of, why_not
from ublet.core.machine.modules import ModulePlan
from ublet.core.settings import Value
from ublet.core.trouble import Trouble
from ublet.ledger.book import Ledger
from ublet.ledger.entries import Change
from ublet.ledger.errors import LedgerError
from ublet.link.controller import UploadProgress
from ublet.link.end import LinkEnd
from ublet.link.errors import BoardRefused, LinkLost
from ublet.link.replies import RunningImage
from ublet.session.connection import Connection
from ublet.session.document import Document
from ublet.session.files import write_atomically
from ublet.session.saving import now

RECONNECT_S = 30.0
"""A board that stays away longer than this ends the upload; what it has is kept for the next try."""

RESTART_S = 30.0
MOST_RESTARTS = 3
"""A board that restarts more often during one upload has another trouble."""

UNBEGUN = 6
"""The protocol's code of a board that knows of no upload."""


class WriteRefused(Trouble):
    """The image cannot be written; the message says why. The board runs on as before."""


class StayedAway(WriteRefused):
    """The board is gone, in the middle of a write or after its restart."""

    exit_code = 3


@dataclass(frozen=True)
class Planned:
    """What a write would do: the image, its modules, the settings in which it differs from the running one."""

    image: Image
    plan: ModulePlan
    changes: tuple[Difference, ...]
    modules_added: tuple[str, ...]
    modules_removed: tuple[str, ...]
    refused: str | None

    @property
    def same_as_running(self) -> bool:
        """Whether the board runs this very image."""
        return not self.changes and not self.modules_added and not self.modules_removed


def plan_write(document: Document, connection: Connection) -> Planned:
    """Build the image and hold it against the board, without sending anything.

    Raises:
        ImageError, PictureError: it cannot be built.
    """
    image, plan = document.image()
    takes_image = connection.linked and "image" in connection.can
    running = {path: layers.image for path, layers in connection.layers.items()} if takes_image else {}
    changes = differences(running, image.settings) if running else []
    about = connection.image if takes_image else None
    has = set(about.modules) if about else set()
    return Planned(
        image,
        plan,
        tuple(changes),
        tuple(name for name in image.modules if name not in has) if about else (),
        tuple(name for name in sorted(has) if name not in image.modules),
        _refused(image, plan, connection),
    )


def _refused(image: Image, plan: ModulePlan, connection: Connection) -> str | None:
    """Why the board would refuse it, or None; by what is known without sending."""
    if plan.overflow_bytes:
        return f"the image overflows the slot by {plan.overflow_bytes:,} bytes: leave modules out first"
    if connection.about is None or connection.image is None:
        return None
    if lacking := lacking_words(("image",), connection.can):
        return lacking
    if len(image.data) > connection.image.slot_bytes:
        return f"the image has {len(image.data):,} bytes, a slot of this board takes {connection.image.slot_bytes:,}"
    return why_not(Head(connection.about.board, version_of(connection.image.firmware), ""), image.head)


async def write_image(
    planned: Planned,
    connection: Connection,
    ledger: Ledger,
    baud: int,
    on_progress: Callable[[UploadProgress], None],
    say: Callable[[str], None],
) -> RunningImage:
    """Upload, verify by digest, switch; wait for the board to come back with the new image.

    A lost link is waited for, and the upload goes on where it ended. say gets each phase in words.

    Raises:
        WriteRefused: the board says no, does not come back, or runs something else afterwards.
    """
    image = planned.image
    if planned.refused:
        raise WriteRefused(f"Not written: {planned.refused}.")
    head = {
        "size": len(image.data),
        "digest": image.digest,
        "board": image.head.board,
        "firmware": image.head.version,
    }
    before = connection.image
    try:
        await _through_breaks(connection, head, image.data, baud, on_progress, say)
        say("restarting")
        await _switch(connection, image.digest)
    except BoardRefused as error:
        raise WriteRefused(f"The board refused: {error}. It runs on with the image it had.") from error
    running = connection.image
    if running is None or running.digest != image.digest:
        raise WriteRefused("The board came back with another image than the one that was sent; nothing else changed.")
    old = f"{before.firmware} {before.digest[:8]}" if before else None
    with contextlib.suppress(LedgerError):
        ledger.add_changes(
            [Change(now(), "write", None, "image", "image", old, f"{running.firmware} {running.digest[:8]}")]
        )
    return running


async def _through_breaks(
    connection: Connection,
    head: dict[str, object],
    data: bytes,
    baud: int,
    on_progress: Callable[[UploadProgress], None],
    say: Callable[[str], None],
) -> None:
    restarts = 0
    while True:
        client = connection.client
        if client is not None and connection.about is not None:
            say("uploading")
            try:
                await connection.controller.upload(head, data, baud, on_progress)
                return
            except BoardRefused as error:
                if error.code != UNBEGUN or restarts >= MOST_RESTARTS:
                    raise
                restarts += 1
                say("the board restarted meanwhile: from the beginning")
                await asyncio.sleep(1.0)
                continue
            except LinkLost:
                pass
        say("link lost: the upload goes on when the board is back")
        if not await _until(partial(_linked_anew, connection, client), RECONNECT_S):
            raise StayedAway(
                f"The link stayed away for {RECONNECT_S:.0f} s. The board runs on with the image it had; what it has "
                "of the new one is used at the next try, unless its power goes."
            )


def _linked_anew(connection: Connection, before: LinkEnd | None) -> bool:
    return connection.linked and connection.client is not before


async def _switch(connection: Connection, digest: str) -> None:
    """Switch slots and wait until the board has restarted and was greeted."""
    try:
        await connection.controller.switch()
    except BoardRefused:
        # a lost reply is asked for again, and then finds the switch done
        if connection.client is None or (await connection.controller.image()).digest != digest:
            raise
    except LinkLost:
        pass  # the restart can take the link away before the reply
    if not await _until(lambda: connection.image is not None and connection.image.digest == digest, RESTART_S):
        raise StayedAway("The board did not come back after the switch: switch its power off and on.")


async def _until(there: Callable[[], bool], seconds: float) -> bool:
    """Wait for something; False when it does not come in time."""
    loop = asyncio.get_running_loop()
    end = loop.time() + seconds
    while not there():
        if loop.time() > end:
            return False
        await asyncio.sleep(0.05)
    return True


def back_up_store(document: Document, connection: Connection) -> Path:
    """Write what the board has stored beside the machine file, before it is changed.

    Raises:
        OSError: it could not be written.
    """
    stored: dict[str, Value] = {p: layer.stored for p, layer in connection.layers.items() if layer.stored is not None}
    stamp = now().replace(":", "").replace("+0000", "Z")
    path = document.path.with_name(f"{document.path.stem}.store-{stamp}.json")
    write_atomically(path, json.dumps(stored, indent=1, sort_keys=True, ensure_ascii=False) + "\n")
    return path
