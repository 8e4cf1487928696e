"""What can be chosen for a setting of the machine file: words, parts, boards, curves, free sockets."""

from __future__ import annotations

from ublet.core.heat.curves import GENERIC
from ublet.core.machine import outline
from ublet.core.machine.outline import Property
from ublet.core.machine.wiring import plugs
from ublet.core.settings import ValueKind
from ublet.session.draft import Draft
from ublet.tui.frame.pickers import PickerItem


def choices_of(draft: Draft, item: Property) -> list[PickerItem] | None:
    """What can be chosen for a setting; None when it is typed."""
    declared = item.declared
    if declared.kind is ValueKind.FLAG:
        return [PickerItem("yes", "yes"), PickerItem("no", "no")]
    if declared.choices:
        return [PickerItem(str(choice), str(choice)) for choice in declared.choices]
    if declared.part:
        names = outline.part_at(draft.tree, declared.part)
        return [PickerItem(name, name) for name in names] if isinstance(names, dict) and names else None
    if item.path == "board.model":
        boards = draft.document.boards.values()
        return [PickerItem(board.name, board.name, board.note) for board in boards]
    if item.key == "curve":
        return [PickerItem(name, name, f"{r25:g} Ω at 25 °C, beta {beta:g} K") for name, (r25, beta) in GENERIC.items()]
    board = draft.document.boards.get(str(draft.given("board.model")))
    if declared.socket and board:
        used = plugs(draft.tree)
        here = draft.given(item.path)

        def taken(name: str) -> str:
            others = ", ".join(plug.words for plug in used.get(name, ()) if plug.path != item.path)
            return others or ("plugged here" if name == here else "free")

        return [PickerItem(name, name, taken(name)) for name in board.of_kind(declared.socket)] or None
    return None
