"""Several rasters brought together: placed, aligned, joined, laid over one another."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from spectrane.model.errors import GridMismatch
from spectrane.model.source import flat_source_of
from spectrane.raster import Raster
from spectrane.spatial.described import with_nodata
from spectrane.spatial.grids import grid_of

if TYPE_CHECKING:
    import pandas

    from spectrane.display.layer_file import LayerFile
    from spectrane.display.layers import AnyLayer, Stack
    from spectrane.display.picture import Picture
    from spectrane.model.grid import CrsLike
    from spectrane.model.view import View
    from spectrane.spatial.aligning import Alignment
    from spectrane.spatial.mosaics.joining import Mosaic
    from spectrane.spatial.placing import Placement


def place(
    raster: Raster, *, corners: Any = None, bounds: Any = None, points: Any = None,
    crs: CrsLike | None = None, points_crs: CrsLike | None = None, fit: str | None = None,
    resample: str | None = None, pixel_size: Any = None, force: bool = False,
    leave_out: Sequence[str] = (),
) -> Raster:  # fmt: skip
    """Return a picture with a place on a map: see ``spatial.placing.place``.

    How well tie points fit stands in ``metadata["placement"]``; ``placement`` gives it as a table.

    >>> import numpy as np, spectrane as sp
    >>> placed = place(sp.from_array(np.zeros((10, 20))), bounds=(0, 0, 40, 20))
    >>> placed.grid.pixel_size
    (2.0, 2.0)
    """
    from spectrane.spatial.placing import place as give_place

    made, _ = give_place(
        raster._source, corners=corners, bounds=bounds, points=points, crs=crs,
        points_crs=points_crs, fit_kind=fit, resample=resample, pixel_size=pixel_size,
        force=force, leave_out=leave_out,
    )  # fmt: skip
    return Raster(made)


def placement(raster: Raster, **given: Any) -> Placement:
    """Return how well a place fits, without taking it: the arguments are those of ``place``."""
    from spectrane.spatial.placing import place as give_place

    kind = given.pop("fit", None)
    return give_place(raster._source, fit_kind=kind, **given)[1]


def residuals(placement: Placement | Raster) -> pandas.DataFrame:
    """Return a row per tie point: where it is, and how far it misses, in map units and pixels.

    ``miss_alone`` is the miss when the point is left out of the fit.
    """
    import pandas

    if isinstance(placement, Raster):
        rows = placement.metadata.get("placement", {}).get("points", [])
    else:
        rows = placement.to_dict()["points"]
    return pandas.DataFrame(rows)


def align(raster: Raster, to: Raster, *, kind: str = "shift", band: int | None = None) -> Alignment:
    """Find how a raster must be moved to fall on another: see ``spatial.aligning.align``.

    ``band`` is a number from 1. ``moved`` takes what was found out.
    """
    from spectrane.spatial.aligning import align as find

    return find(raster._source, to._source, kind=kind, band=None if band is None else band - 1)


def moved(raster: Raster, to: Raster, alignment: Alignment) -> Raster:
    """Return a raster with a misalignment taken out of its grid; no pixel is touched."""
    from spectrane.spatial.aligning import moved as take_out

    return Raster(take_out(raster._source, to._source, alignment))


def mosaic(
    rasters: Iterable[Raster], *, rule: str = "top", width: float | None = None,
    balance: str | None = None, reference: int = 1, grid: Any = None, resample: str | None = None,
    order: str | None = None, keys: Any = None, nodata: Any = None,
    nodata_when: str | None = None, trim: float = 0, align: str | None = None,
    force: bool = False,
) -> Raster:  # fmt: skip
    """Return many rasters as one, each on top of the one before.

    ``rule``: ``top``, ``bottom``, ``least``, ``greatest``, ``average``, ``feather`` (over ``width``
    pixels from each one's valid edge) or ``seam`` (where they agree best, with a feather of
    ``width``). ``balance``: ``gain``, ``gain+bias``, or ``histogram`` (matched to ``reference``,
    from 1). ``grid`` (default: the union on the first one's) is a Grid or what has one. ``order``:
    ``argument``, ``date``, ``cloud`` or ``distance:X,Y``; ``keys`` may name dates or cloud cover.
    ``nodata`` and ``nodata_when`` say anew what means nothing; ``trim`` takes so many pixels more
    off its edge. ``align`` moves each onto those before: ``shift`` or ``affine``. Numbers that are
    names of classes are mixed only with ``force``.

    Raises GridMismatch, BandError, MetadataError where they cannot be joined.
    """
    return Raster(_mosaic(
        rasters, rule=rule, width=width, balance=balance, reference=reference, grid=grid,
        resample=resample, order=order, keys=keys, nodata=nodata, nodata_when=nodata_when,
        trim=trim, align=align, force=force,
    ))  # fmt: skip


def _mosaic(
    rasters: Iterable[Raster], *, rule: str, width: float | None, balance: str | None,
    reference: int, grid: Any, resample: str | None, order: str | None, keys: Any, nodata: Any,
    nodata_when: str | None, trim: float, align: str | None, force: bool,
) -> Mosaic:  # fmt: skip
    from spectrane.spatial.aligning import aligned
    from spectrane.spatial.masks import trimmed
    from spectrane.spatial.mosaics.composing import Rule
    from spectrane.spatial.mosaics.inputs import ordered
    from spectrane.spatial.mosaics.joining import Mosaic

    joined = Rule(rule, width, balance, reference - 1)
    sources = [flat_source_of(raster) for raster in rasters]
    if nodata is not None or nodata_when is not None:
        sources = [
            with_nodata(one, nodata if nodata is not None else {}, nodata_when) for one in sources
        ]
    sources = [trimmed(one, trim) for one in sources]
    told: list[dict[str, Any]] = []
    if align is not None:
        sources, told = aligned(sources, align)
    sources = [sources[k] for k in ordered(sources, order, keys)]
    made = Mosaic(sources, joined, grid=None if grid is None else grid_of(grid), resample=resample,
                  force=force)  # fmt: skip
    if told:
        made.metadata = {**made.metadata, "alignment": told}
    return made


def overlaps(raster: Raster) -> pandas.DataFrame:
    """Return a row per overlap and band of a mosaic: its area, and the mean difference in it.

    ``before`` is the second raster's mean less the first's, ``after`` that under the mosaic's
    balance. Raises GridMismatch for a raster that is no mosaic.
    """
    import pandas

    from spectrane.spatial.mosaics.balancing import overlap_rows, overlaps_of
    from spectrane.spatial.mosaics.joining import Mosaic

    source = raster._source
    if not isinstance(source, Mosaic):
        raise GridMismatch("overlaps: expected what mosaic returns")
    kept = source.composition.settled.balance
    found = kept.overlaps if kept is not None else overlaps_of(source.laid, len(source.bands))
    corrections = None if kept is None else kept.corrections
    return pandas.DataFrame(overlap_rows(source.laid, source, found, corrections))


def join_bands(rasters: Iterable[Raster]) -> Raster:
    """Return the bands of several rasters on one grid as one raster.

    Types become NumPy's ``result_type``. Raises GridMismatch where the grids differ: regrid first.

    >>> import numpy as np, spectrane as sp
    >>> one = sp.from_array(np.ones((2, 2), np.uint8))
    >>> join_bands([one, one]).shape
    (2, 2, 2)
    """
    from spectrane.spatial.joined import Joined

    return Raster(Joined([flat_source_of(raster) for raster in rasters]))


def overlay(
    layers: Sequence[AnyLayer], *, grid: Any = None, view: View | None = None,
    size: tuple[int, int] | None = None, area: str = "bottom",
) -> Picture:  # fmt: skip
    """Return one picture of layers, the first the lowest: see ``display.layers.stacked``."""
    return stack(layers, grid=grid, view=view, size=size, area=area).picture()


def stack(
    layers: Sequence[AnyLayer], *, grid: Any = None, view: View | None = None,
    size: tuple[int, int] | None = None, area: str = "bottom",
) -> Stack:  # fmt: skip
    """Return layers drawn on one grid and kept apart, for a page, tiles or a picture."""
    from spectrane.display.layers import stacked

    chosen = None if grid is None else grid_of(grid)
    return stacked(list(layers), grid=chosen, view=view, size=size, area=area)


def load_layers(path: str | os.PathLike[str]) -> LayerFile:
    """Return the layers and the grid that a layer file describes: see ``docs/layers.md``."""
    from spectrane.display.layer_file import read_layers

    return read_layers(path)
