"""The bench of the first layer: the patches on the bed as they are printed and judged, the nudge large beside them."""

from __future__ import annotations

from rich.text import Text
from textual.binding import Binding

from ublet.core.level.mesh.first_layer import BARE, GOOD, HIGH, LOW, VERDICTS, places_of
from ublet.core.level.mesh.first_layer_trials import JUDGED, NUDGED, LayerParameters, program_of, setting_nudged
from ublet.core.level.mesh.live import SHIFT, live_mesh
from ublet.core.level.probe.offset_trials import offset_live
from ublet.core.motion.patterns import Patch
from ublet.core.motion.running import WAY
from ublet.core.run import Series, TrialFailed
from ublet.core.settings import number_or
from ublet.session.print_order import END, START, missing, steps_of
from ublet.session.session import Session
from ublet.tui.frame.dialogs import TextDialog
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.bed_map import BedMap, bed_map
from ublet.tui.instruments.cells import Cells
from ublet.tui.instruments.large import put_large
from ublet.tui.instruments.picture import Picture
from ublet.tui.trial.recorded import RecordedBench
from ublet.tui.trial.watch import TrialWatch

LINES = {HIGH: "╭╮ ╭╮ ╭╮ ╭╮", GOOD: "▄▄▄▄▄▄▄▄▄▄▄", LOW: "▟▙▟▙▟▙▟▙▟▙▟", BARE: "           "}
"""Lines of a patch seen from their ends: apart, closed, ridged, none."""

MEANS = {HIGH: "lines apart, wiped off", GOOD: "lines closed, flat", LOW: "ridges, or see-through"}
SIDE_COLUMNS, NAMES_COLUMNS = 46, 40
"""Columns beside the bed; a bed that is drawn narrower has no room for its patches' names."""


class LayerBench(RecordedBench):
    """The height that prints."""

    kind = "layer"
    title = "First layer"
    BINDINGS = [Binding("s", "order", "start and end", tooltip="How a print begins and ends here, and why so")]
    why = "what the nozzle lays down says more of its height than any gauge"

    def action_order(self) -> None:
        """How a print begins and ends."""
        self.run_worker(self._show_order(), group="order", exclusive=True)

    async def _show_order(self) -> None:
        await self.app.push_screen_wait(
            TextDialog("How a print begins and ends on this machine", order_text(self.session))
        )

    def picture(self) -> Picture:
        """The bed with its patches, and the nudge."""

        def draw(session: Session, watched: TrialWatch | None, width: int, height: int) -> Text:
            aim = self.aim
            assert isinstance(aim, LayerParameters)
            return layer_picture(
                session,
                aim,
                {name: self.read(name) for name in (WAY.name, NUDGED.name, JUDGED.name)},
                watched is not None,
                width,
                height,
            )

        return draw


def order_text(session: Session) -> Text:
    """Both lists, each step with its reason; and what the builder's own programs miss."""
    text = Text()
    for which, words in ((START, "begins"), (END, "ends")):
        steps = steps_of(session.document, which, session)
        text.append(f"A print {words}\n", f"bold {Ink.focus}")
        for number, step in enumerate(steps, start=1):
            text.append(f"{number}. {step.does}", Ink.text)
            text.append(f": {step.why}\n", Ink.dim)
        name, lacks = missing(session.document, which, steps)
        for line in lacks:
            text.append(f"! {name}: {line}\n", Ink.focus)
        if name and not lacks:
            text.append(f"✓ {name} has them all, in this order\n", Ink.good)
        text.append("\n")
    return text.append("“ublet pattern print-start” and “print-end” write both.", Ink.dim)


def layer_picture(
    session: Session, aim: LayerParameters, read: dict[str, Series | None], running: bool, width: int, height: int
) -> Text:
    """The patches over the bed to scale, what is printed now, verdicts; at the right the nudge and what lines look
    like.
    """
    machine = session.document.machine
    cells = Cells(width, height)
    side = SIDE_COLUMNS if width >= 2 * SIDE_COLUMNS else 0
    try:
        places = places_of(machine, aim)
        drawn = bed_map(cells, machine.bed, (), width - side, height)
        now = _now(session, aim, read[WAY.name]) if running else ""
        _patches(drawn, places, read[JUDGED.name] if not now else None, now, machine.bed.width_mm)
    except TrialFailed as missing:
        return Text(f"✗ {missing}", Ink.stop)
    nudged = read[NUDGED.name]
    total = float(nudged.rows[-1, 3]) if nudged is not None and len(nudged.rows) else 0.0
    _nudge(cells, width - side + 2 if side else 0, total, now, bool(side), offset_words(session, total))
    return cells.text()


