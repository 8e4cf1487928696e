"""Jumping: a letter on every station, a number on every pane; the next key goes there."""

from __future__ import annotations

import string
from collections.abc import Callable, Coroutine
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

from textual.app import ComposeResult
from textual.events import Key
from textual.screen import ModalScreen
from textual.widgets import Static

from ublet.core.route import ROUTE
from ublet.tui.frame.bright import keep_bright
from ublet.tui.frame.style import style_beside

if TYPE_CHECKING:
    from ublet.tui.frame.host import Host
    from ublet.tui.trial.bench import StationBench

LETTERS = string.ascii_lowercase + string.ascii_uppercase


@dataclass(frozen=True)
class Spot:
    """A place to jump to: its key, where that stands on the screen, and going there."""

    key: str
    column: int
    row: int
    go: Callable[[], Coroutine[Any, Any, None]]


def spots(app: Host) -> list[Spot]:
    """Every station that is on the screen, by letters; every pane of the bench, by numbers."""
    marks = []
    for number, (key, station) in enumerate(zip(LETTERS, ROUTE, strict=False)):
        spot = app.route.spot(number)
        if spot is not None:
            marks.append(Spot(key, *spot, partial(app.enter, station)))
    bench = app.bench
    if bench is not None and bench.display:
        for key, (pane, action) in zip(string.digits[1:], bench.panes(), strict=False):
            marks.append(Spot(key, pane.region.x, pane.region.y, partial(_to_pane, app, bench, action)))
    return marks


async def _to_pane(app: Host, bench: StationBench, action: str) -> None:
    bench.focus()
    if action:
        await app.run_action(action, bench)
    app.refresh_bindings()


class JumpScreen(ModalScreen[None]):
    """The letters over everything, until a key is pressed; one that stands nowhere just takes them away."""

    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    def __init__(self, targets: list[Spot]) -> None:
        super().__init__()
        self.targets = targets
        self._gone = False

    def compose(self) -> ComposeResult:
        """A label at each spot."""
        for spot in self.targets:
            label = Static(spot.key, classes="spot")
            label.styles.offset = (spot.column, spot.row)
            yield label

    def on_mount(self) -> None:
        """The live machine and HALT stay bright."""
        keep_bright(self)

    async def on_key(self, event: Key) -> None:
        """Go there, once; the next key comes when one is there."""
        event.stop()
        if self._gone:
            return
        self._gone = True
        self.dismiss()
        for spot in self.targets:
            if event.character == spot.key:
                await spot.go()
