"""Several rasters brought together: placed, aligned, joined, laid over one another."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, overload

from spectrane.kernels.quiet import quiet
from spectrane.model.asking import as_tuple
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.source import flat_source_of
from spectrane.raster import Raster
from spectrane.spatial.described import with_nodata
from spectrane.spatial.grids import grid_of
from spectrane.volume import Volume

if TYPE_CHECKING:
    import pandas

    from spectrane.display.layer_file import LayerFile
    from spectrane.display.layers import Stack, StackArea
    from spectrane.display.picture import Picture
    from spectrane.looking import Shown
    from spectrane.model.addresses import FileLike, FilePath
    from spectrane.model.asking import GridLike, NoDataLike, PointsLike, Spacings
    from spectrane.model.band import BandName
    from spectrane.model.grid import CrsLike
    from spectrane.model.look import NoDataWhen
    from spectrane.model.resampling import Resampling
    from spectrane.model.view import View
    from spectrane.spatial.aligning import Alignment, AlignmentKind
    from spectrane.spatial.fitting import Fit
    from spectrane.spatial.mosaics.balancing import BalanceBy
    from spectrane.spatial.mosaics.composing import MosaicRule
    from spectrane.spatial.placing import Placement
    from spectrane.spatial.rigid import Likeness, RigidAlignment


@quiet
def place(
    raster: Raster, *, corners: Sequence[Sequence[float]] | None = None,
    bounds: Sequence[float] | None = None, points: PointsLike | None = None,
    crs: CrsLike | None = None, points_crs: CrsLike | None = None, fit: Fit | None = None,
    resample: Resampling | None = None, pixel_size: Spacings | None = None, force: bool = False,
    leave_out: Sequence[str] = (),
) -> Raster:  # fmt: skip
    """Return a picture with a place on a map, by one of ``corners``, ``bounds`` and ``points``.

    ``corners`` are map positions (x, y) of the first and the last pixel's outer corners, or of all
    four outer corners clockwise from the first pixel's; ``bounds`` (x min, y min, x max, y max);
    ``points`` tie points with row, column (from outer edges), x and y. ``crs`` is the system of the
    result, ``points_crs`` that of the positions where it is another. ``fit`` None is projective for
    four corners that are no parallelogram, and affine else; ``polynomial`` is of second order.
    ``leave_out`` names tie points that are not to be used.

    Where the fit is affine no pixel is touched; else the result is resampled lazily, to
    ``pixel_size`` in units of ``crs``. How well points fit stands in ``metadata["placement"]``;
    ``placement`` and ``residuals`` give it as an object and a table. Raises GridMismatch for points
    that decide no fit, and for latitudes that are none. Warns of misses of many pixels and of
    pixels that come out stretched.

    >>> import numpy as np, spectrane as sp
    >>> placed = sp.place(sp.from_array(np.zeros((10, 20))), bounds=(0, 0, 40, 20))
    >>> placed.grid.pixel_size
    (2.0, 2.0)
    """
    from spectrane.spatial.placing import give_place as give_place

    made, _ = give_place(
        raster._source, corners=corners, bounds=bounds, points=points, crs=crs,
        points_crs=points_crs, fit_kind=fit, resample=resample, pixel_size=pixel_size,
        force=force, leave_out=leave_out,
    )  # fmt: skip
    return Raster(made)


@quiet
def placement(
    raster: Raster, *, corners: Sequence[Sequence[float]] | None = None,
    bounds: Sequence[float] | None = None, points: PointsLike | None = None,
    crs: CrsLike | None = None, points_crs: CrsLike | None = None, fit: Fit | None = None,
    leave_out: Sequence[str] = (),
) -> Placement:  # fmt: skip
    """Return how well a place fits, without taking it: the arguments are those of ``place``.

    >>> import numpy as np, spectrane as sp
    >>> sp.placement(sp.from_array(np.zeros((10, 20))), bounds=(0, 0, 40, 20)).rms
    0.0
    """
    from spectrane.spatial.placing import give_place as give_place

    return give_place(
        raster._source, corners=corners, bounds=bounds, points=points, crs=crs,
        points_crs=points_crs, fit_kind=fit, leave_out=leave_out,
    )[1]  # fmt: skip


@quiet
def residuals(placement: Placement | Raster) -> pandas.DataFrame:
    """Return a row per tie point: where it is, and how far it misses, in map units and pixels.

    ``miss_alone`` is the miss when the point is left out of the fit. Empty where there were none.

    >>> import numpy as np, spectrane as sp
    >>> sp.residuals(sp.place(sp.from_array(np.zeros((10, 20))), bounds=(0, 0, 40, 20))).empty
    True
    """
    import pandas

    if isinstance(placement, Raster):
        rows = placement.metadata.get("placement", {}).get("points", [])
    else:
        rows = placement.to_dict()["points"]
    return pandas.DataFrame(rows)


@overload
def align(
    raster: Raster, to: Raster, *, kind: AlignmentKind = "shift", band: int | None = None
) -> Alignment: ...


@overload
def align(
    raster: Volume, to: Volume, *, likeness: Likeness | None = None, frame: BandName = 1,
    to_frame: BandName = 1,
) -> RigidAlignment: ...  # fmt: skip


@quiet
def align(
    raster: Raster | Volume, to: Raster | Volume, *, kind: AlignmentKind = "shift",
    band: int | None = None, likeness: Likeness | None = None, frame: BandName = 1,
    to_frame: BandName = 1,
) -> Alignment | RigidAlignment:  # fmt: skip
    """Find how a raster or a volume must be moved to fall on another, to parts of a pixel.

    Of rasters ``kind`` is ``shift``, or ``affine`` (also turned, scaled, sheared). ``band`` (from
    1) is compared; None: the mean of those that both have in common order. Volumes are moved and
    turned (rigidly): ``likeness`` compares their values by ``correlation``, or by what they tell of
    each other, ``information``, for different modalities; None is what fits. ``frame`` and
    ``to_frame`` are compared. ``apply_alignment`` takes what was found out, ``amend(alignment=)``
    keeps it with a volume. Raises GridMismatch where they do not overlap, or too little to tell, or
    where volumes are no more alike than by chance.

    >>> import numpy as np, spectrane as sp
    >>> sea = np.random.default_rng(1).normal(size=(80, 80)).cumsum(0).cumsum(1)
    >>> grid = sp.Grid.from_corner((64, 64), x=0, y=64, pixel_size=1, crs="EPSG:32727")
    >>> first, second = (sp.from_array(sea[k : k + 64, :64], grid=grid) for k in (0, 2))
    >>> round(sp.align(second, first).rows, 1)
    2.0
    """
    source, other = raster._source, to._source
    if len(source.shape) != len(other.shape):
        raise GridMismatch("align: a raster and a volume; expected two rasters, or two volumes")
    if len(source.shape) == 3:
        from spectrane.spatial.rigid import find_rigid

        if band is not None or kind != "shift":
            raise LookError("align: kind and band are for rasters; volumes take likeness and frame")
        return find_rigid(source, other, likeness=likeness, frame=frame, to_frame=to_frame)
    if likeness is not None or (frame, to_frame) != (1, 1):
        raise LookError("align: likeness and frame are for volumes; rasters take kind and band")
    from spectrane.spatial.aligning import find_alignment as find

    return find(source, other, kind=kind, band=None if band is None else band - 1)


@overload
def apply_alignment(raster: Raster, to: Raster, alignment: Alignment) -> Raster: ...


@overload
def apply_alignment(raster: Volume, to: Volume, alignment: RigidAlignment) -> Volume: ...


@quiet
def apply_alignment(
    raster: Raster | Volume, to: Raster | Volume, alignment: Alignment | RigidAlignment
) -> Raster | Volume:
    """Return a raster or a volume with a misalignment taken out of its grid; no pixel is touched.

    >>> import numpy as np, spectrane as sp
    >>> sea = np.random.default_rng(1).normal(size=(80, 80)).cumsum(0).cumsum(1)
    >>> grid = sp.Grid.from_corner((64, 64), x=0, y=64, pixel_size=1, crs="EPSG:32727")
    >>> first, second = (sp.from_array(sea[k : k + 64, :64], grid=grid) for k in (0, 2))
    >>> mended = sp.apply_alignment(second, first, sp.align(second, first))
    >>> round(mended.grid.bounds[3], 1)
    62.0
    """
    if isinstance(raster, Volume):
        from spectrane.spatial.rigid import RigidAlignment, moved

        if not isinstance(alignment, RigidAlignment):
            raise GridMismatch("apply_alignment: the alignment is that of two rasters")
        return Volume(moved(raster._source, alignment))
    from spectrane.spatial.aligning import Alignment, realigned

    if not isinstance(alignment, Alignment):
        raise GridMismatch("apply_alignment: the alignment is that of two volumes")
    return Raster(realigned(raster._source, to._source, alignment))


@quiet
def mosaic(
    rasters: Iterable[Raster], *, rule: MosaicRule = "top", width: float | None = None,
    balance: BalanceBy | None = None, reference: int = 1, grid: GridLike | None = None,
    resample: Resampling | None = None, order: str | None = None,
    keys: Mapping[str, Sequence[object]] | None = None, nodata: NoDataLike = None,
    nodata_when: NoDataWhen | None = None, trim: float = 0, align: AlignmentKind | None = None,
    force: bool = False,
) -> Raster:  # fmt: skip
    """Return many rasters as one, each on top of the one before.

    ``rule`` ``feather`` fades over ``width`` pixels from each one's valid edge, ``seam`` cuts where
    they agree best, with a feather of ``width``. ``balance``: ``gain``, ``gain+bias``, or
    ``histogram`` (matched to ``reference``, from 1). ``grid`` (default: the union on the first
    one's) is a Grid or what has one. ``order``: ``argument``, ``date``, ``cloud`` or
    ``distance:X,Y``; ``keys`` may name dates or cloud cover. ``nodata`` and ``nodata_when`` say
    anew what means nothing; ``trim`` takes so many pixels more off its edge. ``align`` moves each
    onto those before. Numbers that are names of classes are mixed only with ``force``.

    Nothing is read yet. Raises GridMismatch, BandError, MetadataError where they cannot be joined.

    >>> import numpy as np, spectrane as sp
    >>> left, right = (sp.from_array(np.full((1, 2), v), grid=sp.Grid.from_corner(
    ...     (1, 2), x=x, y=1, pixel_size=1)) for v, x in ((1, 0), (2, 1)))
    >>> sp.mosaic([left, right]).pixels().tolist()
    [[[1, 2, 2]]]
    """
    from spectrane.spatial.aligning import aligned
    from spectrane.spatial.masks import trimmed
    from spectrane.spatial.mosaics.composing import CompositionRule
    from spectrane.spatial.mosaics.inputs import ordered
    from spectrane.spatial.mosaics.joining import Mosaic

    joined = CompositionRule(rule, width, balance, reference - 1)
    sources = [flat_source_of(raster) for raster in rasters]
    if nodata is not None or nodata_when is not None:
        sources = [
            with_nodata(source, nodata if nodata is not None else {}, nodata_when)
            for source in sources
        ]
    sources = [trimmed(source, trim) for source in sources]
    told: list[dict[str, Any]] = []
    if align is not None:
        sources, told = aligned(sources, align)
    sources = [sources[k] for k in ordered(sources, order, keys)]
    made = Mosaic(sources, joined, grid=None if grid is None else grid_of(grid), resample=resample,
                  force=force)  # fmt: skip
    if told:
        made.metadata = {**made.metadata, "alignment": told}
    return Raster(made)


@quiet
def overlaps(raster: Raster) -> pandas.DataFrame:
    """Return a row per overlap and band of a mosaic: its area, and the mean difference in it.

    ``before`` is the second raster's mean less the first's, ``after`` that under the mosaic's
    balance. Raises GridMismatch for a raster that is no mosaic.

    >>> import numpy as np, spectrane as sp
    >>> left, right = (sp.from_array(np.full((1, 2), v), grid=sp.Grid.from_corner(
    ...     (1, 2), x=x, y=1, pixel_size=1)) for v, x in ((1, 0), (3, 1)))
    >>> sp.overlaps(sp.mosaic([left, right]))[["pixels", "before"]].values.tolist()
    [[1.0, 2.0]]
    """
    import pandas

    from spectrane.spatial.mosaics.balancing import overlap_rows, overlaps_of
    from spectrane.spatial.mosaics.joining import Mosaic

    source = raster._source
    if not isinstance(source, Mosaic):
        raise GridMismatch("overlaps: expected what mosaic returns")
    kept = source.composition.resolved.balance
    pairs = kept.overlaps if kept is not None else overlaps_of(source.laid, len(source.bands))
    corrections = None if kept is None else kept.corrections
    return pandas.DataFrame(overlap_rows(source.laid, source, pairs, corrections))


@quiet
def seams(raster: Raster, *, size: Sequence[int] = (1024, 1024)) -> pandas.DataFrame:
    """Return what remains at the seams of a mosaic: a row per pair of rasters that meet, and band.

    Columns: ``first second band pixels step usual share unit``. ``step`` is the mean difference
    across the seam (the second less the first), ``usual`` that of neighbours elsewhere, ``share``
    the one over the other: below a half, no seam stands out. The mosaic is looked at in ``size``
    (rows, columns) at most. ``attrs["verdict"]`` says it in a line. Raises GridMismatch for a
    raster that is no mosaic.

    >>> import numpy as np, spectrane as sp
    >>> left, right = (sp.from_array(np.full((20, 20), v), grid=sp.Grid.from_corner(
    ...     (20, 20), x=x, y=20, pixel_size=1)) for v, x in ((1, 0), (3, 20)))
    >>> sp.seams(sp.mosaic([left, right]))[["pixels", "step"]].values.tolist()
    [[20.0, 2.0]]
    """
    import pandas

    from spectrane.spatial.mosaics.belonging import belonging

    found = belonging(raster._source, (int(size[0]), int(size[1])))
    names = ("first", "second", "band", "pixels", "step", "usual", "share", "unit")
    rows = [{name: getattr(one, name) for name in names} for one in found.steps]
    table = pandas.DataFrame(rows, columns=list(names))
    table.attrs["verdict"] = found.verdict
    return table


@quiet
def join_bands(
    rasters: Iterable[Raster], *, regrid: bool = False, grid: GridLike | None = None,
    resample: Resampling | None = None, names: Sequence[str] | None = None,
    roles: Sequence[str | None] | None = None, notes: FilePath | None = None,
) -> Raster:  # fmt: skip
    """Return the bands of several rasters on one grid as one raster.

    Types become NumPy's ``result_type``; units, scales and no-data are kept. With ``regrid`` all
    are brought onto the grid of the finest pixels among them, or onto ``grid``, a Grid or what has
    one (``resample`` as ``Raster.regrid`` has it); bands without a name are called by what tells
    their files apart, and roles follow from names in words (``nir``, ``red edge``) and wavelengths
    (``665nm``). ``names`` and ``roles`` are those of all bands, in order. ``notes`` names a text
    of ``key = value`` lines with scales and offsets, such as ``B02 scale = 0.0001``, and after a
    comma the quantity where it tells of several; without it none are guessed.

    Raises GridMismatch where the grids differ and ``regrid`` is not asked for, or cannot be
    related; MetadataError for names, roles or notes that do not fit.

    >>> import numpy as np, spectrane as sp
    >>> band = sp.from_array(np.ones((2, 2), np.uint8))
    >>> sp.join_bands([band, band]).shape
    (2, 2, 2)
    """
    from spectrane.spatial.joined import JoinedBands

    sources = [flat_source_of(raster) for raster in rasters]
    told = (grid, resample, names, roles, notes)
    if not regrid and all(one is None for one in told):
        return Raster(JoinedBands(sources))
    from spectrane.stacks import bands_on_one_grid

    if not regrid and grid is None:
        JoinedBands(sources)  # which says where they do not lie on one another
    target = None if grid is None else grid_of(grid)
    return Raster(bands_on_one_grid(
        sources, grid=target, resample=resample, names=names, roles=roles,
        notes=None if notes is None else os.fspath(notes),
    ))  # fmt: skip


@quiet
def overlay(
    layers: Sequence[Shown], *, grid: GridLike | None = None, view: View | None = None,
    size: Sequence[int] | None = None, area: StackArea = "bottom",
) -> Picture:  # fmt: skip
    """Return one picture of layers, the first the lowest; the arguments are those of ``stack``.

    >>> import numpy as np, spectrane as sp
    >>> low, high = (sp.from_array(np.full((2, 2), v, np.uint8)) for v in (0, 200))
    >>> limits = sp.Look(limits="type")
    >>> picture = sp.overlay([sp.Layer(low, limits), sp.Layer(high, limits, opacity=0.5)])
    >>> picture.rgba[0, 0].tolist()
    [100, 100, 100, 255]
    """
    return stack(layers, grid=grid, view=view, size=size, area=area).picture()


@quiet
def stack(
    layers: Sequence[Shown], *, grid: GridLike | None = None, view: View | None = None,
    size: Sequence[int] | None = None, area: StackArea = "bottom",
) -> Stack:  # fmt: skip
    """Return layers drawn on one grid and kept apart, for a page, tiles or a picture.

    ``layers`` are rasters, (raster, look) pairs, ``Layer`` and ``Outline``, the lowest first. They
    are drawn on ``grid``, or on the first raster's over ``view`` or ``area``: what the ``bottom``
    raster covers, or the ``union`` of all. ``size`` is (rows, columns); the picture fits inside.
    Layers that are cut, and those that do not meet the area, are told with a warning. Raises
    GridMismatch where none meets it, or where layers cannot be related.

    >>> import numpy as np, spectrane as sp
    >>> sea = sp.Layer(sp.from_array(np.arange(64.0).reshape(8, 8)), name="sea")
    >>> [layer.title for layer in sp.stack([sea]).layers]
    ['sea']
    """
    from spectrane.display.layers import stacked

    chosen = None if grid is None else grid_of(grid)
    return stacked(list(layers), grid=chosen, view=view, size=as_tuple(size), area=area)


@quiet
def load_layers(
    path: FileLike, *, storage_options: Mapping[str, Any] | None = None
) -> LayerFile:  # fmt: skip
    r"""Return the layers and the grid that a layer file (TOML, docs/layers.md) describes.

    ``path`` may be an fsspec URL, bytes or an open binary file. What it names is looked for from
    its own folder, in its own storage; ``storage_options`` are those of addresses, its own and
    those that it names. Raises MissingFile, and LookError, which says what is wrong and where.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     sp.from_array(np.ones((2, 3), np.uint8)).save(os.path.join(folder, "a.tif"))
    ...     path = os.path.join(folder, "a.layers.toml")
    ...     with open(path, "w") as file:
    ...         _ = file.write('[[layer]]\nfile = "a.tif"\nopacity = 0.5')
    ...     sp.load_layers(path).layers[0].opacity
    0.5
    """
    from spectrane.display.layer_file import read_layers

    return read_layers(path, storage_options)
