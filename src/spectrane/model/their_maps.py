"""Matplotlib's colour maps and ours: colours from one to the other, to the last bit."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.colors import THEIRS, color_text
from spectrane.model.errors import LookError, nearest

if TYPE_CHECKING:
    from matplotlib.colors import Colormap

_CLEAR = "#00000000"
Parts = tuple[str, NDArray[np.uint8], str | None, str | None, str | None]
"""Name, entries (n, 4), and what lies under, over and is no data."""


def their_map(
    name: str, entries: NDArray[np.uint8], under: str | None, over: str | None, nodata: str | None
) -> Colormap:
    """Return a Matplotlib map, exact at its entries."""
    from matplotlib.colors import ListedColormap

    made = ListedColormap(entries / 255.0, name=name)
    return made.with_extremes(bad=nodata or _CLEAR, under=under, over=over)


def parts_of(given: Any) -> Parts:
    """Return the parts of a Matplotlib map, itself or by name. Raises LookError for an unknown."""
    import matplotlib

    if isinstance(given, str):
        known = list(matplotlib.colormaps)
        if given not in known:
            raise LookError(f"colour map {THEIRS}{given}: there is none{nearest(given, known)}")
        given = matplotlib.colormaps[given]
    entries = given(np.arange(given.N), bytes=True)
    first, last = (color_text(entry) for entry in (entries[0], entries[-1]))
    under, over, bad = (color_text(np.round(np.asarray(color) * 255)) for color in (
        given.get_under(), given.get_over(), given.get_bad()))  # fmt: skip
    clear = len(bad) == len(_CLEAR) and bad.endswith("00")
    return (given.name, entries, None if under == first else under, None if over == last else over,
            None if clear else bad)  # fmt: skip
