"""KML 2.3 (OGC 12-007r2) and KMZ: layers as ground overlays, written and read back.

A ground overlay is a picture with a box in longitude and latitude, or with four corners. Its
opacity is the alpha of ``color`` (aabbggrr), its place in the stack ``drawOrder``.
"""

from __future__ import annotations

import io
import os
import zipfile
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any
from xml.etree.ElementTree import Element

import numpy as np

from spectrane.display.layers import Layer, StackArea, as_layer, stacked
from spectrane.display.outlines import Outline
from spectrane.engine.byte_file import ByteFile
from spectrane.engine.files import HeldFile, file_beside
from spectrane.formats.png.encoding import encode_png
from spectrane.formats.registry import open_file, open_with, reader_of
from spectrane.kernels.quiet import quiet
from spectrane.kernels.records import record
from spectrane.model.addresses import FileLike, file_stem
from spectrane.model.asking import as_tuple
from spectrane.model.errors import FormatError, GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.model.longitudes import between_antimeridians, plain_degrees
from spectrane.model.printing import short_name
from spectrane.model.regular_files import ReadingAs
from spectrane.model.source import Source
from spectrane.model.systems import LONLAT
from spectrane.model.targets import Target, local_place
from spectrane.model.view import View
from spectrane.model.whole_files import written_whole
from spectrane.model.xml_building import element, xml_document
from spectrane.spatial.coordinates import transformer
from spectrane.spatial.grids import covering, lonlat_bounds
from spectrane.spatial.placing import give_place
from spectrane.spatial.turned import upright

if TYPE_CHECKING:
    from spectrane.looking import Shown


_NAMESPACE = "http://www.opengis.net/kml/2.3"
LARGEST, _LONGEST = 256 << 20, 16 << 20
"""Bytes of an archive or a picture, and of the document itself, at most."""
_MOST, _MOST_ELEMENTS = 1000, 200_000
SIZE = (2048, 2048)


@record(frozen=True)
class _Overlay:
    """One overlay ready to be written."""

    name: str
    png: bytes
    place: Element
    opacity: float
    visible: bool
    order: int


@quiet
def write_kml(
    layers: Sequence[Shown], path: Target, *, quad: bool = False,
    view: View | None = None, size: Sequence[int] | None = None, title: str | None = None,
    overwrite: bool = False, area: StackArea = "bottom",
    storage_options: Mapping[str, Any] | None = None,
) -> None:  # fmt: skip
    """Write layers as ground overlays, the first the lowest: ``.kmz`` in one file, ``.kml`` with a
    PNG beside it for each.

    They are drawn on a grid in longitude and latitude and placed by a box; with ``quad``, on the
    first one's own grid and placed by its four corners. ``size`` (rows, columns) bounds each,
    ``area`` is as for an overlay. ``path`` may be an open binary file, or for ``.kmz`` an fsspec
    URL, with ``storage_options``.

    Raises GridMismatch for layers without a place, FormatError for another ending.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> grid = sp.Grid.from_corner((4, 4), x=10, y=4, pixel_size=1, crs="EPSG:4326")
    >>> raster = sp.from_array(np.arange(16.0).reshape(4, 4), grid=grid)
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "map.kmz")
    ...     sp.pages.write_kml([raster], path)
    ...     [layer.source.shape for layer in sp.pages.read_kml(path)]
    [(2048, 2048)]
    """
    with local_place(path, usual=".kmz", overwrite=overwrite,
                     storage_options=storage_options) as name:  # fmt: skip
        ending = os.path.splitext(name)[1].lower()
        if ending not in (".kml", ".kmz"):
            raise FormatError(f"{name}: expected an ending .kml or .kmz")
        _write(layers, name, quad, view, as_tuple(size) or SIZE, title, overwrite, area)


