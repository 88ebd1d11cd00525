"""What a file says of itself when it is a picture and not data, and how that is told again."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from spectrane.model.printing import printable
from spectrane.model.source import called
from spectrane.model.telling import warn_caller

if TYPE_CHECKING:
    from spectrane.model.source import Source

_NOT_DATA = "not data: do not measure on it."
PICTURE = f"Display picture, {_NOT_DATA}"
RESCALED = f"Rescaled for display, {_NOT_DATA}"
SOURCE = "Source: "
"""Before the name of what a display picture was drawn from."""
LAYER = f"A display, {_NOT_DATA}"
_FIELDS = ("Description", "ImageDescription", "Comment", "provenance")
NO_SYSTEM = "no coordinate system"
STEP = "rescaled for display, not data"
"""The same among the steps that a file was made by."""


def picture_bounds(description: str) -> tuple[tuple[float, ...], str | None] | None:
    r"""Return the bounds and coordinate system that a display picture of ours says of itself.

    None where it says none, or is none.

    >>> picture_bounds(f"{PICTURE}\nBounds: 0, 10, 20, 30 (EPSG:32727)")
    ((0.0, 10.0, 20.0, 30.0), 'EPSG:32727')
    """
    if not description.startswith(PICTURE):
        return None
    found = re.search(r"^Bounds: ([-+.\deE, ]+) \((.*?)\)$", description, re.MULTILINE | re.DOTALL)
    try:
        sides = tuple(float(text) for text in found[1].split(",")) if found else ()
    except ValueError:
        return None
    if found is None or len(sides) != 4 or not (sides[0] < sides[2] and sides[1] < sides[3]):
        return None
    return sides, None if found[2] == NO_SYSTEM else found[2]


def is_picture(source: Source) -> bool:
    """Tell whether a source says of itself that it is a display and not data."""
    return bool(source.metadata.get("display only")) or any(
        _NOT_DATA in text or STEP in text for text in _texts(source)
    )


def made_from(source: Source) -> str | None:
    """Return the name of what a display picture of ours says it was drawn from, or None."""
    for text in _texts(source):
        found = re.search(rf"^{SOURCE}(.+)$", text, re.MULTILINE)
        if text.startswith(PICTURE) and found is not None:
            return printable(found[1])
    return None


def _texts(source: Source) -> list[str]:
    said = [source.metadata.get(name) for name in _FIELDS]
    texts = [one for held in said for one in (held if isinstance(held, list | tuple) else [held])]
    return [text for text in texts if isinstance(text, str)]


def tell_picture(source: Source) -> None:
    """Warn of a display picture that is measured."""
    if is_picture(source):
        name = called(source, "the array")
        origin = made_from(source) or "the file it was made from"
        warn_caller(
            f"{name}: says of itself that it is a display picture and not data: its numbers are "
            f"levels, stretched to be seen; measure on {origin}"
        )
