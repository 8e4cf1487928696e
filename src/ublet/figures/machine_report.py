"""A machine's report as pages: the machine to scale and what is open, every station, charts, settings and wiring."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

import numpy as np

INK, QUIET, COPPER, RUST, GREEN, STONE = "#14130f", "#8d8574", "#8a6418", "#a3341c", "#3f6b3a", "#6f8fae"
STATES = {"proven": GREEN, "stale": COPPER, "failed": RUST, "open": QUIET, "waiting": QUIET, "running": STONE}
PAPERS = {"a4": (8.27, 11.69), "letter": (8.5, 11.0)}
"""Width and height of a page, inch."""

MARGIN, LINE = 0.7, 0.165
"""Inch: around a page, and from one line to the next."""

CHARTS_ON_PAGE = 6
WRAPS = 100
"""Characters of a line of running text."""


class Drawn(Protocol):
    """What the pages show of a chart."""

    title: str
    x: str
    y: str
    curves: Mapping[str, np.ndarray]
    level: float | None
    dots: bool


class Page:
    """A page being written from its top; inch from the upper left corner."""

    def __init__(self, paper: str, title: str, number: int) -> None:
        from matplotlib.figure import Figure

        self.wide, self.high = PAPERS[paper]
        self.figure = Figure(figsize=(self.wide, self.high))
        self.at = MARGIN
        self._text(MARGIN, self.high - 0.4, f"{title} · page {number}", QUIET, 7)

    @property
    def left(self) -> int:
        """Lines that still fit."""
        return int((self.high - MARGIN - self.at) / LINE)

    def head(self, words: str, size: float = 11) -> None:
        """A heading."""
        self.at += 0.12
        self._text(MARGIN, self.at, words, INK, size, "bold")
        self.at += LINE + 0.02 * size

    def line(self, words: str, ink: str = INK, indent: float = 0.0, size: float = 8) -> None:
        """A line of running text."""
        self._text(MARGIN + indent, self.at, words, ink, size)
        self.at += LINE

    def cells(self, cells: Sequence[tuple[float, str, str]], size: float = 8) -> None:
        """A row of a table: cells with their distance from the margin, inch, and their colour."""
        for at, words, ink in cells:
            self._text(MARGIN + at, self.at, words, ink, size)
        self.at += LINE

    def axes(self, left: float, top: float, wide: float, high: float) -> Any:
        """Axes at a place of the page."""
        return self.figure.add_axes(
            (left / self.wide, 1 - (top + high) / self.high, wide / self.wide, high / self.high)
        )

    def _text(self, x: float, y: float, words: str, ink: str, size: float, weight: str = "normal") -> None:
        self.figure.text(
            x / self.wide,
            1 - y / self.high,
            words,
            color=ink,
            fontsize=size,
            fontweight=weight,
            va="top",
            parse_math=False,
        )


def draw_report(report: Any, out: Path, paper: str) -> list[Path]:
    """Write the pages of a report (``session.machine_report.MachineReport``): one PDF, or an SVG for each page, the
    further ones numbered beside the first.

    Raises:
        OSError: it cannot be written.
    """
    pages = list(_pages(report, paper))
    if out.suffix.lower() == ".pdf":
        from matplotlib.backends.backend_pdf import PdfPages

        with PdfPages(out, metadata={"Creator": "Ublet", "Title": f"Report of {report.name}"}) as book:
            for page in pages:
                book.savefig(page.figure)
        return [out]
    files = [out if number == 1 else out.with_stem(f"{out.stem}-{number}") for number in range(1, len(pages) + 1)]
    for file, page in zip(files, pages, strict=True):
        page.figure.savefig(file, format="svg", metadata={"Creator": "Ublet"})
    return files


def _pages(report: Any, paper: str) -> Iterator[Page]:
    numbers = iter(range(1, 1000))

    def new() -> Page:
        return Page(paper, f"{report.name}, {report.at[:10]}", next(numbers))

    yield from _first(report, new)
    yield from _stations(report, new)
    yield from _charts(report, new)
    yield from _lists(report, new)


def _first(report: Any, new: Callable[[], Page]) -> Iterator[Page]:
    page = new()
    page.head(report.name, 18)
    page.at += 0.1
    page.line(report.kind, QUIET, size=9)
    page.line(f"{report.summary}; {report.at[:10]}", INK, size=9)
    _machine(page, report)
    for head, lines in (
        ("Open", report.open_points),
        ("Stale, and why", report.stale),
        ("To do again, in this order", [_again(step) for step in report.redo]),
        ("Conditions", report.conditions),
    ):
        if not lines:
            continue
        page.head(head)
        for words in [part for line in lines for part in textwrap.wrap(line, WRAPS, subsequent_indent="   ")]:
            if page.left < 2:
                yield page
                page = new()
            page.line(words)
    if not report.open_points and not report.stale:
        page.head("Nothing is open and nothing is stale.")
    yield page


def _again(step: Any) -> str:
    return f"{step.station}: {step.trial}{'' if step.sure else ' (only if one before it gives another value)'}"


def _machine(page: Page, report: Any) -> None:
    """The machine from above, to scale."""
    from matplotlib.patches import Rectangle

    page.at += 0.15
    high = 3.6
    axes = page.axes(MARGIN, page.at, page.wide - 2 * MARGIN, high)
    axes.set_aspect("equal")
    axes.axis("off")
    inks = {"reach of the nozzle": (QUIET, "--"), "bed": (INK, "-"), "mesh": (COPPER, "-")}
    low_x, low_y = (min(area[at] for area in report.areas.values()) for at in (0, 1))
    high_x, high_y = (max(area[at] for area in report.areas.values()) for at in (2, 3))
    for name, (x0, y0, x1, y1) in report.areas.items():
        ink, dashes = inks[name]
        axes.add_patch(Rectangle((x0, y0), x1 - x0, y1 - y0, fill=False, ec=ink, ls=dashes, lw=1.0))
    for name, (x, y) in report.places.items():
        axes.plot([x], [y], "o", color=COPPER, ms=4)
        axes.annotate(name, (x, y), xytext=(4, 4), textcoords="offset points", fontsize=6.5, color=INK)
        low_x, high_x = min(low_x, x), max(high_x, x)
        low_y, high_y = min(low_y, y), max(high_y, y)
    axes.set_xlim(low_x - 20, high_x + 55)
    axes.set_ylim(low_y - 15, high_y + 15)
    page.at += high + 0.1
    sizes = [(name, f"{area[2] - area[0]:g} x {area[3] - area[1]:g} mm") for name, area in report.areas.items()]
    page.cells([(2.3 * number, f"{name}: {size}", inks[name][0]) for number, (name, size) in enumerate(sizes)], 7.5)


def _stations(report: Any, new: Callable[[], Page]) -> Iterator[Page]:
    page, leg = new(), ""
    page.head("Every station", 14)
    for row in report.rows:
        if row.state.idle:
            continue
        if page.left < 5:
            yield page
            page = new()
        if row.leg != leg:
            leg = row.leg
            page.head(leg, 9.5)
        ink = STATES[row.state.state]
        page.cells(
            (
                (0.0, row.state.state, ink),
                (0.65, row.station, INK),
                (1.9, row.state.figure, INK),
                (3.1, row.age, QUIET),
                (3.7, textwrap.shorten(row.found, 60, placeholder=" ..."), INK),
            ),
            7.5,
        )
    yield page


def _charts(report: Any, new: Callable[[], Page]) -> Iterator[Page]:
    for start in range(0, len(report.charts), CHARTS_ON_PAGE):
        page = new()
        page.head("Findings, drawn", 14)
        wide, high = (page.wide - 2 * MARGIN - 0.5) / 2, (page.high - page.at - MARGIN) / 3 - 0.75
        for number, chart in enumerate(report.charts[start : start + CHARTS_ON_PAGE]):
            left = MARGIN + 0.3 + (number % 2) * (wide + 0.4)
            top = page.at + 0.3 + (number // 2) * (high + 0.8)
            _chart(page.axes(left, top, wide - 0.2, high), chart)
        yield page


def _chart(axes: Any, chart: Drawn) -> None:
    inks = [COPPER] if len(chart.curves) == 1 else [STONE, COPPER, RUST, GREEN, QUIET, INK, "#b08d3c"]
    style: dict[str, Any] = {"ls": "", "marker": "o", "ms": 3} if chart.dots else {}
    for number, (name, points) in enumerate(chart.curves.items()):
        axes.plot(points[:, 0], points[:, 1], color=inks[number % len(inks)], lw=1.0, label=name, **style)
    if chart.level is not None:
        axes.axhline(chart.level, color=INK, lw=0.6, ls=(0, (4, 2)))
    axes.set_title(chart.title, fontsize=8, color=INK, loc="left")
    axes.set_xlabel(chart.x, fontsize=7)
    axes.set_ylabel(chart.y, fontsize=7)
    axes.tick_params(labelsize=6.5, color=INK)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    if len(chart.curves) > 1:
        axes.legend(frameon=False, fontsize=6, ncols=2)


def _lists(report: Any, new: Callable[[], Page]) -> Iterator[Page]:
    page = new()
    page.head(f"Settings that differ from {report.preset}", 14)
    if not report.changed:
        page.line("None.", QUIET)
    for one in report.changed:
        if page.left < 2:
            yield page
            page = new()
        before, after = (textwrap.shorten(_shown(value), 34, placeholder=" ...") for value in (one.before, one.after))
        page.cells(((0.0, one.path, INK), (3.3, before, QUIET), (5.2, after, INK)), 7.5)
    if page.left < 8:
        yield page
        page = new()
    page.head("Wiring", 14)
    for socket, part in report.wiring:
        if page.left < 2:
            yield page
            page = new()
        page.cells(((0.0, socket, COPPER), (0.8, part, INK)), 7.5)
    yield page


def _shown(value: Any) -> str:
    from ublet.core.typed import shown_value

    return shown_value(value, 4) or "—"
