"""What a file's damage does: an error, or (where it is asked for) blocks that are invalid."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Iterable
from typing import Any, Literal, TypeVar, get_args

from spectrane.model.errors import FormatError, LookError
from spectrane.model.regular_files import ReadingAs
from spectrane.model.telling import warn_caller

DamagedData = Literal["error", "keep"]
DAMAGED: tuple[DamagedData, ...] = get_args(DamagedData)
"""Damaged blocks are an error, or the rest is kept and they are invalid."""
REMEDY = "; damaged='keep' (--damaged keep) reads the rest"
"""What the error of one damaged block of several ends with."""
DAMAGE_KEPT = "without what is damaged"
"""What the state of a file says that is read so."""
T = TypeVar("T")


def keeps(damaged: str) -> bool:
    """Tell whether to go on without damaged blocks; LookError for another word."""
    if damaged not in DAMAGED:
        raise LookError(f"damaged {damaged!r}: expected {' or '.join(DAMAGED)}")
    return damaged == "keep"


class Damaged:
    """The blocks of a file that were found damaged, and are invalid from then on.

    >>> kept = Damaged("a.tif", 8)
    >>> kept.attempt("block 3", abs, -1), kept.blocks
    (1, set())
    """

    def __init__(self, name: str, total: int, unit: str = "blocks") -> None:
        self.name, self.total, self.unit = name, total, unit
        self.blocks: set[Hashable] = set()
        self._first = ""
        self._told = self._lacking = 0
        self._lock = threading.Lock()

    def attempt(self, block: Hashable, action: Callable[..., T], *given: Any) -> T | None:
        """Return what an action gives for a block; None, and it is noted, where it is damaged.

        To be told by ``tell`` when all blocks of a read have been tried.
        """
        if block in self.blocks:
            return None
        try:
            with ReadingAs(self.name, FormatError, problem="broken data"):
                return action(*given)
        except FormatError as error:
            self.note([block], str(error).removeprefix(f"{self.name}: "))
            return None

    def note(self, blocks: Iterable[Hashable], why: str) -> None:
        """Note blocks that are damaged or missing."""
        with self._lock:
            self._first = self._first or why.removesuffix(REMEDY)
            self.blocks.update(blocks)

    def lack(self, count: int, why: str) -> None:
        """Note how many blocks the file is too short for."""
        self._lacking = count
        self._first = self._first or why

    def tell(self) -> None:
        """Warn of how much is missing, where more was found than was told."""
        with self._lock:
            count = len(self.blocks) + self._lacking
            if count == self._told:
                return
            self._told = count
        share = 100 * count / max(1, self.total)
        warn_caller(
            f"{self.name}: {count} of {self.total} {self.unit} ({share:.3g} %) found damaged so "
            f"far, and invalid: {self._first}"
        )

    def __getstate__(self) -> dict[str, Any]:
        return {**vars(self), "_lock": None}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__init__(state["name"], state["total"], state["unit"])  # type: ignore[misc]
        self.blocks, self._first, self._told = state["blocks"], state["_first"], state["_told"]
