"""What was before: every change can be undone and done again."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Generic, TypeVar

from spectrane.model.errors import LookError, nearest

State = TypeVar("State")
_REMEMBERED = 500
_LEAST, _MOST = 16, 4096
"""Rows, or columns, of a picture."""


class History(Generic[State]):
    """States one after another. A state is frozen; undoing is going back to the one before."""

    state: State
    size: tuple[int, int]
    before: list[State]
    after: list[State]

    def change(self, action: Mapping[str, Any]) -> None:
        """Carry out a change. Raises LookError for one that cannot be, and nothing is changed."""
        raise NotImplementedError

    def carry_out(self, action: Mapping[str, Any]) -> None:
        """Carry out a change, or ``undo``, ``redo`` and ``size``, which are none."""
        name = action.get("do")
        if name == "undo":
            self.undo()
        elif name == "redo":
            self.redo()
        elif name == "size":
            self.resize(int(action["rows"]), int(action["columns"]))
        else:
            self.change(action)

    def change_by(
        self, known: Mapping[Any, Callable[..., State]], action: Mapping[str, Any]
    ) -> None:
        """Keep the state that the change of an action's name returns. Raises LookError for a name
        that is not known, or for fields that its change does not take.
        """
        name = action.get("do")
        if name not in known:
            raise LookError(f"do {name!r}{nearest(str(name), known)}")
        said = {key: value for key, value in action.items() if key not in ("do", "together")}
        try:
            state = known[name](**said)
        except TypeError as error:
            raise LookError(f"{name}: {error}") from error
        self.keep(state, together=bool(action.get("together")))

    def resize(self, rows: int, columns: int) -> None:
        """Take the size of the picture, or of every panel; what is in its middle stays there."""
        held = [min(max(int(one), _LEAST), _MOST) for one in (rows, columns)]
        self.size = (held[0], held[1])

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