def _write(
    layers: Sequence[Shown], name: str, quad: bool, view: View | None, size: tuple[int, int],
    title: str | None, overwrite: bool, area: StackArea,
) -> None:  # fmt: skip
    ending = os.path.splitext(name)[1].lower()
    shown = _drawn(layers, quad, view, size, area)
    stem = file_stem(name)
    files = [f"{stem}_{k}.png" if ending == ".kml" else f"files/{k}.png"
             for k in range(1, len(shown) + 1)]  # fmt: skip
    text = _document(title or short_name(stem), shown, files).encode()
    if ending == ".kmz":
        with (
            written_whole(name, overwrite=overwrite) as file,
            zipfile.ZipFile(file, "w") as archive,
        ):
            # The first KML in an archive is the one that is shown.
            _put(archive, "doc.kml", text, zipfile.ZIP_DEFLATED)
            for one, inside in zip(shown, files, strict=True):
                _put(archive, inside, one.png, zipfile.ZIP_STORED)
        return
    for one, beside in zip(shown, files, strict=True):
        target = os.path.join(os.path.dirname(name), beside)
        with written_whole(target, overwrite=overwrite) as file:
            file.write(one.png)
    with written_whole(name, overwrite=overwrite) as file:
        file.write(text)


def _put(archive: zipfile.ZipFile, name: str, data: bytes, how: int) -> None:
    entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    entry.compress_type = how
    archive.writestr(entry, data)


def _drawn(
    layers: Sequence[Shown], quad: bool, view: View | None, size: tuple[int, int], area: StackArea
) -> list[_Overlay]:
    listed = [as_layer(layer) for layer in layers]
    rasters = [one for one in listed if isinstance(one, Layer)]
    if not rasters:
        raise LookError("KML: expected at least one raster")
    own = upright(rasters[0].source).grid
    if not own.placed or own.crs_text is None:
        raise GridMismatch(
            "KML: the first raster has no place in a known coordinate system; give it one "
            "(spectrane place, spectrane amend --crs)"
        )
    stack = stacked(listed, view=view, size=size, area=area)
    if quad:
        where = _corners(stack.grid)
    else:
        stack = stacked(listed, grid=lonlat_grid(stack.grid, size))
        where = _box(stack.grid)
    return [
        _Overlay(one.title, encode_png(one.rgba, {"Description": one.title}, small=True), where,
               float(one.layer.opacity), one.layer.visible, k)
        for k, one in enumerate(stack.layers)
    ]  # fmt: skip


def lonlat_grid(grid: Grid, size: tuple[int, int]) -> Grid:
    """Return a grid in longitude and latitude over another, about as fine, of at most ``size``."""
    west, south, east, north = lonlat_bounds(grid)
    latitude = np.radians((south + north) / 2)
    shape = grid.shape
    # Square on the ground, in the middle.
    fine = max((north - south) / shape[0], (east - west) * np.cos(latitude) / shape[1])
    fine = max(fine, (north - south) / size[0], (east - west) * np.cos(latitude) / size[1])
    across = fine / max(np.cos(latitude), 0.05)
    return covering((west, south, east, north), (float(across), float(fine)), LONLAT)


def _box(grid: Grid) -> Element:
    west, south, east, north = grid.bounds
    west, east = between_antimeridians(west, east)  # KML wants -180 to 180, east less across it
    sides = {"north": north, "south": south, "east": east, "west": west}
    return element("LatLonBox", *(element(name, f"{v:.10f}") for name, v in sides.items()))


def _corners(grid: Grid) -> Element:
    """Return the four corners, counter-clockwise from the lower left, as KML has them."""
    way = transformer(grid, Grid((1, 1), crs_text=LONLAT, placed=True))
    upper_left, upper_right, lower_right, lower_left = grid.corners
    points: list[str] = []
    first = None
    for x, y in (lower_left, lower_right, upper_right, upper_left):
        longitude, latitude = way.transform(x, y)
        if not np.isfinite([longitude, latitude]).all():
            raise GridMismatch("KML: a corner has no longitude and latitude")
        longitude = plain_degrees(longitude)
        first = longitude if first is None else first
        if abs(longitude - first) > 180:
            raise GridMismatch(
                "KML: the picture lies across the antimeridian, where four corners do not tell "
                "which way round; write it without quad (--quad), placed by a box"
            )
        points.append(f"{longitude:.10f},{latitude:.10f}")
    return element("LatLonQuad", element("coordinates", " ".join(points)))


