"""Frozen data classes that are made quickly.

``dataclasses`` compiles six functions for each frozen class, which takes longer than everything
else in a module: a tenth of a command's time from start to end. Here only ``__init__`` is
compiled; the others are the same functions for all. To a type checker, ``dataclasses.replace`` and
``fields`` a record is a data class like any other.
"""

from __future__ import annotations

import operator
from collections.abc import Callable
from dataclasses import dataclass, fields
from typing import TYPE_CHECKING, Any

__all__ = ["record"]

if TYPE_CHECKING:
    from dataclasses import dataclass as record
else:

    def record(of=None, /, *, frozen, eq=True, kw_only=False):
        """Make a class a frozen data class: what it says once, it says for good.

        >>> @record(frozen=True)
        ... class Place:
        ...     row: int
        ...     column: int = 0
        >>> Place(3), Place(3) == Place(3, 0), len({Place(3), Place(3)})
        (Place(row=3, column=0), True, 1)
        >>> Place(3).row = 4
        Traceback (most recent call last):
        dataclasses.FrozenInstanceError: cannot assign to field 'row'
        """
        if not frozen:
            raise TypeError("record: makes frozen classes; dataclasses.dataclass makes others")
        if of is None:
            return lambda of: record(of, frozen=frozen, eq=eq, kw_only=kw_only)
        own = {"__repr__": _repr, "__setattr__": _set, "__delattr__": _delete}
        own |= {"__eq__": _equal, "__hash__": _hash} if eq else {}
        for name, method in own.items():
            if vars(of).get(name) is None:  # Python sets __hash__ None beside an own __eq__
                setattr(of, name, method)
        made = dataclass(of, repr=False, eq=False, kw_only=kw_only)
        made.__compared__ = _getter([one.name for one in fields(made) if one.compare])
        return made


def _getter(names: list[str]) -> Callable[[Any], tuple[Any, ...]]:
    """Return what takes the values of these attributes from a thing, always as a tuple."""
    if len(names) > 1:
        return operator.attrgetter(*names)
    return lambda thing: tuple([getattr(thing, name) for name in names])


def _equal(self: Any, other: object) -> Any:
    compared = type(self).__compared__
    if other.__class__ is not self.__class__:
        return NotImplemented
    return compared(self) == compared(other)


def _hash(self: Any) -> int:
    return hash(type(self).__compared__(self))


def _repr(self: Any) -> str:
    listed = self.__dataclass_fields__.values()
    said = [f"{one.name}={getattr(self, one.name)!r}" for one in listed if one.repr]
    return f"{self.__class__.__qualname__}({', '.join(said)})"


def _set(self: Any, name: str, value: object) -> None:
    """Set what ``__init__`` sets: each field once."""
    if name in self.__dict__ or name not in self.__dataclass_fields__:
        from dataclasses import FrozenInstanceError

        raise FrozenInstanceError(f"cannot assign to field {name!r}")
    self.__dict__[name] = value


def _delete(self: Any, name: str) -> None:
    from dataclasses import FrozenInstanceError

    raise FrozenInstanceError(f"cannot delete field {name!r}")
