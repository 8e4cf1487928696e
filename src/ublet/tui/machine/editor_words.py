"""The words of the machine editor: rows of parts and settings, and what there is to say of one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.text import Text

from ublet.core.machine.compare import same
from ublet.core.machine.outline import PartNode, Property
from ublet.core.machine.problem import Problem
from ublet.core.settings import Value
from ublet.core.typed import shown_value
from ublet.core.words import counted
from ublet.session.draft import Draft
from ublet.session.layers import LayerRow
from ublet.session.session import Session
from ublet.tui.frame.help import Help
from ublet.tui.frame.theme import Ink
from ublet.tui.instruments.array_picture import array_picture
from ublet.tui.machine.layer_words import layer_lines, setting_words

KEY_COLUMNS, VALUE_COLUMNS, UNIT_COLUMNS, LAYER_COLUMNS = 26, 15, 10, 11
WIDE, MIDDLE = 112, 84

EDITOR_HELP = Help(
    """\
    Everything else builds on what is declared here: a wrong pitch or a swapped socket causes
    faults that are hard to trace later. The editor knows what belongs together and reports contradictions at once.
    """,
    """\
    Parts are at the left, the settings of one part at the right: ← and → go between them. Enter changes a
    setting in its place; type a number with any unit that fits (5thou, 1.5m/min), empty leaves it out, and
    then its default counts. Beside the value stand the board's layers: what the image was built with, what the
    board has stored, what is live. Edits stay in a draft until ctrl+s writes them to the file; the file's
    comments and order survive, and the previous file is kept. Changes that you make in another editor
    meanwhile are taken in; where both changed the same setting, you are asked.
    """,
)


def file_state(session: Session) -> Text:
    """How the file stands: errors, edits that are not written."""
    draft, text = session.draft, Text()
    errors, problems = len(draft.checked.errors), len(draft.checked.problems)
    text.append(f"{session.document.path.name}  ", Ink.text)
    if errors:
        text.append(f"✗ {counted(errors, 'error')}  ", f"bold {Ink.stop}")
    else:
        text.append("✓ no errors  ", Ink.good)
    if problems - errors:
        text.append(f"! {counted(problems - errors, 'warning')}  ", Ink.focus)
    if draft.dirty:
        count = len(draft.changes())
        edits = counted(count, "edit")
        text.append(f"{edits} not written: ctrl+s shows and writes them", f"bold {Ink.proposal}")
    elif session.disk_trouble:
        text.append(f"✗ not what is on the disk: {session.disk_trouble}", Ink.stop)
    else:
        text.append("as on the disk", Ink.dim)
    return text


def part_row(node: PartNode, problems: Sequence[Problem]) -> Text:
    """A part in the outline."""
    inside = [p for p in problems if p.key == node.path or p.key.startswith(f"{node.path}.")]
    wrong = any(problem.severity == "error" for problem in inside)
    mark = "✗" if wrong else "!" if inside else " "
    row = Text(f"{mark} ", Ink.stop if wrong else Ink.focus)
    name = node.path if node.path.startswith("axes.") and node.path.count(".") == 1 else node.name
    indent = "  " * node.depth
    if node.sort == "group":
        row.append(f"{indent}{name}", Ink.dim)
        row.append("  +", Ink.quiet)
    elif not node.present:
        row.append(f"{indent}{name}", Ink.quiet)
        row.append("  not declared", Ink.quiet)
    else:
        row.append(f"{indent}{name}", Ink.text)
    return row


def value_columns(width: int) -> tuple[int, int]:
    """Where a value's place begins in a row, and how wide it is."""
    return 2 + _key_columns(width), VALUE_COLUMNS


def _key_columns(width: int) -> int:
    return KEY_COLUMNS if width >= MIDDLE else 20


def titles(width: int, shown: bool) -> Text:
    """The heads of the columns."""
    if not shown:
        return Text()
    row = Text(f"  {'setting':<{_key_columns(width)}}{'file':>{VALUE_COLUMNS}} {'':<{UNIT_COLUMNS}}", Ink.dim)
    if width >= MIDDLE:
        row.append("".join(f"{name:>{LAYER_COLUMNS}}" for name in ("image", "stored", "live")), Ink.dim)
    if width >= WIDE:
        row.append("   allowed", Ink.dim)
    return row


