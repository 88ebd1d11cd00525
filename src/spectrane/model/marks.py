"""What a file says of itself when it is a picture and not data, and how that is told again."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from spectrane.model.telling import warn_caller

if TYPE_CHECKING:
    from spectrane.model.source import Source

_NOT_DATA = "not data: do not measure on it."
PICTURE = f"Display picture, {_NOT_DATA}"
RESCALED = f"Rescaled for display, {_NOT_DATA}"
LAYER = f"A display, {_NOT_DATA}"
_FIELDS = ("Description", "ImageDescription", "Comment", "provenance")
STEP = "rescaled for display, not data"
"""The same among the steps that a file was made by."""


def is_picture(source: Source) -> bool:
    """Tell whether a source says of itself that it is a display and not data."""
    said = [source.metadata.get(name) for name in _FIELDS]
    texts = [one for held in said for one in (held if isinstance(held, list | tuple) else [held])]
    return bool(source.metadata.get("display only")) or any(
        isinstance(text, str) and (_NOT_DATA in text or STEP in text) for text in texts
    )


def tell_picture(source: Source) -> None:
    """Warn of a display picture that is measured."""
    if is_picture(source):
        name = os.path.basename(source.name) or "the array"
        warn_caller(
            f"{name}: says of itself that it is a display picture and not data: its numbers are "
            "levels, stretched to be seen; measure on the file it was made from"
        )
