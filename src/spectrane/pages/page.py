"""One HTML page of layers that needs nothing but itself: no network, no library.

Pictures, values and our own small script are all in the file. Whatever comes from data is put in as
JSON and shown as text, never as markup; the page's own policy forbids it to fetch anything.
"""

from __future__ import annotations

import base64
import html
import json
import os
import re
import zlib
from collections.abc import Mapping, Sequence
from importlib import resources
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.layers import DrawnLayer, Layer, PlannedLayer, Stack, StackArea, stacked
from spectrane.display.plan import RenderPlan
from spectrane.formats.png.encoding import encode_png
from spectrane.kernels.quiet import quiet
from spectrane.model.asking import GridLike, as_tuple
from spectrane.model.band import Band
from spectrane.model.colors import color_text
from spectrane.model.errors import FormatError
from spectrane.model.grid import Grid
from spectrane.model.marks import LAYER
from spectrane.model.physical import physical, physical_number
from spectrane.model.printing import short_name
from spectrane.model.targets import Target, local_place
from spectrane.model.view import View
from spectrane.model.whole_files import check_target, written_whole
from spectrane.model.window import whole
from spectrane.model.xml_building import xml_text
from spectrane.spatial.coordinates import transformer
from spectrane.spatial.grids import grid_of
from spectrane.spatial.regridded import onto

if TYPE_CHECKING:
    from spectrane.looking import Shown


SIZE = (800, 1280)
_NODES = 9
_METRES_PER_DEGREE = 111_320.0
_WHOLE = 65535


@quiet
def overlay_page(
    layers: Sequence[Shown], path: Target, *, grid: GridLike | None = None,
    view: View | None = None, size: Sequence[int] | None = None, title: str | None = None,
    values: bool = True, overwrite: bool = False, area: StackArea = "bottom",
    storage_options: Mapping[str, Any] | None = None,
) -> None:  # fmt: skip
    """Write layers, the first the lowest, as one self-contained page.

    ``base`` layers are alternatives, the others are ticked; each has an opacity slider; two may be
    held against each other under a divider. ``area`` is as for an overlay. ``size`` (rows, columns)
    bounds the pictures; with ``values`` the numbers under the pointer are in the page at that
    resolution. ``path`` may be an fsspec URL, with ``storage_options``, or an open binary file.

    Raises FormatError for another ending than .html, GridMismatch where layers cannot be related.

    >>> import numpy as np, spectrane as sp, tempfile, pathlib
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = pathlib.Path(folder, "map.html")
    ...     sp.pages.overlay_page([sp.from_array(np.eye(8))], path, title="A cross")
    ...     "<title>A cross</title>" in pathlib.Path(path).read_text(encoding="utf-8")
    True
    """
    with local_place(path, usual=".html", overwrite=overwrite,
                     storage_options=storage_options) as name:  # fmt: skip
        if not name.lower().endswith((".html", ".htm")):
            raise FormatError(f"{name}: expected an ending .html")
        check_target(name, overwrite=overwrite)
        across = None if grid is not None else as_tuple(size) or SIZE
        chosen = None if grid is None else grid_of(grid)
        stack = stacked(layers, grid=chosen, view=view, size=across, area=area)
        text = page_of(stack, title or short_name(os.path.splitext(name)[0]), values=values)
        with written_whole(name, overwrite=overwrite) as file:
            file.write(text.encode())


def page_of(stack: Stack, title: str, *, values: bool = True) -> str:
    """Return the page of a stack of layers as text."""
    content = {
        "title": title, **_place(stack.grid),
        "layers": [_layer(layer, stack.grid, values) for layer in stack.layers],
    }  # fmt: skip
    held = json.dumps(content, separators=(",", ":"), allow_nan=False)
    # Inside a script element nothing may end it, and no comment may begin.
    held = held.replace("&", "\\u0026").replace("<", "\\u003c").replace(">", "\\u003e")
    parts = {"title": html.escape(xml_text(title)), "style": _asset("page.css"),
             "script": _asset("page.js"), "content": held}  # fmt: skip
    # In one pass: what is put in may hold such marks itself.
    return re.sub(r"\{\{(\w+)}}", lambda mark: parts[mark[1]], _asset("page.html"))


def _asset(name: str) -> str:
    return (resources.files("spectrane.pages") / "assets" / name).read_text(encoding="utf-8")


def _place(grid: Grid) -> dict[str, Any]:
    """Return where the pictures lie: size, affine, system, a lattice of degrees, ground metres."""
    rows, columns = grid.shape
    facts: dict[str, Any] = {
        "rows": rows, "columns": columns, "placed": grid.placed,
        "affine": list(grid.coefficients), "crs": _system_name(grid),
    }  # fmt: skip
    lattice = _lonlat(grid)
    if lattice is not None:
        facts["lonlat"] = lattice
    metres = _metres(grid)
    if metres is not None:
        facts["metres"] = metres
    return facts


