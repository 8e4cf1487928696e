"""The bench of the port: which ports there are, which one comes and goes, and how good the link is."""

from __future__ import annotations

import asyncio

from rich.text import Text
from textual.app import ComposeResult
from textual.widgets import Static

from ublet.link.ports import Port, PortWatch, list_ports
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.style import style_beside
from ublet.tui.frame.theme import Ink
from ublet.tui.trial.bench import Bench

LOOK_S = 0.5
MOST_TOLD = 6

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


class PortBench(Bench):
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
        self._told: list[str] = []

    def compose(self) -> ComposeResult:
        """Heading, link, ports."""
        yield Static(id="heading")
        yield Static(id="link")
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
        self._told = (self._watch.look(self._ports) + self._told)[:MOST_TOLD]
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
        for line in self._told:
            text.append(f"◆ {line}\n", Ink.focus)
        self.write("ports", text)

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
        text.append(f", image of {image.machine}\n" if image else "\n", Ink.text)
        for name, value, good in (
            ("round trip", f"{1000 * quality.round_trip_s:.0f} ms", quality.round_trip_s < 0.2),
            ("spoilt lines", f"{quality.bad_sums}", quality.bad_sums < 10),
            ("asked again", f"{quality.retries}", quality.retries < 10),
            ("samples made up for", f"{quality.recovered_samples}", True),
        ):
            text.append(f"  {name:<22}", Ink.dim)
            text.append(f"{value:>8}\n", f"bold {Ink.focus}" if good else f"bold {Ink.stop}")
        return text