def property_row(item: Property, layers: LayerRow | None, problems: Sequence[Problem], width: int) -> Text:
    """A setting: its value in the draft, its unit, the board's layers, what is allowed."""
    mine = [problem for problem in problems if problem.key == item.path]
    wrong = any(problem.severity == "error" for problem in mine)
    hidden = layers is not None and layers.on_board and layers.shadowed
    mark = "✗" if wrong else "!" if mine else "≠" if hidden else " "
    row = Text(f"{mark} ", Ink.stop if wrong else Ink.focus)
    keys = _key_columns(width)
    row.append(f"{item.key[:keys]:<{keys}}", Ink.text)
    value, given = shown(item, layers), item.given is not None
    fitted = value if len(value) <= VALUE_COLUMNS - 1 else value[: VALUE_COLUMNS - 2] + "…"
    row.append(f"{fitted:>{VALUE_COLUMNS}}", f"bold {Ink.text}" if given else Ink.dim)
    row.append(f" {item.declared.unit[: UNIT_COLUMNS - 1]:<{UNIT_COLUMNS}}", Ink.dim)
    if width >= MIDDLE:
        for name in ("image", "stored", "live"):
            known = layers is not None and layers.on_board
            layer_value = getattr(layers, name) if known else None
            text = shown_value(layer_value, 5) if known else ("" if item.declared.board else "·")
            text = text if len(text) < LAYER_COLUMNS else text[: LAYER_COLUMNS - 2] + "…"
            style = Ink.quiet
            if layers is not None and known and layer_value is not None and not same(layer_value, layers.file):
                style = Ink.focus
            row.append(f"{text:>{LAYER_COLUMNS}}", style)
    if width >= WIDE:
        row.append(f"   {item.declared.allowed()}", Ink.quiet)
    return row


def shown(item: Property, layers: LayerRow | None) -> str:
    """The value as the row shows it: what is given, or what counts without."""
    if item.given is not None:
        return shown_value(item.given)
    if layers is not None and layers.file is not None:
        return shown_value(layers.file, 5)
    return "must be given" if item.declared.required else shown_value(item.declared.default)


def detail(session: Session, node: PartNode, item: Property | None, layers: Mapping[str, LayerRow], width: int) -> Text:
    """What there is to say of the setting, or part, under the cursor, in so many columns."""
    text, draft = Text(), session.draft
    if item is None:
        text.append(f"{node.path}  ", f"bold {Ink.text}")
        text.append(node.about, Ink.text)
        if node.sort == "group":
            text.append("\na adds one.", Ink.dim)
        elif not node.present:
            text.append("\nNot declared: the machine has none. a adds it.", Ink.dim)
    else:
        text.append_text(_of_setting(session, item, layers.get(item.path), width))
    for problem in [p for p in draft.checked.problems if p.key == (item.path if item is not None else node.path)][:3]:
        error = problem.severity == "error"
        text.append(f"\n{'✗' if error else '!'} ", Ink.stop if error else Ink.focus)
        text.append(f"found {problem.found}; allowed: {problem.allowed}. {problem.mend}", Ink.text)
    return text


def _of_setting(session: Session, item: Property, layer: LayerRow | None, width: int) -> Text:
    """What it is for; its array drawn; where each layer's value came from; what is not as it seems."""
    declared, text = item.declared, setting_words(item.path, item.declared)
    if item.given is None and not declared.required:
        text.append("; left out, so what is shown dim counts", Ink.dim)
    if declared.shape:
        text.append(f"; made at the station “{declared.bench}”\n", Ink.dim)
        held = item.given if item.given is not None else layer.file if layer is not None else ()
        text.append_text(array_picture(held if isinstance(held, tuple) else (), declared.unit, 60, 12))
    if layer is None:
        return text
    text.append("\n\n")
    text.append_text(layer_lines(session, layer, declared.unit, width))
    text.append_text(_layer_words(layer, session.draft))
    return text


def _layer_words(layer: LayerRow, draft: Draft) -> Text:
    text, given = Text(), draft.given(layer.path)
    if given is not None and not same(given, layer.file):
        text.append("\n◆ edited here; the file and the board hold the former value", Ink.proposal)
    elif not layer.on_board:
        return text
    elif layer.wins == "kept":
        text.append("\n◆ kept on the board and not saved: lost at power-off", Ink.proposal)
    elif layer.shadowed:
        text.append("\n≠ shadowed: the stored value hides the file's. ", Ink.focus)
        text.append("The station “write to board” settles it.", Ink.dim)
    elif layer.outdated:
        text.append("\n≠ the board's image was built from another value: ", Ink.focus)
        text.append("“write to board” brings the file's there.", Ink.dim)
    return text


def echo(item: Property, value: Value, trouble: str, problems: Sequence[Problem]) -> Text:
    """While a value is typed: what is allowed, what it would be or why it is none, and what it would contradict."""
    words = Text()
    words.append(f"{item.declared.help}\n", Ink.text)
    words.append(f"allowed: {item.declared.allowed()}", Ink.dim)
    if not item.declared.required:
        words.append("; empty leaves it out", Ink.dim)
    words.append("     enter takes it, esc leaves it as it was", Ink.dim)
    if trouble:
        words.append(f"\n✗ {trouble}", Ink.stop)
    elif value is not None:
        words.append(f"\n= {shown_value(value)} {item.declared.unit}", f"bold {Ink.focus}")
    for problem in problems[:2]:
        ink = Ink.stop if problem.severity == "error" else Ink.focus
        words.append(f"\n! {problem.key}: found {problem.found}; allowed: {problem.allowed}", ink)
    return words
