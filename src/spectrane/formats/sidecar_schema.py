"""What may stand in a sidecar, checked by pydantic; and how it is laid over a source."""

from __future__ import annotations

import tomllib
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

from spectrane.engine.described import Described
from spectrane.model.band import usable
from spectrane.model.errors import MetadataError, SpectraneError, nearest
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.nodata import nodata_value
from spectrane.model.number_types import NUMBER_TYPES
from spectrane.model.said import checked_metadata, with_given
from spectrane.model.source import Source
from spectrane.model.table_problems import table_problem

Number = int | float
Finite = Annotated[float, Field(allow_inf_nan=False)]


def _is_factor(number: float) -> float:
    if not usable(number, 0.0):
        raise ValueError("expected a number other than 0")
    return number


Factor = Annotated[Finite, AfterValidator(_is_factor)]
"""What stored numbers are multiplied by."""


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid")


class NoDataTable(_Table):
    """``value``: a number, or a list in which a pair is a closed range; ``when``: any or all."""

    value: Number | list[Number | list[Number]] | None = None
    when: Literal["any", "all"] | None = None


class BandTable(_Table):
    """What is said of one band; ``number`` counts from 1."""

    number: int = Field(ge=1)
    name: str | None = None
    role: str | None = None
    wavelength: float | None = Field(default=None, gt=0)
    unit: str | None = None
    scale: Factor | None = None
    offset: Finite | None = None
    nodata: Number | list[Number | list[Number]] | None = None
    description: str | None = None
    time: float | None = None
    statistic: str | None = None


_Row = tuple[float, float, float, float]


class GridTable(_Table):
    """``crs``, and the place: ``bounds``, ``corner`` with ``pixel_size``, or ``affine``.

    Of a volume ``moved``: three rows of four, from the file's millimetres to where they belong.
    """

    crs: str | None = None
    bounds: tuple[float, float, float, float] | None = None
    corner: tuple[float, float] | None = None
    pixel_size: tuple[float, float] | None = None
    affine: tuple[tuple[float, float, float], tuple[float, float, float]] | None = None
    moved: tuple[_Row, _Row, _Row] | None = None


class ReadingTable(_Table):
    """How the file is read: ``spacing`` of a series whose slices are not even."""

    spacing: Literal["resample", "nominal"] | None = None

    def options(self) -> dict[str, Any]:
        """Return what the file's reader is told."""
        return {} if self.spacing is None else {"spacing": self.spacing}


class RawTable(_Table):
    """The layout of a headerless binary."""

    rows: int = Field(ge=1)
    columns: int = Field(ge=1)
    bands: int = Field(default=1, ge=1)
    type: str = "uint8"
    order: Literal["little", "big"] = "little"
    header: int = Field(default=0, ge=0)
    interleave: Literal["bsq", "bil", "bip"] = "bsq"


class Sidecar(_Table):
    """A whole sidecar; everything may be left out. ``coded``: numbers are names, never mixed."""

    version: Literal[1] = 1
    notes: str | None = None
    provenance: list[str] = []
    coded: bool | None = None
    metadata: dict[str, str | int | float] = {}
    nodata: NoDataTable | None = None
    bands: list[BandTable] = []
    grid: GridTable | None = None
    look: dict[str, Any] | None = None
    raw: RawTable | None = None
    reading: ReadingTable | None = None


def parse_sidecar(text: str, path: str) -> Sidecar:
    """Read a sidecar. Raises MetadataError: the key, what was expected, the nearest known key."""
    try:
        content = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise MetadataError(f"{path}: not TOML: {error}") from error
    return checked(content, path)