def _system_name(grid: Grid) -> str:
    if not grid.placed:
        return "columns and rows"
    return str(grid.crs_name or (grid.crs_text or "no coordinate system"))[:80]


def _known(grid: Grid) -> Any:
    return grid.crs if grid.placed else None


def _lonlat(grid: Grid) -> list[list[float]] | None:
    """Return longitude and latitude at a lattice of even steps, row by row; None where unknown."""
    if _known(grid) is None:
        return None
    rows, columns = grid.shape
    c, r = np.meshgrid(np.linspace(0, columns, _NODES), np.linspace(0, rows, _NODES))
    way = transformer(grid, Grid((1, 1), crs_text="EPSG:4326", placed=True))
    east, north = way.transform(*grid.to_map(c, r))
    if not (np.isfinite(east).all() and np.isfinite(north).all()):
        return None
    for axis in (0, 1):  # on beyond the antimeridian, so that what lies between nodes is too
        east = np.unwrap(east, period=360.0, axis=axis)
    return [np.round(east, 7).ravel().tolist(), np.round(north, 7).ravel().tolist()]


def _metres(grid: Grid) -> float | None:
    """Return the ground's metres per picture pixel along a row, in the middle."""
    system = _known(grid)
    if system is None:
        return None
    side = grid.pixel_size[0]
    if system.is_geographic:
        _, y = grid.center(row=grid.shape[0] / 2, column=grid.shape[1] / 2)
        return float(side * _METRES_PER_DEGREE * np.cos(np.radians(y)))
    return float(side * (system.axis_info[0].unit_conversion_factor or 1.0))


def _layer(drawn: DrawnLayer, grid: Grid, values: bool) -> dict[str, Any]:
    about = {"Description": LAYER}
    png = encode_png(drawn.rgba, about, small=True)
    raster = isinstance(drawn.layer, Layer)
    facts: dict[str, Any] = {
        "name": drawn.title, "opacity": float(drawn.layer.opacity), "visible": drawn.layer.visible,
        "mode": drawn.mode, "base": bool(isinstance(drawn.layer, Layer) and drawn.layer.base),
        "png": base64.b64encode(png).decode(),
    }  # fmt: skip
    if drawn.planned is not None:
        facts["legend"] = _legend(drawn.planned.plan)
    if raster and values and drawn.planned is not None:
        facts["bands"] = _values(drawn.planned, grid)
    return facts


def _legend(plan: RenderPlan) -> dict[str, Any]:
    """Return a bar with ticks, the channels' bands, or the classes' colours and names."""
    legend = plan.legend(64)
    if legend.bar is not None:
        colors = [color_text(color[:3]) for color in legend.bar.colors]
        return {"title": legend.bar.title, "colors": colors,
                "ticks": [[at, text] for at, text in legend.bar.ticks]}  # fmt: skip
    if legend.classes:
        return {"classes": [list(pair) for pair in legend.classes]}
    return {"channels": [list(pair) for pair in legend.channels]}


def _values(planned: PlannedLayer, grid: Grid) -> list[dict[str, Any]]:
    """Return physical values of the bands shown, at the pictures' pixels: float32, deflated."""
    plan, source = planned.plan, planned.plan.ready(planned.source)
    pixels = onto(source, grid, "nearest").read(plan.bands, whole(grid.shape))
    rows = []
    for k, band in enumerate(plan.described):
        unit = "" if band.unit in (None, "1") else band.unit
        about: dict[str, Any] = {"name": band.name, "unit": unit}
        about |= _numbers(pixels.values[k], pixels.validity[k], band)
        if plan.classes:
            about["labels"] = {f"{value:g}": label for value, (_, label) in plan.classes.items()}
        rows.append(about)
    return rows


def _numbers(stored: NDArray[Any], valid: NDArray[np.bool_], band: Band) -> dict[str, Any]:
    """Return a plane of numbers: small integers as they are stored, 0 for none; else floats."""
    seen = stored[valid]
    low, high = 0, _WHOLE
    if seen.size and stored.dtype.kind in "iub":
        low, high = int(seen.min()), int(seen.max())
    if high - low < _WHOLE:
        plane = np.where(valid, stored.astype(np.int64) - low + 1, 0).astype("<u2")
        return {"data": _packed(plane), "bytes": 2, "scale": band.scale,
                "offset": physical_number(low - 1, band)}  # fmt: skip
    plane = np.where(valid, physical(stored, band, np.float64), np.nan).astype("<f4")
    return {"data": _packed(plane), "bytes": 4}


def _packed(plane: NDArray[Any]) -> str:
    """Return an array's bytes, byte by byte of each number together, raw-deflated, in base 64."""
    split = plane.view(np.uint8).reshape(-1, plane.dtype.itemsize).T
    packer = zlib.compressobj(6, zlib.DEFLATED, -15)
    data = packer.compress(np.ascontiguousarray(split).tobytes()) + packer.flush()
    return base64.b64encode(data).decode()
