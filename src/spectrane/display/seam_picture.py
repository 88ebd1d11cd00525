"""A picture of a mosaic's seams: which raster lies where, and whether a seam stands out."""

from __future__ import annotations

import numpy as np

from spectrane.display.drawing import Rgba
from spectrane.display.finishing import with_key_and_caption
from spectrane.display.keys import Key
from spectrane.kernels.records import record
from spectrane.model.colormaps import colormaps
from spectrane.spatial.mosaics.belonging import NOTHING, SEVERAL, Belonging, seam_lines

_MIXED = (150, 150, 150, 255)
_LINE = (255, 255, 255, 255)
_MOST = 20


@record(frozen=True)
class _Said:
    """What the key tells: a colour for each raster."""

    entries: tuple[tuple[str, str], ...]

    def key(self, steps: int) -> Key:
        """Return the key; it has no bar."""
        del steps
        return Key("which file lies where", None, entries=self.entries)


def seam_picture(found: Belonging) -> Rgba:
    """Return (rows, columns, 4) uint8: a colour per raster, seams as white lines, and the verdict.

    What several rasters are mixed in is grey.
    """
    entries = colormaps["pebbles"].entries
    rgba = np.zeros((*found.owners.shape, 4), np.uint8)
    named = []
    for which, name in enumerate(found.names):
        color = entries[which % len(entries)]
        here = found.owners == which
        rgba[here] = color
        if here.any():
            named.append((f"#{bytes(color[:3]).hex()}", name))
    if (found.owners == SEVERAL).any():
        rgba[found.owners == SEVERAL] = _MIXED
        named.append(("#969696", "several, mixed"))
    rgba[seam_lines(found.owners) & (found.owners != NOTHING)] = _LINE
    more = [("#000000", f"and {len(named) - _MOST} more")] if len(named) > _MOST else []
    shown = _Said((*named[:_MOST], *more))
    return with_key_and_caption(rgba, [shown], "right", found.verdict)  # type: ignore[list-item]
