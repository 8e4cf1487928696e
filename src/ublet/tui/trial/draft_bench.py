"""A bench that edits the draft of the machine file: undo and redo, and everybody notified."""

from __future__ import annotations

from textual.binding import Binding

from ublet.tui.trial.bench import StationBench


class DraftBench(StationBench):
    """Draws anew whenever the draft or the size changes."""

    BINDINGS = [
        Binding("u", "undo", "undo", tooltip="Take the last edit of the draft back"),
        Binding("U", "redo", "redo", tooltip="Do again what was taken back"),
    ]

    def on_mount(self) -> None:
        """Show the draft."""
        self.refresh_state()

    def on_resize(self) -> None:
        """Draw for the new size."""
        self.call_after_refresh(self.refresh_state)

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Undo and redo only when there is something."""
        if action == "undo":
            return self.session.draft.can_undo
        if action == "redo":
            return self.session.draft.can_redo
        return True

    def action_undo(self) -> None:
        """Take the last edit back."""
        self.session.draft.undo()
        self.post_message(self.Edited())

    def action_redo(self) -> None:
        """Do it again."""
        self.session.draft.redo()
        self.post_message(self.Edited())
