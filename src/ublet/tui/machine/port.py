"""The bench of the port: which ports there are, which one comes and goes, and how good the link is."""

from __future__ import annotations

import asyncio
import time
from collections import deque

import numpy as np
from rich.text import Text
from textual.app import ComposeResult
from textual.widgets import Static

from ublet.core.level.reach import senses
from ublet.link.ports import Port, PortWatch, list_ports
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.chart import ChartLine, Picture, StripChart
from ublet.tui.trial.bench import StationBench

LOOK_S = 0.5
MOST_CHANGES = 6
SHOWN_S = 120.0
"""Length of the drawn history of the round trip, s."""

SLOW_MS = 200.0
"""A round trip above this is slow."""

PORT_HELP = Help(
    """\
    Everything else speaks through this line: a wrong port answers nothing, a bad cable spoils lines.
    """,
    """\
    Unplug the board and plug it in again: the port that goes and comes back is the one. Each line on the wire
    has a checksum; one that is spoilt is counted, dropped and asked for again, never guessed at. A few are no
    harm; many mean a bad cable, a hub, or a motor's wire beside the line.
    """,
)


class PortBench(StationBench):
    """Ports and link quality, live."""

    kind = "port"
    title = "Port and link"
    why = "the line to the board"
    help = PORT_HELP
    DEFAULT_CSS = style_beside(__file__)
    SCOPED_CSS = False

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._ports: tuple[Port, ...] = ()
        self._watch: PortWatch | None = None
        self._changes: list[str] = []
        self._trips: deque[tuple[float, float]] = deque(maxlen=round(SHOWN_S / LOOK_S))

    def compose(self) -> ComposeResult:
        """Heading, link, how long it takes, ports."""
        yield Static(id="heading")
        yield Static(id="link")
        yield StripChart(id="chart")
        yield Static(id="ports")

    def on_mount(self) -> None:
        """Look now, and again and again."""
        self.refresh_state()
        self.set_interval(LOOK_S, self._look_soon)
        self._look_soon()

    def _look_soon(self) -> None:
        if self.display:
            self.run_worker(self._look(), group="ports", exclusive=True)

    async def _look(self) -> None:
        self._ports = await asyncio.to_thread(list_ports)
        if self._watch is None:
            self._watch = PortWatch(self._ports)
        self._changes = (self._watch.look(self._ports) + self._changes)[:MOST_CHANGES]
        connection = self.session.connection
        if connection.linked and connection.client is not None:
            self._trips.append((time.monotonic(), 1000 * connection.client.quality.round_trip_s))
        self.query_one("#chart", StripChart).show(self._chart())
        self.beat()

    def refresh_state(self) -> None:
        """Bring the words up to date."""
        if self.is_mounted:
            self.write("heading", self.heading_words())
            self.beat()

    def beat(self) -> None:
        """Link quality and ports."""
        if not self.is_mounted:
            return
        self.write("link", self._link())
        text = Text()
        text.append("serial ports of this computer\n", Ink.dim)
        for port in self._ports:
            text.append(f"  {port.device:<22}", Ink.text)
            text.append(port.about, Ink.dim)
            text.append(f"   ✗ {port.trouble}" if port.trouble else "", Ink.stop)
            text.append("\n")
        if not self._ports:
            text.append("  none: is a board plugged in, and does its cable carry data?\n", Ink.dim)
        text.append(
            "\nUnplug the board and plug it in again: the port that goes and comes back is named here.\n", Ink.text
        )
        for line in self._changes:
            text.append(f"◆ {line}\n", Ink.focus)
        self.write("ports", text)

    def _chart(self) -> Picture:
        """The round trip as it went; a gap where there was no link."""
        now = time.monotonic()
        known = [(when - now, ms) for when, ms in self._trips if when - now >= -SHOWN_S]
        most = max([SLOW_MS / 10, *(ms for _, ms in known)])
        pieces: list[list[tuple[float, float]]] = [[]]
        for at in known:
            if pieces[-1] and at[0] - pieces[-1][-1][0] > 4 * LOOK_S:
                pieces.append([])
            pieces[-1].append(at)
        drawn = [np.array(piece) for piece in pieces if len(piece) > 1]
        curves = [ChartLine(piece[:, 0], piece[:, 1], Ink.focus) for piece in drawn]
        slow = SLOW_MS if most > SLOW_MS / 2 else None
        title = "round trip, ms, over the last two minutes"
        return Picture(curves, (-SHOWN_S, 0.0), (0.0, 1.25 * most), level=slow, title=title)

    def _link(self) -> Text:
        text, connection = Text(), self.session.connection
        client, about = connection.client, connection.about
        if client is None or about is None:
            text.append(f"✗ no link: {connection.why}", Ink.stop)
            return text
        if connection.note:
            text.append(f"! {connection.note}\n", Ink.focus)
        quality, image = client.quality, connection.image
        text.append("✓ linked   ", f"bold {Ink.good}")
        text.append(f"{about.board}, firmware {about.firmware}", Ink.text)
        if about.language:
            text.append(f", in the language {about.language}: it is asked for its readings\n", Ink.text)
            if about.switches_off:
                text.append(f"  off by itself      {about.heartbeat_window_s:>9g} s without a line\n", Ink.dim)
                text.append(f"  {self.session.silence.words()}\n", Ink.dim if self.session.silence.tried else Ink.focus)
            else:
                text.append("! does not switch off by itself when nobody talks: stay at the machine\n", Ink.stop)
            for words in from_here(connection.can, senses(self.session.document.machine)):
                text.append(f"  {words}\n", Ink.dim)
            if about.host_guards:
                text.append(f"! Ublet watches for {', '.join(about.host_guards)}: the board does not\n", Ink.focus)
        else:
            text.append(f", image of {image.machine}\n" if image else "\n", Ink.text)
        for name, value, good in (
            ("round trip", f"{1000 * quality.round_trip_s:.0f} ms", 1000 * quality.round_trip_s < SLOW_MS),
            ("spoilt lines", f"{quality.bad_sums}", quality.bad_sums < 10),
            ("asked again", f"{quality.retries}", quality.retries < 10),
            ("samples fetched later", f"{quality.recovered_samples}", True),
        ):
            text.append(f"  {name:<22}", Ink.dim)
            text.append(f"{value:>8}\n", f"bold {Ink.focus}" if good else f"bold {Ink.stop}")
        return text


def from_here(can: frozenset[str], probes: bool) -> list[str]:
    """What the host does for a board whose language lacks it, a line each. probes: whether a probe senses the bed."""
    if "programs" not in can:
        return []
    words = [] if "lines" in can else ["moves one by one, each waited for; nothing is printed"]
    return (
        words
        if "touch" in can or not probes
        else [*words, "touches by watching the probe in short steps: exact, and slow"]
    )
