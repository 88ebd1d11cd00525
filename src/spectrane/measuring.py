"""Measuring by hand and over time: lines, angles, ellipses, rectangles, dated rasters."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from spectrane.kernels.quiet import quiet
from spectrane.model.addresses import amend_command
from spectrane.model.errors import LookError, MetadataError
from spectrane.model.marks import tell_picture
from spectrane.model.said import date_of
from spectrane.model.source import flat_source_of
from spectrane.model.targets import Target, local_place
from spectrane.raster import Raster
from spectrane.spatial.shapes import Shapes

if TYPE_CHECKING:
    import pandas

    from spectrane.model.asking import PointsLike
    from spectrane.model.grid import CrsLike
    from spectrane.model.look import Look
    from spectrane.model.view import View

Position = Sequence[float]
"""x and y: on the map, or in mm of a slice."""


@quiet
def along(raster: Raster, start: Position, end: Position) -> pandas.DataFrame:
    """Return values along a straight line: a row per sample and band.

    Columns: ``distance x y row column band value unit``. There is a sample for each pixel of the
    line's length, both ends among them, with the physical value of the pixel it lies in, never a
    mixture; NaN where nothing is valid. Distances are in map units, in mm of a slice, or on
    longitude and latitude in metres along the geodesic. ``attrs`` of the table hold ``length``,
    ``azimuth`` (degrees clockwise from up) and ``unit``. Raises GridMismatch for a line that does
    not touch the raster.

    >>> import numpy as np, spectrane as sp
    >>> grid = sp.Grid.from_corner((1, 4), x=0, y=10, pixel_size=10)
    >>> table = sp.along(sp.from_array(np.array([[1, 2, 3, 4]]), grid=grid), (5, 5), (35, 5))
    >>> table["value"].tolist(), table["distance"].tolist(), table.attrs["azimuth"]
    ([1.0, 2.0, 3.0, 4.0], [0.0, 10.0, 20.0, 30.0], 90.0)
    """
    import pandas

    from spectrane.spatial.shaped import azimuth, samples_along, unit_of_distances

    source = flat_source_of(raster)
    tell_picture(source)
    table = pandas.DataFrame(samples_along(source, start, end))
    table.attrs = {"length": float(table["distance"].max()), "unit": unit_of_distances(source.grid),
                   "azimuth": azimuth(source.grid, start, end)}  # fmt: skip
    return table


@quiet
def angle(first: Position, corner: Position, last: Position) -> float:
    """Return the angle at a corner between two others, in degrees, 0 to 180; also in 3-D.

    >>> angle((1, 0), (0, 0), (1, 1))
    45.0
    """
    from spectrane.spatial.shaped import angle_between

    return round(angle_between([first, corner, last]), 12)


@quiet
def ellipse(
    x: float, y: float, *, radii: Sequence[float], turned: float = 0.0, name: str = "ellipse"
) -> Shapes:
    """Return an ellipse in a raster's own system, to measure in: a region, or points of a profile.

    ``radii`` lie along x and y, in map units or mm of a slice; ``turned`` is anticlockwise, in
    degrees. A pixel counts where its centre lies inside. Raises LookError for radii not above 0.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.arange(100.0).reshape(10, 10))
    >>> table = sp.profile(raster, sp.ellipse(5, 5, radii=(2, 2)))
    >>> table["count"].item(), table["mean"].item()
    (12, 49.5)
    """
    from spectrane.spatial.shaped import ellipse_shape

    return ellipse_shape(x, y, radii, turned, name)


@quiet
def rectangle(bounds: Sequence[float], *, name: str = "rectangle") -> Shapes:
    """Return the rectangle between two corners (x1, y1, x2, y2) in a raster's own system.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.arange(100.0).reshape(10, 10))
    >>> sp.profile(raster, sp.rectangle((0, 0, 2, 1)))["mean"].item()
    0.5
    """
    from spectrane.spatial.shaped import rectangle_shape

    return rectangle_shape(bounds, name)


@quiet
def over_time(
    rasters: Sequence[Raster], points: PointsLike, *, crs: CrsLike | None = None
) -> pandas.DataFrame:
    """Return values at points, or over zones, of several dated rasters, the earliest first.

    Columns as ``profile`` has them, after ``time``. Dates come from the rasters' metadata
    (``amend --set date=…`` says one). Raises MetadataError where one has none.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     paths = [os.path.join(folder, f"{day}.tif") for day in (1, 2)]
    ...     for day, path in enumerate(paths, 1):
    ...         sp.from_array(np.full((2, 2), float(day))).save(path)
    ...         sp.amend(path, metadata={"date": f"2026-04-0{day}"})
    ...     rasters = [sp.open_raster(path) for path in reversed(paths)]
    ...     sp.over_time(rasters, {"row": 0, "column": 0})["mean"].tolist()
    [1.0, 2.0]
    """
    import pandas

    from spectrane.looking import profile

    tables = []
    for date, raster in dated(rasters):
        table = profile(raster, points, crs=crs)
        table.insert(0, "time", pandas.Timestamp(date))
        tables.append(table)
    return pandas.concat(tables, ignore_index=True)


def dated(rasters: Sequence[Raster]) -> list[tuple[Any, Raster]]:
    """Return rasters with their dates, the earliest first; MetadataError where one has none."""
    listed: list[Any] = list(rasters) if isinstance(rasters, list | tuple) else [rasters]
    if len(listed) < 2:
        raise LookError(f"over time: {len(listed)} raster given; expected several")
    found = [(date_of(raster.metadata), raster) for raster in listed]
    for date, raster in found:
        if date is None:
            said = amend_command(raster.source or "FILE", "--set date=2026-04-12")
            raise MetadataError(f"{raster.source}: says no date; say it with: {said}")
    return sorted(found, key=lambda pair: pair[0])


@quiet
def moving_picture(
    rasters: Sequence[Raster], path: Target, look: Look | None = None, *,
    view: View | None = None, size: Sequence[int] = (800, 1280), caption: str = "{date}",
    milliseconds: int = 800, overwrite: bool = False,
    storage_options: Mapping[str, Any] | None = None,
) -> None:  # fmt: skip
    """Write dated rasters as one moving picture (animated .png), the earliest first.

    All frames show the area of the first, between limits that are found in all of them together,
    each with its date below. ``caption`` may ask for {title}, {date}, {cloud}, {file} or any key.
    ``path`` may be an fsspec URL, with ``storage_options``, or an open binary file.
    Raises MetadataError where a raster has no date.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     paths = [os.path.join(folder, f"{day}.tif") for day in (1, 2)]
    ...     for day, path in enumerate(paths, 1):
    ...         sp.from_array(np.eye(20) * day).save(path)
    ...         sp.amend(path, metadata={"date": f"2026-04-0{day}"})
    ...     sp.moving_picture([sp.open_raster(path) for path in paths], path + ".png")
    ...     sorted(os.listdir(folder))[-1]
    '2.tif.spectrane.toml'
    """
    from spectrane.display.moving import frames_of
    from spectrane.display.sequences import save_animated
    from spectrane.model.view import view_of

    sources = [flat_source_of(raster) for _, raster in dated(rasters)]
    frames = frames_of(sources, look, view_of(view), (int(size[0]), int(size[1])), caption)
    with local_place(path, usual=".png", overwrite=overwrite,
                     storage_options=storage_options) as place:  # fmt: skip
        save_animated(frames, place, len(frames), milliseconds=milliseconds, overwrite=overwrite)
