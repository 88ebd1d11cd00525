"""Named places of what a live view was given: points of files, and outlines."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from spectrane.display.outlines import Outline
from spectrane.model.addresses import file_name
from spectrane.model.errors import LookError
from spectrane.model.grid import Grid
from spectrane.model.view import View
from spectrane.spatial.regions import named_points
from spectrane.spatial.shapes import shapes_of
from spectrane.viewing.state import NamedPlace

_MOST = 10_000


def named_places(
    grid: Grid, points: Sequence[str], outlines: Sequence[Outline] = (), crs: str | None = None
) -> dict[str, NamedPlace]:
    """Return the places on a grid's map that files of points and outlines name, the first of each.

    Of an outline it is the middle of what it covers. Raises LookError for what is no point, and for
    more than 10 000 names.
    """
    found: dict[str, NamedPlace] = {}
    for path in points:
        for name, place in _of_points(grid, path, crs):
            found.setdefault(name, (*place, file_name(path)))
    for outline in outlines:
        for name, place in _of_shapes(grid, outline):
            found.setdefault(name, (*place, outline.title))
    if len(found) > _MOST:
        raise LookError(f"{len(found)} named points: expected {_MOST} at most")
    return found


def _of_points(grid: Grid, path: str, crs: str | None) -> Iterator[tuple[str, tuple[float, float]]]:
    for number, one in enumerate(named_points(path, crs), 1):
        name = str(one.get("name") or number)
        try:
            if one.get("x") not in (None, "") and one.get("y") not in (None, ""):
                yield name, _onto(grid, float(one["x"]), float(one["y"]), one.get("crs") or crs)
            else:
                x, y = grid.center(row=int(one["row"]), column=int(one["column"]))
                yield name, (float(x), float(y))
        except (KeyError, ValueError, TypeError) as error:
            if isinstance(error, LookError):
                raise
            raise LookError(f"{path}: point {name}: expected x and y, or row and column") from error


def _onto(grid: Grid, x: float, y: float, crs: Any) -> tuple[float, float]:
    known = crs if grid.crs_text is not None else None
    return View(center=(x, y), pixel=1.0, size=(1, 1), crs=known).middle(grid)


def _of_shapes(grid: Grid, outline: Outline) -> Iterator[tuple[str, tuple[float, float]]]:
    shapes = shapes_of(outline.shape, crs=outline.crs, layer=outline.layer, option="outline_crs")
    for feature in shapes.features:
        rings = [ring for part in shapes.parts(feature) for ring in part.rings]
        if not rings:
            continue
        low = [min(ring[:, k].min() for ring in rings) for k in (0, 1)]
        high = [max(ring[:, k].max() for ring in rings) for k in (0, 1)]
        x, y = ((a + b) / 2 for a, b in zip(low, high, strict=True))
        yield feature.name, _onto(grid, float(x), float(y), shapes.crs)
