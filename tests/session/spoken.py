"""A session over a line language of a simulated board's own, for tests."""

from __future__ import annotations

import shutil
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

from ublet.core.dialect.language import Language
from ublet.link.dialect_client import DialectClient
from ublet.session.dialects import dialect_named
from ublet.session.headless import Looking, on_scenario
from ublet.session.library import DATA
from ublet.session.session import Session
from ublet.simulated import SimulatedMachine

BOTH = ("moss", "slate")


@asynccontextmanager
async def spoken(
    folder: Path, dialect: str | Language, machine: str = "wren-180", link: str = "", store: bool = False
) -> AsyncIterator[tuple[Session, SimulatedMachine, Looking]]:
    """A session in a dialect (empty: in the protocol) with a shipped machine. link: lines of the scenario's table of
    that name.
    """
    language = dialect if isinstance(dialect, Language) else dialect_named(dialect, folder) if dialect else None
    for name in ("machines", "scenarios"):
        shutil.copytree(DATA / name, folder / name, dirs_exist_ok=True)
    scenario = folder / "scenarios" / f"{machine}.toml"
    text = scenario.read_text(encoding="utf-8")
    if link:
        assert "[link]\n" in text
        scenario.write_text(text.replace("[link]\n", f"[link]\n{link}\n"), encoding="utf-8")
    file = folder / "machine.toml"
    if not file.exists():
        shutil.copy(folder / "machines" / f"{machine}.toml", file)
    kept = folder / "board.store" if store else None
    async with on_scenario(scenario, file, 1, lambda progress: None, kept, language) as (session, watcher):
        assert watcher.simulated is not None
        await session.connection.first_readings()
        yield session, watcher.simulated, watcher


def client_of(session: Session) -> DialectClient:
    client = session.connection.client
    assert isinstance(client, DialectClient)
    return client
