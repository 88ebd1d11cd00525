"""Looking at rasters and volumes: pictures, what stands under a point, values by band."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, TypeAlias

from spectrane.kernels.quiet import quiet
from spectrane.model.asking import as_tuple
from spectrane.model.errors import LookError
from spectrane.model.grid import CrsLike
from spectrane.model.look import Look
from spectrane.model.marks import tell_picture
from spectrane.model.source import Source, flat_source_of, source_of
from spectrane.raster import Raster

if TYPE_CHECKING:
    import pandas

    from spectrane.display.outlines import LayerBase
    from spectrane.display.picture import Picture
    from spectrane.display.shown_values import ShownValues
    from spectrane.display.suggestions import Suggestion
    from spectrane.model.asking import ShapeLike, VolumePoints
    from spectrane.model.view import View
    from spectrane.volume import Volume

    Shown: TypeAlias = Raster | tuple[Raster, Look | None] | LayerBase
    Probed: TypeAlias = Shown | Volume | tuple[Volume, Look | None]


@quiet
def render(
    raster: Raster | Sequence[Shown], look: Look | None = None, *, view: View | None = None,
    size: Sequence[int] | None = None,
) -> Picture:  # fmt: skip
    """Draw a raster as a look says, or layers on one another; the data stay as they are.

    ``raster`` may be a list of rasters, (raster, look) pairs, ``Layer`` and ``Outline``, the lowest
    first, each with its own look. ``look`` None is what the file keeps, else what its numbers
    suggest. ``view`` is the part that is drawn. ``size`` is (rows, columns): the picture fits
    inside without being stretched; None draws one picture pixel per raster pixel, up to 2048.

    Warns (DataWarning) where the picture is likely to mislead. Raises BandError, LookError,
    GridMismatch where nothing would be seen.

    >>> import numpy as np, spectrane as sp
    >>> picture = sp.render(sp.from_array(np.array([[0, 128, 255]], np.uint8)))
    >>> picture.rgba[0, :, 0].tolist()
    [0, 128, 255]
    """
    from spectrane.display import render as _render

    if isinstance(raster, list | tuple):
        from spectrane.display.layers import draw_layers

        if look is not None:
            raise LookError("render: layers have looks of their own: Layer(raster, look)")
        return draw_layers(list(raster), view=view, size=as_tuple(size))
    return _render.draw_raster(flat_source_of(raster), look, view=view, size=as_tuple(size))


@quiet
def probe(
    layers: Probed | Sequence[Probed], *, x: float | None = None, y: float | None = None,
    z: float | None = None, row: int | None = None, column: int | None = None,
    i: int | None = None, j: int | None = None, k: int | None = None,
    points: VolumePoints | None = None, crs: CrsLike | None = None,
) -> pandas.DataFrame:  # fmt: skip
    """Return what stands under a point, a row per point, layer and band (or frame).

    ``layers`` is a raster, a (raster, look) pair or a ``Layer``, or a list of them: one point by
    ``x`` and ``y`` (in ``crs``, or the first one's system) or ``row`` and ``column`` (from 0).
    Or likewise volumes and ``VolumeLayer``: by ``x``, ``y`` and ``z`` in mm or ``i``, ``j`` and
    ``k``. Many by ``points``: mappings, a table, CSV; shapes on maps.

    Columns of rasters: ``point layer row column band stored physical unit level color shown note``;
    ``level`` and ``color`` are what the look shows there. Of volumes: ``point layer x y z i j k
    frame stored physical unit shown``, of the voxel the point lies in, never a mixture. A layer
    that a point misses has no row; a point outside the first raster has one whose ``note`` says so.
    Raises GridMismatch where all points lie outside, LookError for what is no point.

    >>> import numpy as np, spectrane as sp
    >>> sp.probe(sp.from_array(np.array([[0, 51]], np.uint8)), row=0, column=1)["level"].tolist()
    [51]
    >>> held = sp.volume_from_array(np.arange(8).reshape(2, 2, 2), affine=np.diag([2, 2, 2, 1]))
    >>> sp.probe(held, x=2.4, y=0.9, z=0)[["i", "j", "k", "stored"]].values.tolist()
    [[1, 0, 0, 4]]
    """
    import pandas

    return pandas.DataFrame(probe_rows(layers, x=x, y=y, z=z, row=row, column=column, i=i, j=j,
                                       k=k, points=points, crs=crs))  # fmt: skip


@quiet
def probe_rows(
    layers: Probed | Sequence[Probed], *, points: VolumePoints | None = None,
    crs: CrsLike | None = None, **position: float | None,
) -> list[dict[str, Any]]:  # fmt: skip
    """Return the rows of ``probe`` as plain mappings, which needs no pandas.

    >>> import numpy as np, spectrane as sp
    >>> sp.probe_rows(sp.from_array(np.array([[0, 51]], np.uint8)), row=0, column=1)[0]["stored"]
    51
    """
    listed = _listed(layers)
    said = {name: value for name, value in position.items() if value is not None}
    if not any(is_deep(layer) for layer in listed):
        from spectrane.display.probing import probed

        _refuse("rasters", said, "zijk")
        return probed(listed, **said, points=points, crs=crs)
    from spectrane.display.volume_layers import volume_layer
    from spectrane.display.volume_probing import probed_volumes

    _refuse("volumes", said | ({} if crs is None else {"crs": 0}), ("row", "column", "crs"))
    asked: Any = [said] if points is None else points
    return probed_volumes([volume_layer(layer) for layer in listed], asked)


def _listed(layers: Any) -> list[Any]:
    """Return what is asked as a list: several, one, or one (raster, look) pair."""
    if isinstance(layers, tuple) and len(layers) == 2 and isinstance(layers[1], Look | None):
        return [layers]
    return list(layers) if isinstance(layers, list | tuple) else [layers]


def is_deep(layer: Any) -> bool:
    """Tell whether something is a volume, a pair with one, or a layer of one."""
    first = layer[0] if isinstance(layer, tuple) and layer else layer
    source = getattr(first, "_source", getattr(first, "source", first))
    return isinstance(source, Source) and len(source.shape) == 3


@quiet
def profile(
    raster: Raster | Volume, points: VolumePoints | None = None, *,
    region: Volume | Mapping[str, Volume] | None = None, labels: Volume | None = None,
    names: Sequence[str | int] | None = None,
    crs: CrsLike | None = None,
) -> pandas.DataFrame:  # fmt: skip
    """Return a value by band, or by frame, at points, or mean and σ over regions.

    Of a raster: ``points`` as for ``probe``, or shapes with polygons; columns ``zone band
    wavelength nominal unit count invalid mean std min max p5 p50 p95 note``; a point counts 1, and
    ``nominal`` marks wavelengths that only roles tell. Of a volume:
    ``points`` in mm or voxels, ``region``, a volume that is not 0 where voxels count, or several by
    name, or ``labels`` with ``names``; columns as ``Volume.profile``. Raises GridMismatch where all
    lie outside.

    >>> import numpy as np, spectrane as sp
    >>> over_time = np.arange(8.0).reshape(2, 1, 2, 2)
    >>> held = sp.volume_from_array(over_time, affine=np.eye(4), frames=["rest", "walk"])
    >>> sp.profile(held, {"i": 0, "j": 1, "k": 0})[["frame", "mean"]].values.tolist()
    [['rest', 2.0], ['walk', 6.0]]
    """
    if not isinstance(raster, Raster):
        if crs is not None:
            raise LookError("crs is not for volumes")
        return raster.profile(points, region=region, labels=labels, names=names)
    if any(one is not None for one in (region, labels, names)):
        raise LookError("region and labels are not for rasters, which take polygons as points")
    import pandas

    from spectrane.analysis.spectra import zone_table
    from spectrane.spatial.regions import zones_of

    tell_picture(raster._source)
    zones = zones_of(raster._source, points, crs)
    return pandas.DataFrame(zone_table(raster._source, range(len(raster.bands)), zones))


@quiet
def shown_values(
    raster: Raster | Volume, look: Look | None = None, *, view: View | None = None
) -> list[ShownValues]:
    """Return per displayed channel how often values occur, where the limits lie, what is shown.

    Of a volume all voxels count. ``view`` is the part of a raster that counts; of more than four
    million pixels an even sample does, which ``complete`` tells. Raises LookError where colours go
    by classes, which have no limits.

    >>> import numpy as np, spectrane as sp
    >>> ramp = sp.from_array(np.arange(100.0).reshape(10, 10))
    >>> shown = sp.shown_values(ramp, sp.Look(limits=(0, 49.5)))[0]
    >>> int(shown.counts.sum()), shown.above
    (100, 0.5)
    """
    from spectrane.display.shown_values import count_shown
    from spectrane.model.view import view_of

    return count_shown(source_of(raster), look, view_of(view))


@quiet
def suggest_looks(raster: Raster) -> list[Suggestion]:
    """Return up to eight looks that fit a raster, the likeliest first.

    Composites by roles, indices, curves, colour maps by what a band means; each says why, and
    which options of ``spectrane render`` give it. ``figures.suggestions`` draws them.

    >>> import numpy as np, spectrane as sp
    >>> bands = [sp.Band(role, role=role) for role in ("green", "red", "nir")]
    >>> raster = sp.from_array(np.ones((3, 4, 5)), bands=bands)
    >>> sp.suggest_looks(raster)[0].options
    '--channels infrared --limits percentile:2,98'
    """
    from spectrane.display.suggestions import looks_that_fit

    return looks_that_fit(flat_source_of(raster))


@quiet
def explain(raster: Raster, look: Look | None = None) -> list[str]:
    """Return sentences on how a raster comes out, why, and what to do about it.

    Which bands are shown and between which limits; and where the picture is black, white, flat,
    grey, clear or oddly coloured, what makes it so. ``look`` None is what ``render`` takes.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.full((9, 9), 3, np.uint8))
    >>> sp.explain(raster)[2].split(".")[0]
    'Black: the mean level is 1%'
    """
    from spectrane.display.explaining import explained

    return explained(flat_source_of(raster), look)


@quiet
def limits_like(
    rasters: Raster | Sequence[Raster], look: Look | None = None, *,
    without: Raster | ShapeLike | None = None,
) -> Look:  # fmt: skip
    """Return a look with the limits that it finds in rasters, all together, as numbers.

    So that other pictures can be drawn between the same: those of one scene for all, or of all
    scenes for each. No-data counts in none of them. Every pixel counts up to 16 million in all, or
    with ``exact``; of more, a sample of each in proportion to its size. ``without`` leaves pixels
    out: where a raster (of clouds, say) is not 0, or inside shapes. Raises LookError where rasters
    show different numbers of channels or their limits follow different rules.

    >>> import numpy as np, spectrane as sp
    >>> dates = [sp.from_array(np.array([[0.0, top]])) for top in (5, 9)]
    >>> look = sp.limits_like(dates, sp.Look(limits="minmax"))
    >>> str(look.limits[0]), sp.render(dates[0], look).scales[0].limits
    ('fixed:0,9', 'minmax of 2 rasters')
    """
    from spectrane.display.common_limits import common_limits

    listed: list[Any] = list(rasters) if isinstance(rasters, list | tuple) else [rasters]
    if not listed:
        raise LookError("limits_like: expected one raster or several, not an empty list")
    if without is not None:
        listed = [uncovered(raster, without) for raster in listed]
    scenes = [(one := flat_source_of(raster), look or one.look or Look()) for raster in listed]
    return common_limits(scenes, covered=without is not None)[0]


def uncovered(raster: Raster, cover: Any, *, bits: str | None = None) -> Raster:
    """Return a raster without the pixels that a mask chooses or shapes hold.

    A raster chooses where it is not 0, or passes a test of its ``bits``.
    """
    if not isinstance(cover, Raster):
        return raster.clip(cover, outside=True, extent="full")
    from spectrane.masking import Mask, mask

    chosen = cover if isinstance(cover, Mask) else mask(
        cover, bits=bits, where=None if bits else "band(1)")  # fmt: skip
    return raster.masked(~chosen.onto(raster))


def _refuse(what: str, said: dict[str, float], names: Sequence[str]) -> None:
    wrong = [name for name in said if name in names]
    if wrong:
        raise LookError(f"{', '.join(wrong)} is not for {what}")