def _now(session: Session, aim: LayerParameters, way: Series | None) -> str:
    """The patch that is printed, by its name."""
    if way is None or not len(way.rows):
        return ""
    segment = int(way.rows[-1, 4])
    named = [made.place for made in program_of(session.document.machine, aim).segments[: segment + 1] if made.place]
    return named[-1] if named else ""


def _patches(drawn: BedMap, places: tuple[Patch, ...], judged: Series | None, now: str, bed_mm: float) -> None:
    """Every patch: empty, under way, or as it was judged."""
    verdicts = {int(row[0]): (VERDICTS[int(row[4])], float(row[3])) for row in judged.rows.tolist()} if judged else {}
    names, bed_columns = [patch.name for patch in places], drawn.across.last - drawn.across.first
    for number, patch in enumerate(places):
        left, top = drawn.cell((patch.x - patch.wide / 2, patch.y + patch.deep / 2))
        right, bottom = drawn.cell((patch.x + patch.wide / 2, patch.y - patch.deep / 2))
        wide, here = max(3, right - left + 1), patch.name == now
        verdict, nudge = verdicts.get(number, ("", 0.0))
        done = now == "end" or (now in names and number < names.index(now))
        fill = LINES[verdict] * (1 + wide // 11) if verdict else ("▒" if here else "░" if done else "·") * wide
        ink = Ink.good if verdict == GOOD else Ink.stop if verdict else f"bold {Ink.focus}" if here else Ink.dim
        for row in range(top, max(top, bottom) + 1):
            drawn.cells.put(left, row, fill[:wide], ink)
        lines = [(patch.name, f"bold {Ink.focus}" if here else Ink.text)]
        if verdict:
            mark, narrow = "✓" if verdict == GOOD else "✗", bed_columns < NAMES_COLUMNS
            lines = [(f"{mark} {nudge:+.2f}" if narrow else f"{mark} {verdict} at {nudge:+.2f}", ink)]
        if not (here or verdict) and bed_columns < NAMES_COLUMNS:
            continue
        column, below = (left + right) // 2, max(top, bottom) + 1
        words = f" {lines[0][0]} "
        first, last = drawn.cell((0.0, 0.0))[0] + 1, drawn.cell((bed_mm, 0.0))[0] - len(words)
        drawn.cells.put(max(first, min(last, column - len(words) // 2)), below, words, lines[0][1])


def offset_words(session: Session, total: float) -> tuple[str, ...]:
    """The height that prints in all, with what it was nudged by; and that of the last good print."""
    machine = session.document.machine
    into = setting_nudged(machine, live_mesh(session.live) is not None)
    live = number_or(session.live(SHIFT), 0.0) if into == SHIFT else offset_live(machine, session.live)
    words = [f"{'mesh shift' if into == SHIFT else 'Z offset'} {live + total:+.3f} mm"]
    good = session.ledger.latest("first-layer", "proven")
    printed = good.result.finding("printed_at") if good is not None else None
    if good is not None and printed is not None:
        words.append(f"last good print: {printed.value:+.3f} mm, run {good.id}")
    return tuple(words)


def _nudge(cells: Cells, left: int, total: float, now: str, wide: bool, offset: tuple[str, ...]) -> None:
    """The nudge in all, large; its meaning; and what lines look like."""
    side = "nearer to" if total < 0 else "further from"
    way = f"{abs(total):.2f} mm {side} the bed" if total else "as the offset has it"
    if not wide:
        cells.put(0, 0, f"nudged {total:+.2f} mm: {way}; {'; '.join(offset)}", f"bold {Ink.focus}")
        return
    cells.put(left, 1, "nudged, mm", Ink.quiet)
    put_large(cells, left, 2, f"{total:+.2f}" if total else "0.00", f"bold {Ink.focus}")
    cells.put(left, 6, way, f"bold {Ink.text}")
    cells.put(left, 7, "− is nearer to the bed, + further from it", Ink.dim)
    for row, words in enumerate(offset, start=8):
        cells.put(left, row, words, Ink.text)
    cells.put(left, 11, f"printing now: {now}" if now and now != "end" else "", Ink.text)
    row = 13
    for verdict, means in MEANS.items():
        cells.put(left, row, LINES[verdict], Ink.proposal)
        cells.put(left, row + 1, "▔" * 11, Ink.quiet)
        cells.put(left + 13, row, verdict, f"bold {Ink.text}")
        cells.put(left + 13, row + 1, means, Ink.dim)
        row += 3
    cells.put(left, row, "lines seen from their ends, on the sheet", Ink.quiet)
