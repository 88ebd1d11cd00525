"""Layer files: an overlay described in TOML, to be drawn again with one word.

::

    [grid]                      # optional; else the first layer's
    crs = "EPSG:32727"
    pixel_size = 10.0
    bounds = [488000, 7353000, 497000, 7360000]

    [[layer]]                   # the lowest first; paths are relative to this file
    file = "sound_8band.tif"
    nodata = 0
    look = {channels = "natural", limits = "percentile:2,98"}   # or the name of a look file

    [[layer]]
    file = "sound_depth.tif"
    relief = {azimuth = 315, altitude = 45, exaggeration = 5}
    mode = "multiply"
    opacity = 0.6

    [[layer]]
    outline = "lease.geojson"
    color = "#ffd23f"
    label = "name"
    crs = "EPSG:32727"          # optional; else what the file says, or longitude and latitude
    layer = "leases"            # of a GeoPackage with several

    [sheet]                     # for a finished map: docs/sheets.md
    title = "Halse Sound"
    paper = "A3"
    scale = "1:25000"
    put = {north = "top-left"}
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from spectrane.analysis.expressions import Computed
from spectrane.display.layers import Layer
from spectrane.display.outlines import Outline
from spectrane.display.sheet_settings import INSETS, SheetSettings
from spectrane.formats.registry import open_source
from spectrane.kernels.records import record
from spectrane.model.addresses import FileLike, is_address
from spectrane.model.errors import FormatError, LookError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.printing import short_name
from spectrane.model.regular_files import ReadingAs, found_from, given_name, read_toml
from spectrane.model.source import Source
from spectrane.model.systems import checked_system
from spectrane.model.table_problems import table_problem
from spectrane.model.whole_files import written_whole
from spectrane.spatial.clipping import clip
from spectrane.spatial.converted import in_unit
from spectrane.spatial.described import with_nodata
from spectrane.spatial.grids import covering
from spectrane.spatial.relief import Relief, Sun
from spectrane.spatial.shapes import read_shapes

Number = int | float


_LARGEST = 16 << 20
"""Bytes of a layer file."""


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid")


class LayerGridTable(_Table):
    """The grid that all layers are drawn on."""

    crs: str | int
    pixel_size: float = Field(gt=0)
    bounds: tuple[float, float, float, float]


class SunTable(_Table):
    """One sun: degrees clockwise from north, degrees above the horizon, and its share."""

    azimuth: float = 315.0
    altitude: float = 45.0
    weight: float = 1.0


class ReliefTable(SunTable):
    """Relief shading of a band of heights, by the sun here or by several."""

    band: int = Field(default=1, ge=1)
    exaggeration: float = Field(default=1.0, gt=0)
    suns: list[SunTable] | None = None


class LayerTable(_Table):
    """A raster (``file``) or vector shapes (``outline``)."""

    file: str | None = None
    outline: str | None = None
    member: int | str | None = None
    name: str | None = None
    opacity: float = 1.0
    visible: bool = True
    mode: str = "normal"
    base: bool = False
    look: str | dict[str, Any] | None = None
    nodata: Number | list[Number | list[Number]] | None = None
    compute: dict[str, str] | None = None
    unit: str | None = None
    clip: str | None = None
    threshold: str | None = None
    relief: ReliefTable | None = None
    color: str = "#ffd23f"
    width: float = 2.0
    label: str | bool | None = None
    fill: str | None = None
    crs: str | int | None = None
    layer: str | None = None


class FileTable(_Table):
    """A whole layer file."""

    grid: LayerGridTable | None = None
    sheet: dict[str, Any] | None = None
    layer: list[LayerTable] = Field(min_length=1)


@record(frozen=True)
class LayerFile:
    """What a layer file describes: layers, the lowest first, the grid and the sheet, if any.

    >>> LayerFile([]).grid is None
    True
    """

    layers: list[Layer | Outline]
    grid: Grid | None = None
    sheet: SheetSettings | None = None


def read_layers(path: FileLike, options: Mapping[str, Any] | None = None) -> LayerFile:
    """Open the layers that a file describes. Raises LookError: what is wrong, and where.

    ``options`` are those of the storage where it, and what it names, lies.
    """
    name = given_name(path)
    of_it = options if is_address(name) else None
    given = read_toml(path, _LARGEST, LookError, "a layer file", of_it)
    try:
        table = FileTable.model_validate(given)
    except ValidationError as error:
        raise LookError(f"{name}: {table_problem(error, FileTable)}") from error
    files = _Files(name, options)
    layers = []
    for number, entry in enumerate(table.layer, 1):
        try:
            with ReadingAs(f"layer {number}", LookError, problem="cannot be read"):
                layers.append(_layer(entry, files))
        except LookError as error:
            raise LookError(f"{name}: layer {number}: {error}") from error
    grid = None
    if table.grid is not None:
        size = table.grid.pixel_size
        with ReadingAs(name, LookError, "a layer file"):
            grid = covering(table.grid.bounds, (size, size), checked_system(table.grid.crs))
    return LayerFile(layers, grid, _sheet(table.sheet, name))


def write_layers(
    path: str, layers: Sequence[Mapping[str, Any]], sheet: Mapping[str, Any] | None = None, *,
    grid: Mapping[str, Any] | None = None, overwrite: bool = False,
) -> None:  # fmt: skip
    """Write a layer file of tables as they stand in one; files are named from its folder already.

    Raises FormatError for another ending than ``.toml``, ExistingFile, AccessError; LookError for a
    table that could not be read again.
    """
    import tomlkit

    if not path.lower().endswith(".toml"):
        raise FormatError(f"{path}: layers are kept in a file that ends with .toml")
    table: dict[str, Any] = {} if grid is None else {"grid": dict(grid)}
    table |= {} if sheet is None else {"sheet": dict(sheet)}
    table["layer"] = [dict(layer) for layer in layers]
    try:
        FileTable.model_validate(table)
    except ValidationError as error:
        raise LookError(f"{path}: {table_problem(error, FileTable)}") from error
    with written_whole(path, overwrite=overwrite) as file:
        file.write(tomlkit.dumps(table).encode())


def layer_tables(path: str | os.PathLike[str]) -> dict[str, Any]:
    """Return the tables of a layer file as they stand in it, its files named as from here."""
    name = given_name(path)
    given: dict[str, Any] = dict(read_toml(name, _LARGEST, LookError, "a layer file"))
    for layer in given.get("layer", []):
        for key in ("file", "outline", "clip", "look"):
            if isinstance(layer.get(key), str):
                layer[key] = found_from(layer[key], name)
    return given


def _sheet(given: dict[str, Any] | None, name: str) -> SheetSettings | None:
    """Return the settings of a sheet; its files are named from the layer file's folder."""
    if given is None:
        return None
    try:
        found = SheetSettings.from_dict(given)
    except LookError as error:
        raise LookError(f"{name}: sheet: {error}") from error
    picture = None if found.picture is None else found_from(found.picture, name)
    inset = found.inset if found.inset in INSETS else found_from(found.inset, name)
    return replace(found, picture=picture, inset=inset)


