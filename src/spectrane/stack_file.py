"""Stack files ``NAME.stack.toml``: bands of other files that open as one raster.

::

    kind = "stack"
    resample = "cubic"          # optional; else nearest for classes, cubic for all else

    [grid]                      # that all are brought to, exactly
    rows = 700
    columns = 900
    affine = [10.0, 0.0, 488000.0, 0.0, -10.0, 7360000.0]   # x = a·column + b·row + c; y = d … f
    crs = "EPSG:32727"

    [[band]]                    # in order; paths are relative to this file
    file = "sound_B02.tif"
    number = 1                  # optional: which of its bands, from 1
    member = "reflectance"      # optional: which raster of the file
    name = "B02"                # optional, and so on: role, wavelength, unit, scale, offset
    role = "blue"
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack, closing
from contextvars import ContextVar
from dataclasses import replace
from itertools import groupby
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.derived import state_of_parts
from spectrane.formats.registry import open_source
from spectrane.formats.sidecar_schema import Factor, Finite
from spectrane.formats.table import Probe
from spectrane.model.band import MOST_BANDS, Band, find_band
from spectrane.model.errors import FormatError, SpectraneError
from spectrane.model.grid import Grid
from spectrane.model.member import Member, find_member
from spectrane.model.regular_files import ReadingAs, found_from, named_from
from spectrane.model.resampling import Resampling
from spectrane.model.source import Source
from spectrane.model.table_problems import table_problem
from spectrane.model.whole_files import written_whole
from spectrane.model.window import whole
from spectrane.spatial.joined import JoinedBands
from spectrane.spatial.regridded import regrid
from spectrane.spatial.subset import Subset

ENDING = ".stack.toml"
_part_of: ContextVar[str | None] = ContextVar("part_of", default=None)
"""The stack file whose parts are being opened."""
_LARGEST = 8 << 20
_KEPT = ("name", "role", "wavelength", "unit", "scale", "offset", "description")
_FIRST = "# Bands of other files as one raster; paths are relative to this file.\n"


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid")


class StackGridTable(_Table):
    """The grid that all bands are brought to."""

    rows: int = Field(ge=1)
    columns: int = Field(ge=1)
    affine: tuple[float, float, float, float, float, float] | None = None
    crs: str | None = None


class StackBandTable(_Table):
    """One band: where it is, and what it means where its file does not say so."""

    file: str = Field(min_length=1)
    number: int = Field(default=1, ge=1)
    member: int | str | None = None
    name: str | None = None
    role: str | None = None
    wavelength: float | None = None
    unit: str | None = None
    scale: Factor | None = None
    offset: Finite | None = None
    description: str | None = None


class StackTable(_Table):
    """A whole stack file."""

    kind: str = Field(pattern="^stack$")
    resample: Resampling | None = None
    grid: StackGridTable
    band: list[StackBandTable] = Field(min_length=1, max_length=MOST_BANDS)


class LinkedBands(JoinedBands):
    """The bands of a stack file."""


class StackReader:
    """Reads stack files; nothing of their parts is read before it is asked for."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether a text says of itself that it is a stack."""
        return True  # its first line that is no comment does, or it would not have come here

    def members(self, file: ByteFile) -> list[Member]:
        """Return the one raster it makes."""
        table = _read(file)
        with closing(open_linked(table, file)) as source:
            rows, columns = source.grid.shape
            return [Member(1, "", rows, columns, len(source.bands), source.dtype.name)]

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open the parts. Raises FormatError where one is missing or does not fit."""
        if (stack := _part_of.get()) is not None:  # which might be this one, and so on for ever
            raise FormatError(f"{file.name}: is a stack itself, and cannot be a part of {stack}")
        table = _read(file)
        if member is not None:
            grid = table.grid
            find_member([Member(1, "", grid.rows, grid.columns, len(table.band), "")], member,
                        file.name)  # fmt: skip
        source = open_linked(table, file)
        file.close()
        return source


def _read(file: ByteFile) -> StackTable:
    import tomllib

    if file.size > _LARGEST:
        raise FormatError(f"{file.name}: is larger than a stack file can be ({_LARGEST} bytes)")
    with ReadingAs(file.name, FormatError, "a stack file"):
        try:
            return StackTable.model_validate(tomllib.loads(file.read(0, file.size).decode()))
        except tomllib.TOMLDecodeError as error:
            raise FormatError(f"{file.name}: is no stack file: not TOML: {error}") from error
        except ValidationError as error:
            raise FormatError(f"{file.name}: {table_problem(error, StackTable)}") from error


def open_linked(table: StackTable, file: ByteFile) -> LinkedBands:
    """Open the parts of a stack and join them on its grid."""
    a, b, c, d, e, f = table.grid.affine or (1.0, 0.0, 0.0, 0.0, 1.0, 0.0)
    grid = Grid((table.grid.rows, table.grid.columns), ((a, b, c), (d, e, f), (0.0, 0.0, 1.0)),
                table.grid.crs, y_up=table.grid.affine is not None,
                placed=table.grid.affine is not None)  # fmt: skip
    with ExitStack() as opened:
        parents = []
        for (path, member), bands in groupby(table.band, key=lambda one: (one.file, one.member)):
            part = _opened(path, member, file)
            opened.callback(part.close)
            indices = [find_band(part.bands, band.number) for band in bands]
            chosen = Subset(part, indices, whole(part.shape))
            parents.append(regrid(chosen, grid, resample=table.resample))
        source = LinkedBands(parents)
        opened.pop_all()
    source.bands = tuple(map(_described, source.bands, table.band))
    source.name, source.format = file.name, "stack"
    source.state = state_of_parts(file.key, *parents)
    return source


def _opened(path: str, member: int | str | None, file: ByteFile) -> Source:
    place = found_from(path, file.name)
    before = _part_of.set(file.name)
    try:
        part = open_source(place, member=member, damaged="keep" if file.keeps_damaged else "error")
    except SpectraneError as error:
        raise FormatError(f"{file.name}: its part {path}: {error}") from error
    finally:
        _part_of.reset(before)
    if len(part.shape) != 2:
        part.close()
        raise FormatError(f"{file.name}: its part {path} is a volume; expected a raster")
    return part


def _described(band: Band, table: StackBandTable) -> Band:
    said = {name: value for name in _KEPT if (value := getattr(table, name)) is not None}
    return replace(band, **said)


def write_stack(
    path: str, files: Sequence[tuple[str, int | str | None, int]], grid: Grid,
    bands: Sequence[Band], *, resample: str | None = None, overwrite: bool = False,
) -> None:  # fmt: skip
    """Write a stack file; ``files`` are (path, member, number of bands), in order.

    ``grid`` is what they are brought to, ``bands`` what all of them mean. Raises FormatError
    for another ending than ``.stack.toml``, ExistingFile, AccessError.
    """
    import tomlkit

    if not path.lower().endswith(ENDING):
        raise FormatError(f"{path}: linked bands are kept in a file that ends with {ENDING}")
    table: dict[str, Any] = {"kind": "stack"}
    table |= {"resample": resample} if resample else {}
    table["grid"] = {"rows": grid.rows, "columns": grid.columns}
    if grid.placed:
        table["grid"]["affine"] = list(grid.coefficients)
    if grid.crs_text:
        table["grid"]["crs"] = grid.crs_text
    following = iter(bands)
    listed = []
    for file, member, count in files:
        for number in range(1, count + 1):
            band = next(following)
            entry: dict[str, Any] = {"file": named_from(file, path)}
            entry |= {"number": number} if count > 1 else {}
            entry |= {"member": member} if member is not None else {}
            entry |= {name: value for name in _KEPT
                      if (value := getattr(band, name)) not in (None, "")}  # fmt: skip
            listed.append(entry)
    table["band"] = listed
    with written_whole(path, overwrite=overwrite) as target:
        target.write((_FIRST + tomlkit.dumps(table)).encode())