def _document(title: str, shown: Sequence[_Overlay], files: Sequence[str]) -> str:
    overlays = [
        element(
            "GroundOverlay", element("name", one.name),
            element("visibility", str(int(one.visible))),
            element("color", f"{round(one.opacity * 255):02x}ffffff"),
            element("drawOrder", str(one.order)), element("Icon", element("href", file)), one.place,
        )
        for one, file in zip(shown, files, strict=True)
    ]  # fmt: skip
    about = element("Document", element("name", title), *overlays)
    return xml_document(element("kml", about, attributes={"xmlns": _NAMESPACE, "version": "2.3"}))


@quiet
def read_kml(
    path: FileLike, *, storage_options: Mapping[str, Any] | None = None
) -> list[Layer | Outline]:  # fmt: skip
    """Return the ground overlays of a KML or KMZ file as layers, the lowest first.

    Pictures come from the archive, or from beside the file, in the storage whose
    ``storage_options`` those are. Raises FormatError for what is broken, and where.

    >>> import numpy as np, spectrane as sp, tempfile, os
    >>> grid = sp.Grid.from_corner((4, 4), x=10, y=4, pixel_size=1, crs="EPSG:4326")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "map.kmz")
    ...     sp.pages.write_kml([sp.from_array(np.arange(16.0).reshape(4, 4), grid=grid)], path)
    ...     len(sp.pages.read_kml(path))
    1
    """
    file = open_file(path, storage_options)
    try:
        if file.size > LARGEST:
            raise FormatError(f"{file.name}: is larger than {LARGEST >> 20} MB")
        data = file.read(0, file.size)
    finally:
        file.close()
    archive, elements = overlays_in(file.name, data)
    return [read_overlay(file, archive, element) for element in elements]


def overlays_in(name: str, data: bytes) -> tuple[zipfile.ZipFile | None, list[Any]]:
    """Return the archive of a KMZ (None of a KML) and its ground overlays, the lowest first."""
    archive = None
    if data[:2] == b"PK":
        archive = _archive(name, data)
        inside = next((one for one in archive.namelist() if one.lower().endswith(".kml")), None)
        if inside is None:
            raise FormatError(f"{name}: an archive without a KML document")
        data = _member(name, archive, inside, _LONGEST)
    overlays = _overlays(name, data)
    items = sorted(
        enumerate(overlays), key=lambda item: (_number(item[1], "drawOrder", 0), item[0])
    )
    return archive, [element for _, element in items]


def _archive(name: str, data: bytes) -> zipfile.ZipFile:
    with ReadingAs(name, FormatError, problem="a broken archive"):
        return zipfile.ZipFile(io.BytesIO(data))


def _member(name: str, archive: zipfile.ZipFile, inside: str, most: int = LARGEST) -> bytes:
    problem = f"{inside} cannot be read from the archive"
    with ReadingAs(name, FormatError, problem=problem), archive.open(inside) as member:
        data = member.read(most + 1)
    if len(data) > most:
        raise FormatError(f"{name}: {inside} is larger than {most >> 20} MB")
    return data


def _overlays(name: str, data: bytes) -> list[Any]:
    if len(data) > _LONGEST:
        raise FormatError(f"{name}: is a text larger than {_LONGEST >> 20} MB")
    with ReadingAs(name, FormatError, problem="not KML"):
        found = _ground_overlays(data)
    if not found or len(found) > _MOST:
        raise FormatError(f"{name}: holds {len(found)} ground overlays; expected 1 to {_MOST}")
    return found


def _ground_overlays(data: bytes) -> list[Any]:
    """Return the ground overlays of a document; nothing else of it is held."""
    from defusedxml.ElementTree import iterparse

    overlays: list[Any] = []
    above: list[Any] = []
    for number, (event, node) in enumerate(iterparse(io.BytesIO(data), ("start", "end"))):
        if number > 2 * _MOST_ELEMENTS:
            raise ValueError(f"it holds more than {_MOST_ELEMENTS} elements")
        if event == "start":
            above.append(node)
            continue
        above.pop()
        if _tag(node) == "GroundOverlay":
            overlays.append(node)
        if above and not any(_tag(one) == "GroundOverlay" for one in above):
            del above[-1][-1]
    return overlays