@record(frozen=True)
class _Files:
    """What a layer file names, as seen from here, and the options of its storage."""

    beside: str
    options: Mapping[str, Any] | None

    def named(self, path: str) -> tuple[str, dict[str, Any]]:
        """Return a file's place, and what else whoever opens it is told."""
        place = found_from(path, self.beside)
        return place, {"storage_options": self.options} if is_address(place) else {}

    def shapes(self, path: str, **more: Any) -> Any:
        """Return shapes, or where they are read from when they are drawn."""
        place, told = self.named(path)
        return read_shapes(place, **more, **told) if told else place


def _layer(entry: LayerTable, files: _Files) -> Layer | Outline:
    if (entry.file is None) == (entry.outline is None):
        raise LookError("expected a file, or an outline")
    if entry.outline is not None:
        shapes = files.shapes(entry.outline, layer=entry.layer, crs=entry.crs)
        unread = isinstance(shapes, str)
        return Outline(
            shapes, entry.color, entry.width, entry.label, entry.fill,
            entry.crs if unread else None, entry.opacity, entry.visible,
            entry.name if unread else entry.name or short_name(entry.outline),
            entry.layer if unread else None,
        )  # fmt: skip
    look = None
    if isinstance(entry.look, str):
        place, told = files.named(entry.look)
        look = Look.load(place, **told)
    elif entry.look is not None:
        look = Look.from_dict(entry.look)
    mode: Any = entry.mode  # Layer says which words there are
    return Layer(
        _source(entry, files), look, opacity=entry.opacity, visible=entry.visible,
        threshold=entry.threshold, name=entry.name, mode=mode, base=entry.base,
    )  # fmt: skip


def _source(entry: LayerTable, files: _Files) -> Source:
    place, told = files.named(str(entry.file))
    source = open_source(place, member=entry.member, **told)
    if entry.nodata is not None:
        source = with_nodata(source, entry.nodata)
    if entry.compute:
        source = Computed(source, entry.compute)
    if entry.unit is not None:
        source = in_unit(source, entry.unit)
    if entry.clip is not None:
        source = clip(source, files.shapes(entry.clip), extent_of="full")
    if entry.relief is not None:
        given = entry.relief.suns or [entry.relief]
        suns = [Sun(sun.azimuth, sun.altitude, sun.weight) for sun in given]
        source = Relief(source, entry.relief.band - 1, suns, entry.relief.exaggeration)
    return source
