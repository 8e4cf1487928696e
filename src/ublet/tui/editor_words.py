"""The words of the machine editor: rows of parts and settings, and what there is to say of one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.text import Text

from ublet.core.machine.compare import same
from ublet.core.machine.outline import PartNode, Property
from ublet.core.machine.problem import Problem
from ublet.core.typed import shown_value
from ublet.session.draft import Draft
from ublet.session.layers import Row
from ublet.session.session import Session
from ublet.tui.array_picture import array_picture
from ublet.tui.theme import Palette

KEY_COLUMNS, VALUE_COLUMNS, UNIT_COLUMNS, LAYER_COLUMNS = 26, 15, 10, 11
WIDE, MIDDLE = 112, 84

EDITOR_HELP = """\
WHY   Everything else builds on what the firmware is told here: a wrong pitch or a swapped socket comes back
      as a riddle later. The editor knows what belongs together and says at once what contradicts what.

HOW   Parts are at the left, the settings of one part at the right: ← and → go between them. Enter changes a
      setting in its place; type a number with any unit that fits (5thou, 1.5m/min), empty leaves it out, and
      then its default counts. Beside the value stand the board's layers: what the image was built with, what the
      board has stored, what is live. Edits stay in a draft until ctrl+s writes them to the file; the file's
      comments and order survive, and the previous file is kept. Changes that you make in another editor
      meanwhile are taken in; where both changed the same setting, you are asked.

KEYS  enter change   space next choice   ⌫ leave out   / search   n next problem   u undo   U redo
      a add a part   x remove a part     i import a part from another machine file
"""


def heading(session: Session, palette: Palette, width: int) -> Text:
    """Why this bench is there, and how the file stands."""
    draft, text = session.draft, Text()
    text.append("Machine file", f"bold {palette.text}")
    text.append("   what the machine is: everything else builds on it\n", palette.dim)
    errors, problems = len(draft.checked.errors), len(draft.checked.problems)
    text.append(f"{session.document.path.name}  ", palette.text)
    if errors:
        text.append(f"✗ {errors} error{'s' * (errors > 1)}  ", f"bold {palette.stop}")
    else:
        text.append("✓ no errors  ", palette.good)
    if problems - errors:
        text.append(f"! {problems - errors} warning{'s' * (problems - errors > 1)}  ", palette.focus)
    if draft.dirty:
        count = len(draft.changes())
        edits = f"{count} edit{'s' * (count != 1)}"
        text.append(f"{edits} not written: ctrl+s shows and writes them", f"bold {palette.proposal}")
    elif session.disk_trouble:
        text.append(f"✗ not what is on the disk: {session.disk_trouble}", palette.stop)
    else:
        text.append("as on the disk", palette.dim)
    return text


def part_row(node: PartNode, problems: Sequence[Problem], palette: Palette) -> Text:
    """A part in the outline."""
    inside = [p for p in problems if p.key == node.path or p.key.startswith(f"{node.path}.")]
    wrong = any(problem.severity == "error" for problem in inside)
    mark = "✗" if wrong else "!" if inside else " "
    row = Text(f"{mark} ", palette.stop if wrong else palette.focus)
    name = node.path if node.path.startswith("axes.") and node.path.count(".") == 1 else node.name
    indent = "  " * node.depth
    if node.sort == "group":
        row.append(f"{indent}{name}", palette.dim)
        row.append("  +", palette.quiet)
    elif not node.present:
        row.append(f"{indent}{name}", palette.quiet)
        row.append("  not declared", palette.quiet)
    else:
        row.append(f"{indent}{name}", palette.text)
    return row


def value_columns(width: int) -> tuple[int, int]:
    """Where a value's place begins in a row, and how wide it is."""
    return 2 + _key_columns(width), VALUE_COLUMNS


def _key_columns(width: int) -> int:
    return KEY_COLUMNS if width >= MIDDLE else 20


def titles(width: int, shown: bool, palette: Palette) -> Text:
    """The heads of the columns."""
    if not shown:
        return Text()
    row = Text(f"  {'setting':<{_key_columns(width)}}{'file':>{VALUE_COLUMNS}} {'':<{UNIT_COLUMNS}}", palette.dim)
    if width >= MIDDLE:
        row.append("".join(f"{name:>{LAYER_COLUMNS}}" for name in ("image", "stored", "live")), palette.dim)
    if width >= WIDE:
        row.append("   allowed", palette.dim)
    return row