def _tag(element: Any) -> str:
    return str(element.tag).rpartition("}")[2]


def _text(element: Any, *names: str) -> str | None:
    """Return the text of the first element below with one of these names, at any depth."""
    for one in element.iter():
        if _tag(one) in names and one.text and one.text.strip():
            return str(one.text).strip()
    return None


def _number(element: Any, name: str, plain: float) -> float:
    text = _text(element, name)
    try:
        number = plain if text is None else float(text)
    except ValueError as error:
        raise FormatError(f"KML: {name} is {text!r}; expected a number") from error
    if not np.isfinite(number):
        raise FormatError(f"KML: {name} is {text!r}; expected a finite number")
    return number


def read_overlay(file: ByteFile, archive: zipfile.ZipFile | None, element: Any) -> Layer:
    """Return one ground overlay of a document as a layer, at its place."""
    name = file.name
    href = _text(element, "href")
    if href is None:
        raise FormatError(f"{name}: a ground overlay without a picture (Icon/href)")
    color = _text(element, "color") or "ffffffff"
    try:
        opacity = int(color[:2], 16) / 255 if len(color) == 8 else 1.0
    except ValueError as error:
        raise FormatError(f"{name}: color {color!r}: expected aabbggrr") from error
    source = _placed(name, _picture(file, archive, href), element)
    visible = _number(element, "visibility", 1) != 0
    return Layer(source, opacity=opacity, visible=visible, name=_text(element, "name"))


def _picture(file: ByteFile, archive: zipfile.ZipFile | None, href: str) -> Source:
    name = file.name
    if "://" in href or href.startswith(("/", "\\")) or ".." in href.split("/"):
        raise FormatError(f"{name}: picture {href!r} lies elsewhere, and only what is in or beside "
                          "the file is read")  # fmt: skip
    if archive is not None:
        held: ByteFile = HeldFile(f"{name}/{href}", _member(name, archive, href))
    else:
        held = file_beside(file, href)
    return open_with(reader_of(held)[1], held)


def _placed(name: str, source: Source, element: Any) -> Source:
    """Return the picture at its box (turned, where it says so), or at its four corners."""
    quad = next((one for one in element.iter() if _tag(one) == "LatLonQuad"), None)
    try:
        if quad is not None:
            text = (_text(quad, "coordinates") or "").split()
            points = [tuple(float(v) for v in point.split(",")[:2]) for point in text]
            if len(points) != 4:
                raise FormatError(f"{name}: LatLonQuad: expected 4 corners, not {len(points)}")
            lower_left, lower_right, upper_right, upper_left = points
            corners = [upper_left, upper_right, lower_right, lower_left]
            return give_place(source, corners=corners, crs=LONLAT)[0]
        box = next((one for one in element.iter() if _tag(one) == "LatLonBox"), None)
        if box is None:
            raise FormatError(f"{name}: a ground overlay without LatLonBox or LatLonQuad")
        return give_place(source, corners=_box_corners(box), crs=LONLAT)[0]
    except (ValueError, GridMismatch) as error:
        if isinstance(error, FormatError):
            raise
        raise FormatError(
            f"{name}: the place of a ground overlay makes no sense: {error}"
        ) from error


def _box_corners(box: Any) -> list[tuple[float, float]]:
    sides = [_number(box, side, np.nan) if _text(box, side) else np.nan
             for side in ("north", "south", "east", "west")]  # fmt: skip
    if not np.isfinite(sides).all():
        raise FormatError("KML: LatLonBox: expected north, south, east and west")
    north, south, east, west = sides
    if east <= west:
        east += 360
    x, y = (west + east) / 2, (south + north) / 2
    turn = np.radians(_number(box, "rotation", 0.0))
    corners = []
    for dx, dy in ((-1, 1), (1, 1), (1, -1), (-1, -1)):
        u, v = dx * (east - west) / 2, dy * (north - south) / 2
        corners.append((float(x + u * np.cos(turn) - v * np.sin(turn)),
                        float(y + u * np.sin(turn) + v * np.cos(turn))))  # fmt: skip
    return corners