def checked(content: dict[str, Any], path: str) -> Sidecar:
    """Check what was read or is about to be written."""
    try:
        beside = Sidecar.model_validate(content)
        checked_metadata(beside.metadata)
        if beside.look is not None:
            Look.from_dict(beside.look)
    except ValidationError as error:
        raise MetadataError(f"{path}: {table_problem(error, Sidecar)}") from error
    except (SpectraneError, TypeError, ValueError) as error:
        raise MetadataError(f"{path}: {error}") from error
    if beside.raw is not None and beside.raw.type not in NUMBER_TYPES:
        raise MetadataError(
            f"{path}: raw.type: no type {beside.raw.type!r}{nearest(beside.raw.type, NUMBER_TYPES)}"
        )
    return beside


def apply_sidecar(source: Source, beside: Sidecar) -> Source:
    """Return a source with a sidecar's corrections; what it leaves out stays as the file says."""
    bands = list(source.bands)
    if beside.nodata is not None and "value" in beside.nodata.model_fields_set:
        bands = [replace(band, nodata=nodata_value(beside.nodata.value)) for band in bands]
    for table in beside.bands:
        if table.number > len(bands):
            raise MetadataError(
                f"{source.name}: its sidecar speaks of band {table.number}; "
                f"the file has {len(bands)}"
            )
        bands[table.number - 1] = _band(bands[table.number - 1], table)
    look = None if beside.look is None else Look.from_dict(beside.look)
    grid = None if beside.grid is None else placed(source.grid, beside.grid, source.name)
    metadata = dict(source.metadata) | ({"notes": beside.notes} if beside.notes else {})
    metadata |= {"provenance": beside.provenance} if beside.provenance else {}
    metadata = with_given(metadata, beside.metadata)
    corrected = Described(
        source, bands, beside.nodata.when if beside.nodata else None, grid=grid, look=look,
        metadata=metadata,
    )  # fmt: skip
    corrected.coded = source.coded if beside.coded is None else beside.coded
    return corrected


def _band(band: Any, table: BandTable) -> Any:
    changes = {name: getattr(table, name) for name in table.model_fields_set - {"number"}}
    if "nodata" in changes:
        changes["nodata"] = nodata_value(changes["nodata"])
    if changes.get("wavelength") and "role" not in changes:
        changes["role"] = None  # a new wavelength names the role anew
    return replace(band, **changes)


def placed(grid: Grid, table: GridTable, name: str) -> Grid:
    """Return a grid under the place and coordinate system that a sidecar gives it."""
    changes: dict[str, Any] = {}
    if table.moved is not None:
        if len(grid.shape) != 3:
            raise MetadataError(f"{name}: grid.moved is for volumes")
        moved = np.array([*table.moved, (0.0, 0.0, 0.0, 1.0)]) @ grid.matrix
        return replace(grid, affine=tuple(map(tuple, moved.tolist())))
    if table.crs is not None:
        changes |= {"crs_text": table.crs, "crs_name": None}
    ways = [table.bounds, table.corner, table.affine]
    if sum(way is not None for way in ways) > 1:
        raise MetadataError(f"{name}: grid: give bounds, or corner and pixel_size, or affine")
    if (table.corner is None) != (table.pixel_size is None):
        raise MetadataError(f"{name}: grid: corner and pixel_size go together")
    affine: Any = None
    if table.affine is not None:
        affine = (*table.affine, (0.0, 0.0, 1.0))
    elif table.bounds is not None:
        x_min, y_min, x_max, y_max = table.bounds
        if not (x_min < x_max and y_min < y_max):
            raise MetadataError(f"{name}: grid.bounds: expected x min, y min, x max, y max")
        dx, dy = (x_max - x_min) / grid.columns, (y_max - y_min) / grid.rows
        affine = ((dx, 0.0, x_min), (0.0, -dy, y_max), (0.0, 0.0, 1.0))
    elif table.corner is not None and table.pixel_size is not None:
        (x, y), (dx, dy) = table.corner, table.pixel_size
        affine = ((dx, 0.0, x), (0.0, -dy, y), (0.0, 0.0, 1.0))
    if affine is not None:
        changes |= {"affine": affine, "placed": True, "y_up": True}
    return replace(grid, **changes)