def property_row(item: Property, layers: Row | None, problems: Sequence[Problem], width: int, palette: Palette) -> Text:
    """A setting: its value in the draft, its unit, the board's layers, what is allowed."""
    mine = [problem for problem in problems if problem.key == item.path]
    wrong = any(problem.severity == "error" for problem in mine)
    hidden = layers is not None and layers.on_board and layers.shadowed
    mark = "✗" if wrong else "!" if mine else "≠" if hidden else " "
    row = Text(f"{mark} ", palette.stop if wrong else palette.focus)
    keys = _key_columns(width)
    row.append(f"{item.key[:keys]:<{keys}}", palette.text)
    value, given = shown(item, layers), item.given is not None
    fitted = value if len(value) <= VALUE_COLUMNS - 1 else value[: VALUE_COLUMNS - 2] + "…"
    row.append(f"{fitted:>{VALUE_COLUMNS}}", f"bold {palette.text}" if given else palette.dim)
    row.append(f" {item.declared.unit[: UNIT_COLUMNS - 1]:<{UNIT_COLUMNS}}", palette.dim)
    if width >= MIDDLE:
        for name in ("image", "stored", "live"):
            known = layers is not None and layers.on_board
            each = getattr(layers, name) if known else None
            text = shown_value(each, 5) if known else ("" if item.declared.board else "·")
            text = text if len(text) < LAYER_COLUMNS else text[: LAYER_COLUMNS - 2] + "…"
            style = palette.quiet
            if layers is not None and known and each is not None and not same(each, layers.file):
                style = palette.focus
            row.append(f"{text:>{LAYER_COLUMNS}}", style)
    if width >= WIDE:
        row.append(f"   {item.declared.allowed()}", palette.quiet)
    return row


def shown(item: Property, layers: Row | None) -> str:
    """The value as the row shows it: what is given, or what counts without."""
    if item.given is not None:
        return shown_value(item.given)
    if layers is not None and layers.file is not None:
        return shown_value(layers.file, 5)
    return "must be given" if item.declared.required else shown_value(item.declared.default)


def detail(
    node: PartNode,
    item: Property | None,
    layers: Mapping[str, Row],
    problems: Sequence[Problem],
    palette: Palette,
    draft: Draft,
) -> Text:
    """What there is to say of the setting, or part, under the cursor."""
    text = Text()
    if item is None:
        text.append(f"{node.path}  ", f"bold {palette.text}")
        text.append(node.about, palette.text)
        if node.sort == "group":
            text.append("\na adds one.", palette.dim)
        elif not node.present:
            text.append("\nNot declared: the machine has none. a adds it.", palette.dim)
        inside = [problem for problem in problems if problem.key == node.path]
    else:
        declared, path = item.declared, item.path
        text.append(f"{path}  ", f"bold {palette.text}")
        text.append(f"{declared.help}\n", palette.text)
        text.append(f"allowed: {declared.allowed()}", palette.dim)
        if item.given is None and not declared.required:
            text.append("; left out, so what is shown dim counts", palette.dim)
        layer = layers.get(path)
        if declared.shape:
            text.append(f"; made at the station “{declared.bench}”\n", palette.dim)
            held = item.given if item.given is not None else layer.file if layer is not None else ()
            text.append_text(array_picture(held if isinstance(held, tuple) else (), declared.unit, 60, 12, palette))
        if layer is not None and layer.on_board:
            _layer_words(text, layer, draft, palette)
        inside = [problem for problem in problems if problem.key == path]
    for problem in inside[:2]:
        style = palette.stop if problem.severity == "error" else palette.focus
        mark = "✗" if problem.severity == "error" else "!"
        text.append(f"\n{mark} found {problem.found}; allowed: {problem.allowed}. {problem.mend}", style)
    return text


def _layer_words(text: Text, layer: Row, draft: Draft, palette: Palette) -> None:
    if layer.wins == "kept":
        text.append("\n◆ kept on the board and not saved: lost at power-off", palette.proposal)
    elif layer.shadowed:
        stored, file = shown_value(layer.stored), shown_value(layer.file)
        text.append(f"\n≠ shadowed: the board's store says {stored} and wins over the file's {file}. ", palette.focus)
        text.append("The station “write to board” settles it.", palette.dim)
    elif layer.outdated:
        text.append(f"\n≠ the board's image was built with {shown_value(layer.image)}: ", palette.focus)
        text.append("“write to board” brings the file's value there.", palette.dim)
    elif draft.given(layer.path) is not None and not same(draft.given(layer.path), layer.file):
        text.append("\n◆ edited here; the file and the board hold the former value", palette.proposal)
