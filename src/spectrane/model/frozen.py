"""Mappings that do not change: equal by content, with a hash, and picklable."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, TypeVar

K = TypeVar("K")
V = TypeVar("V")


class FrozenMapping(Mapping[K, V]):
    """A mapping that cannot be changed from outside; it keeps the order it was given in.

    >>> one, same = FrozenMapping({1: "a", 2: "b"}), FrozenMapping({2: "b", 1: "a"})
    >>> one == same, hash(one) == hash(same), one[2]
    (True, True, 'b')
    """

    __slots__ = ("_held",)

    def __init__(self, given: Mapping[K, V] | Iterable[tuple[K, V]] = ()) -> None:
        self._held: dict[K, V] = dict(given)

    def __getitem__(self, key: K) -> V:
        return self._held[key]

    def __iter__(self) -> Iterator[K]:
        return iter(self._held)

    def __len__(self) -> int:
        return len(self._held)

    def __hash__(self) -> int:
        return hash(frozenset(self._held.items()))

    def __repr__(self) -> str:
        return repr(self._held)


def frozen(given: Any) -> Any:
    """Return mappings and lists, however deep, as what cannot be changed; the rest as it is.

    >>> frozen({"rows": [0, 5]})
    {'rows': (0, 5)}
    """
    if isinstance(given, FrozenMapping):
        return given
    if isinstance(given, Mapping):
        return FrozenMapping({key: frozen(value) for key, value in given.items()})
    if isinstance(given, list | tuple):
        return tuple(frozen(item) for item in given)
    if hasattr(given, "tolist"):  # NumPy's arrays and numbers
        return frozen(given.tolist())
    return given


def thawed(given: Any) -> Any:
    """Return plain dictionaries and lists, as TOML and JSON hold them.

    >>> thawed(frozen({"rows": [0, 5]}))
    {'rows': [0, 5]}
    """
    if isinstance(given, Mapping):
        return {key: thawed(value) for key, value in given.items()}
    if isinstance(given, list | tuple):
        return [thawed(item) for item in given]
    return given
