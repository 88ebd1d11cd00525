"""What was before: every change can be undone and done again."""

from __future__ import annotations

from typing import Generic, TypeVar

State = TypeVar("State")
_REMEMBERED = 500


class History(Generic[State]):
    """States one after another. A state is frozen; undoing is going back to the one before."""

    state: State
    before: list[State]
    after: list[State]

    def keep(self, state: State, *, together: bool = False) -> None:
        """Take a state; ``together`` with the one before, as the steps of one drag are."""
        if state == self.state:
            return
        if not together:
            self.before = [*self.before[-_REMEMBERED:], self.state]
        self.state, self.after = state, []

    def undo(self) -> bool:
        """Go back to what was before; False where nothing was."""
        if not self.before:
            return False
        self.after.append(self.state)
        self.state = self.before.pop()
        return True

    def redo(self) -> bool:
        """Go forward again; False where nothing was undone."""
        if not self.after:
            return False
        self.before.append(self.state)
        self.state = self.after.pop()
        return True
