"""What stands under a point of volumes: stored number, physical value, and whether it is shown."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.labels import label_zones
from spectrane.analysis.profiles import zone_rows
from spectrane.display.volume_layers import VolumeLayer, tested
from spectrane.model.band import find_bands
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.physical import physical_number
from spectrane.model.source import Source, called
from spectrane.model.window import whole
from spectrane.spatial.frames import same_voxels
from spectrane.spatial.masked_volume import MaskedVolume
from spectrane.spatial.regions import named_points
from spectrane.spatial.volumetric import RegriddedVolume

F64 = NDArray[np.float64]


def probed_volumes(layers: Sequence[VolumeLayer], points: Any) -> list[dict[str, Any]]:
    """Return a row per point, layer and frame.

    A point is x, y and z in patient millimetres, or i, j and k of the first layer's voxels (from
    0), and a name; or three numbers: see ``volume_points``. Each layer answers with the voxel the
    point lies in, never with a mixture, so that differences of answers are answers of differences;
    a layer that a point misses has no row.

    Columns: ``point layer x y z i j k frame stored physical unit shown``; ``physical`` is None for
    what is invalid, ``shown`` True for the frames drawn where they are valid and pass the layer's
    threshold. Raises GridMismatch for a point outside the first layer, LookError for no point.
    """
    shown = [tested(layer) for layer in layers]
    rows = []
    for number, given in enumerate(volume_points(points), 1):
        name = str(given.get("name") or number)
        place = _millimetres(layers[0].source, given, name)
        for layer, kept in zip(layers, shown, strict=True):
            voxel = voxel_at(layer.source, place)
            if voxel is not None:
                rows += _rows(name, layer, kept, place, voxel)
            elif layer is layers[0]:
                raise _outside(name, place, layer.source)
    return rows


def frame_profile(
    source: Source, points: Any, regions: Mapping[str, Source] | None,
    labels: Source | None = None, names: Sequence[str | int] | None = None,
) -> list[dict[str, Any]]:  # fmt: skip
    """Return a row per frame at each point, over each region, or in each label.

    See ``analysis.profiles.zone_rows``. Regions are by name; labels on another grid are brought to
    this one by the nearest voxel. Raises LookError unless one of them is said, and where a region
    holds no valid voxel; GridMismatch for a point outside.
    """
    if sum(one is not None for one in (points, regions, labels)) != 1:
        raise LookError("profile: say points, regions or labels; one of them")
    if names is not None and labels is None:
        raise LookError("profile: names are those of labels; say which: labels=")
    if labels is not None:
        alike = same_voxels(labels.grid, source.grid)
        return label_zones(
            source, labels if alike else RegriddedVolume(labels, source.grid, "nearest"), names
        )
    found = []
    for name, region in (regions or {}).items():
        rows = zone_rows(MaskedVolume(source, region), name, whole(source.shape))
        if not any(row["count"] for row in rows):
            called = "" if name == "region" else f" {name}"
            raise LookError(f"profile: no valid voxel in the region{called}")
        found += rows
    for number, given in enumerate(() if points is None else volume_points(points), 1):
        name = str(given.get("name") or number)
        place = _millimetres(source, given, name)
        voxel = voxel_at(source, place)
        if voxel is None:
            raise _outside(name, place, source)
        found += zone_rows(source, name, tuple((n, n + 1) for n in voxel))
    return found


def volume_points(points: Any) -> Iterable[Mapping[str, Any]]:
    """Return points of volumes as mappings: named ones, or three numbers each.

    Three whole numbers are a voxel's i, j and k, from 0; three others x, y and z in mm. An array is
    (points, 3), or one point.
    """
    if isinstance(points, np.ndarray):
        points = [points] if points.ndim == 1 else list(points)
    elif isinstance(points, tuple) and len(points) == 3 and not isinstance(points[0], Mapping):
        points = [points] if np.ndim(points[0]) == 0 else points
    if isinstance(points, list | tuple):
        points = [_three_numbers(point) for point in points]
    return named_points(points)


def _three_numbers(point: Any) -> Any:
    """Return a mapping of three numbers, and anything else as it is."""
    if isinstance(point, Mapping) or np.shape(point) != (3,):
        return point
    numbers = np.asarray(point)
    if numbers.dtype.kind in "iu":
        values = numbers.tolist()
        return {"name": "voxel {}, {}, {}".format(*values), **dict(zip("ijk", values, strict=True))}
    if numbers.dtype.kind != "f":
        return point
    values = numbers.tolist()
    return {"name": "{:g}, {:g}, {:g} mm".format(*values), **dict(zip("xyz", values, strict=True))}


def _outside(name: str, place: F64, source: Source) -> GridMismatch:
    where = ", ".join(f"{v:g}" for v in place)
    i, j, k = source.shape
    return GridMismatch(f"point {name}: ({where}) mm lies outside {called(source)}, which has "
                        f"{i} x {j} x {k} voxels")  # fmt: skip


def _millimetres(first: Source, given: Mapping[str, Any], name: str) -> F64:
    try:
        if all(given.get(axis) not in (None, "") for axis in "xyz"):
            place = np.array([float(given[axis]) for axis in "xyz"])
        else:
            voxel = [float(int(given[axis])) for axis in "ijk"]
            place = first.grid.matrix[:3, :3] @ voxel + first.grid.matrix[:3, 3]
    except (KeyError, ValueError, TypeError, OverflowError) as error:
        raise LookError(
            f"point {name}: expected x, y and z in mm, or i, j and k, not {dict(given)!r}"
        ) from error
    if not np.isfinite(place).all():
        raise LookError(f"point {name}: expected finite numbers, not {dict(given)!r}")
    return place


def voxel_at(source: Source, place: F64) -> tuple[int, int, int] | None:
    """Return the voxel that holds a place, its lower faces included; None outside the volume."""
    grid = source.grid
    at = np.linalg.solve(grid.matrix[:3, :3], place - grid.matrix[:3, 3])
    if (at < -0.5 - 1e-9).any() or (at > np.array(grid.shape) - 0.5 + 1e-9).any():
        return None
    index = np.clip(np.floor(at + 0.5 + 1e-9), 0, np.array(grid.shape) - 1).astype(int)
    return int(index[0]), int(index[1]), int(index[2])


def _rows(
    point: str, layer: VolumeLayer, kept: Source, place: F64, voxel: tuple[int, int, int]
) -> list[dict[str, Any]]:
    source: Source = layer.source
    window = tuple((n, n + 1) for n in voxel)
    everything = range(len(source.bands))
    pixels = source.read(everything, window)
    valid = pixels.validity.reshape(-1)
    drawn = find_bands(source.bands, layer.frame)
    passing = kept.read(drawn, window).validity.reshape(-1)
    where = dict(zip("xyz", place.tolist(), strict=True)) | dict(zip("ijk", voxel, strict=True))
    rows = []
    for index in everything:
        band, stored = source.bands[index], pixels.values[index].item()
        rows.append({
            "point": point, "layer": layer.title, **where, "frame": band.name, "stored": stored,
            "physical": physical_number(stored, band) if valid[index] else None,
            "unit": band.unit,
            "shown": bool(index in drawn and passing[drawn.index(index)] and layer.visible),
        })  # fmt: skip
    return rows
