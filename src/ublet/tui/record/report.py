"""The bench of the commissioning report: the text as it is sent with a question, and keys that write it to files."""

from __future__ import annotations

import asyncio

from rich.text import Text
from textual.binding import Binding

from ublet.core.route import GLYPHS
from ublet.core.trouble import Trouble
from ublet.session.files import free_name
from ublet.session.machine_report import report_of, write_report
from ublet.tui.frame.help import Help
from ublet.tui.frame.theme import Ink
from ublet.tui.record.scrolled import ScrolledBench

REPORT_HELP = Help(
    """\
    A few pages to keep with the machine, or a plain text to send with a question.
    """,
    """\
    It says where every station stands, with figure, uncertainty and age; what is open, what is stale and why; the
    conditions; the settings that differ from the file that the machine began as; findings are drawn. It names no paths,
    no ports and no people: your own notes are left out. p writes it as PDF on A4, P on letter, v as drawings, t as
    plain text, d as data, beside the machine file.
    """,
)

INKS = {"proven": Ink.good, "stale": Ink.focus, "failed": Ink.stop}


class ReportBench(ScrolledBench):
    """The report's text, to be scrolled."""

    kind = "report"
    title = "Report"
    why = "the state of the whole machine, to keep or to send"
    help = REPORT_HELP
    BINDINGS = [
        Binding("p", "write('pdf', 'a4')", "PDF", tooltip="Write it as PDF on A4, beside the machine file"),
        Binding("P", "write('pdf', 'letter')", "letter", tooltip="Write it as PDF on letter"),
        Binding("v", "write('svg', 'a4')", "SVG", tooltip="Write a drawing for each page"),
        Binding("t", "write('txt', 'a4')", "text", tooltip="Write the plain text"),
        Binding("d", "write('json', 'a4')", "data", tooltip="Write it as data"),
    ]

    def body_text(self) -> Text:
        """The report's text."""
        if not self.session.ledger.run_count:
            return Text("Nothing was done on this machine yet: what is proven will stand here.", Ink.dim)
        text = Text(no_wrap=True)
        glyphs = {glyph: INKS.get(state, Ink.dim) for state, glyph in GLYPHS.items()}
        for line in report_of(self.session, False).lines():
            ink = glyphs.get(line.strip()[:1], Ink.text if line.startswith(" ") else f"bold {Ink.focus}")
            text.append(f"{line}\n", Ink.dim if line.startswith("      ") else ink)
        return text

    def action_write(self, ending: str, paper: str) -> None:
        """Write it to a file that is not there yet."""
        self.run_worker(self._write(ending, paper), group="report", exclusive=True)

    async def _write(self, ending: str, paper: str) -> None:
        path = self.session.document.path
        try:
            out = free_name(path.with_name(f"{path.stem}-report.{ending}"))
            report = report_of(self.session)
            written = await asyncio.to_thread(write_report, report, out, paper)
        except (OSError, Trouble) as error:
            self.message = (f"✗ Not written: {error}.", Ink.stop)
        else:
            self.message = (f"✓ Written to {path.parent}: {', '.join(file.name for file in written)}", Ink.good)
        self.refresh_state()
