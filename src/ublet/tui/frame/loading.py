"""Opening a session after the first frame: the imports that take time happen here, beside the app."""

from __future__ import annotations

import asyncio
import threading
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ublet.session.document import Faulty
    from ublet.session.session import Session


def _import_parts() -> None:
    """Load what the benches need, in a thread, so that keys are answered meanwhile."""
    import ublet.session.session
    import ublet.tui.benches  # noqa: F401


NUMERICS_AFTER_S = 2.0
"""The app is on the screen and answers by then."""


def import_numerics() -> None:
    """Load what only some trials compute with: loaded when it is needed first, it would hold every key for a second."""
    import scipy.interpolate
    import scipy.optimize
    import scipy.special  # noqa: F401


def load_numerics_later() -> None:
    """Load it beside the app; the app's end does not wait for it."""
    later = threading.Timer(NUMERICS_AFTER_S, import_numerics)
    later.daemon = True
    later.start()


async def open_session(file: Path, port: str | None, dialect: str = "") -> tuple[Session | None, str | Faulty]:
    """The session; or None and why not: the sentences, or the file's faults where it can be mended."""
    await asyncio.to_thread(_import_parts)
    from ublet.ledger.errors import LedgerError
    from ublet.link.baud import PortOpener
    from ublet.link.transport import PortError, Transport
    from ublet.session.dialects import dialect_named
    from ublet.session.document import DocumentError, Faulty
    from ublet.session.session import Session

    async def nowhere() -> Transport:
        raise PortError("No port was named: quit and open the file with --port URL.")

    def declared() -> int:
        return session.document.machine.board.baud

    try:
        language = dialect_named(dialect, file.parent) if dialect else None
        session = Session(file, nowhere if port is None else PortOpener(port, declared), language=language)
    except Faulty as faulty:
        return None, faulty
    except (DocumentError, LedgerError) as error:
        return None, str(error)
    load_numerics_later()
    session.ledger.unreadable = session.say_once  # the screen goes on without what cannot be read, and says so
    return session, ""
