"""Members: the rasters inside one file (pages, header-data units, variables, arrays)."""

from __future__ import annotations

from collections.abc import Sequence

from spectrane.kernels.records import record
from spectrane.model.errors import FormatError


@record(frozen=True)
class Member:
    """One raster of a file: its number (from 1), its name where it has one, size and type."""

    number: int
    name: str
    rows: int
    columns: int
    bands: int
    dtype: str


def find_member(members: Sequence[Member], wanted: int | str | None, file: str) -> Member:
    """Return the member with this number (from 1) or name; None is the first.

    Raises FormatError, which lists the members there are.

    >>> find_member([Member(1, "depth", 2, 3, 1, "float32")], "depth", "a.nc").number
    1
    """
    if wanted is None and members:
        return members[0]
    for member in members:
        if wanted in (member.number, member.name, str(member.number)):
            return member
    known = ", ".join(f"{m.number} {m.name}".strip() for m in members[:16]) or "none"
    import difflib

    near = difflib.get_close_matches(str(wanted), [m.name for m in members], n=1)
    hint = f"; did you mean {near[0]!r}?" if near else ""
    raise FormatError(f"{file}: no member {wanted!r}; its members are {known}{hint}")
