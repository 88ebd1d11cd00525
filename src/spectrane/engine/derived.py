"""Sources made from sources: what they inherit, and how they let go, in one place."""

from __future__ import annotations

from typing import Any

from spectrane.model.source import Source

PLACE = ("grid", "block_shape", "name", "told_as", "format", "orientation")
"""What a source keeps of another whose pixels it lies on, when its numbers are its own."""
EVERYTHING = (
    *PLACE, "bands", "dtype", "nodata_when", "has_mask", "alpha", "look", "metadata", "axes",
    "members", "windows", "identity", "coded", "between", "outlined",
)  # fmt: skip
"""What a source keeps of another whose numbers it hands on. Not its overviews, which may have been
made under other rules, nor its state, which tells what is in a file."""


class Derived(Source):
    """A source made from one or several others, the ``parents``.

    A subclass calls ``super().__init__(*parents, …)`` and says by keyword what it changes; all else
    that ``keep`` names is the first parent's. Closing it closes them all. It adds what it needs,
    and answers ``read_native`` (with ``FullSource``), or ``read`` and ``blocks`` itself.

    >>> import numpy as np
    >>> from spectrane.engine.full import FullSource
    >>> from spectrane.engine.memory import ArraySource
    >>> from spectrane.model.pixels import Pixels
    >>> class Doubled(Derived, FullSource):
    ...     def read_native(self, bands, window):
    ...         return Pixels(self.parent.read(bands, window).values * 2)
    >>> doubled = Doubled(ArraySource(np.ones((1, 2, 2))), name="twice")
    >>> doubled.name, doubled.shape, doubled.read([0], ((0, 1), (0, 2))).values.tolist()
    ('twice', (2, 2), [[[2.0, 2.0]]])
    """

    parents: tuple[Source, ...]

    def __init__(
        self, *parents: Source, keep: tuple[str, ...] = EVERYTHING, **changes: Any
    ) -> None:
        self.parents = parents
        for name in keep:
            setattr(self, name, getattr(parents[0], name))
        if "dtype" in changes:
            changes = {"between": None, **changes}
        for name, value in changes.items():
            if name not in EVERYTHING and name not in ("overviews", "state"):
                raise TypeError(f"{type(self).__name__}: a source has no {name} to change")
            setattr(self, name, value)
        if getattr(self, "grid", None) is parents[0].grid:  # else the places are others
            self.geolocation = parents[0].geolocation

    @property
    def parent(self) -> Source:
        """The first of those it is made from."""
        return self.parents[0]

    def close(self) -> None:
        """Let go of the parents' files."""
        for parent in self.parents:
            parent.close()


def state_of_parts(file: tuple[Any, ...], *sources: Source) -> tuple[Any, ...]:
    """Return what tells the state of a file and of those that it names; () where one has none.

    >>> import numpy as np
    >>> from spectrane.engine.memory import ArraySource
    >>> part = ArraySource(np.ones((1, 2, 2)))
    >>> state_of_parts(("stack.toml", 1), part)
    ()
    >>> part.state = ("a.tif", 2)
    >>> state_of_parts(("stack.toml", 1), part)
    ('stack.toml', 1, ('a.tif', 2))
    """
    states = [state for source in sources for state in _states(source)]
    return (*file, *states) if all(states) else ()


def _states(source: Source) -> list[tuple[Any, ...]]:
    if source.state is not None or not isinstance(source, Derived):
        return [source.state or ()]
    return [state for parent in source.parents for state in _states(parent)]
