"""One name for rasters and volumes: opening a file as what it holds, reading under a point."""

from __future__ import annotations

import os
from dataclasses import fields
from typing import TYPE_CHECKING, Any

import spectrane.raster
from spectrane.formats.registry import open_source
from spectrane.model.errors import FormatError, LookError
from spectrane.model.look import Look
from spectrane.model.source import Source
from spectrane.raster import Raster
from spectrane.volume import Volume

if TYPE_CHECKING:
    import pandas

    from spectrane.display.volume_layers import VolumeLayer
    from spectrane.model.grid import CrsLike


def open(
    path: str | os.PathLike[str], *, member: int | str | None = None, damaged: str = "error",
    **options: Any,
) -> Raster | Volume:  # fmt: skip
    """Open a raster or a volume by its content, whatever its ending; only its head is read.

    ``path`` is a local path (a folder of slices is one volume) or an fsspec URL; ``member`` is the
    number (from 1) or the name of one of the rasters inside. Corrections kept in its sidecar are
    laid over it. ``damaged`` data are an ``error``, or with ``keep`` invalid, and how much is
    missing is told. ``options`` are the reader's own: for NIfTI ``complex`` (``magnitude``,
    ``phase``, ``real``, ``imaginary``), for DICOM series ``spacing`` (``resample``, ``nominal``).
    Raises MissingFile, AccessError, and FormatError where the file is broken or unknown.
    """
    source = open_source(path, member=member, damaged=damaged, **options)
    return Volume(source) if len(source.shape) == 3 else Raster(source)


def open_raster(
    path: str | os.PathLike[str], *, member: int | str | None = None, damaged: str = "error",
    **options: Any,
) -> Raster:  # fmt: skip
    """Open what must be a raster: as ``open``. Raises FormatError for a volume."""
    opened = open(path, member=member, damaged=damaged, **options)
    if isinstance(opened, Raster):
        return opened
    opened.close()
    raise FormatError(f"{os.fspath(path)}: is a volume, where a raster is expected; cut it with "
                      "volume.slice(...) or spectrane slices")  # fmt: skip


def open_volume(
    path: str | os.PathLike[str], *, member: int | str | None = None, damaged: str = "error",
    **options: Any,
) -> Volume:  # fmt: skip
    """Open what must be a volume: as ``open``. Raises FormatError for a raster."""
    opened = open(path, member=member, damaged=damaged, **options)
    if isinstance(opened, Volume):
        return opened
    opened.close()
    raise FormatError(f"{os.fspath(path)}: is a raster of two dimensions, where a volume is "
                      "expected; spectrane render draws it")  # fmt: skip


def probe(
    layers: Any, *, x: float | None = None, y: float | None = None, z: float | None = None,
    row: int | None = None, column: int | None = None, i: int | None = None, j: int | None = None,
    k: int | None = None, points: Any = None, crs: CrsLike | None = None,
) -> pandas.DataFrame:  # fmt: skip
    """Return what stands under a point, in every band or frame of every layer.

    ``layers`` is a raster, a (raster, look) pair or a ``Layer``, or a list of them: one point by
    ``x`` and ``y`` or ``row`` and ``column``; see ``display.probing``. Or likewise of volumes and
    ``VolumeLayer``: one point by ``x``, ``y`` and ``z`` in mm or ``i``, ``j`` and ``k``; see
    ``display.volume_probing``. Many by ``points`` (mappings, a table, CSV; GeoJSON on maps).

    >>> import numpy as np, spectrane as sp
    >>> held = sp.volume_from_array(np.arange(8).reshape(2, 2, 2), affine=np.diag([2, 2, 2, 1]))
    >>> sp.probe(held, x=2.4, y=0.9, z=0)[["i", "j", "k", "stored"]].values.tolist()
    [[1, 0, 0, 4]]
    """
    listed = _listed(layers)
    if not any(_deep(one) for one in listed):
        _refused("rasters", z=z, i=i, j=j, k=k)
        return spectrane.raster.probe(listed, x=x, y=y, row=row, column=column, points=points,
                                      crs=crs)  # fmt: skip
    import pandas

    from spectrane.display.volume_layers import volume_layer
    from spectrane.display.volume_probing import probed_volumes

    _refused("volumes", row=row, column=column, crs=crs)
    if points is None:
        given = {"x": x, "y": y, "z": z, "i": i, "j": j, "k": k}
        points = [{name: value for name, value in given.items() if value is not None}]
    return pandas.DataFrame(probed_volumes([volume_layer(one) for one in listed], points))


def _listed(layers: Any) -> list[Any]:
    """Return what is asked as a list: several, one, or one (raster, look) pair."""
    if isinstance(layers, tuple) and len(layers) == 2 and isinstance(layers[1], Look | None):
        return [layers]
    return list(layers) if isinstance(layers, list | tuple) else [layers]


def _deep(one: Any) -> bool:
    """Tell whether something is a volume, a pair with one, or a layer of one."""
    first = one[0] if isinstance(one, tuple) and one else one
    source = getattr(first, "_source", getattr(first, "source", first))
    return isinstance(source, Source) and len(source.shape) == 3


def profile(
    raster: Any, points: Any = None, *, region: Any = None, crs: CrsLike | None = None
) -> pandas.DataFrame:  # fmt: skip
    """Return a value by band, or by frame, at points, or mean and σ over regions.

    Of a raster: ``points`` as for ``probe``, or GeoJSON with polygons; columns ``zone band
    wavelength unit count invalid mean std min max p5 p50 p95``; a point counts 1. Of a volume:
    ``points`` in mm or voxels, or ``region``, a volume that is not 0 where voxels count; see
    ``Volume.profile``.

    >>> import numpy as np, spectrane as sp
    >>> over_time = np.arange(8.0).reshape(2, 1, 2, 2)
    >>> held = sp.volume_from_array(over_time, affine=np.eye(4), frames=["rest", "walk"])
    >>> sp.profile(held, {"i": 0, "j": 1, "k": 0})[["frame", "mean"]].values.tolist()
    [['rest', 2.0], ['walk', 6.0]]
    """
    if isinstance(raster, Volume):
        _refused("volumes", crs=crs)
        return raster.profile(points, region=region)
    _refused("rasters", region=region)
    return spectrane.raster.profile(raster, points, crs=crs)


def clusters(layer: VolumeLayer) -> pandas.DataFrame:
    """Return a row per group of voxels that a layer's threshold leaves, the largest first.

    Columns: ``voxels``, ``volume`` (mm³), ``peak`` with ``peak_x peak_y peak_z`` and the centre of
    mass ``center_x center_y center_z`` (mm), by the frame that is shown.
    """
    import pandas

    from spectrane.analysis.clusters import Cluster
    from spectrane.display.volume_layers import groups

    columns = [one.name for one in fields(Cluster)]
    return pandas.DataFrame(groups(layer), columns=columns).set_index("number")


def _refused(what: str, **given: Any) -> None:
    named = [name for name, value in given.items() if value is not None]
    if named:
        raise LookError(f"{', '.join(named)} is not for {what}")
