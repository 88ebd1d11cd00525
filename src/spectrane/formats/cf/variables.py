"""Arrays with named dimensions, whatever stores them, and what the CF conventions make of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.damage import Damaged
from spectrane.engine.full import FullSource
from spectrane.engine.pyramid import cut_blocks
from spectrane.formats.cf.arranging import Arranged
from spectrane.formats.cf.arrays import (
    WORDS,
    Variable,
    companion_name,
    rasters,
    valid_flag,
    validity_of,
)
from spectrane.formats.cf.coordinates import grid_from_axes, named_planes, own_wavelength
from spectrane.formats.cf.swaths import TOLD, geolocation_of
from spectrane.formats.sidecar_schema import apply_sidecar, parse_sidecar
from spectrane.model.band import Band, check_band_count, scaling_said
from spectrane.model.errors import FormatError
from spectrane.model.grid import Grid
from spectrane.model.look import Class, Look
from spectrane.model.member import Member, find_member
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.window import (
    Window,
    block_seen,
    blocks_touching,
    extent,
    relative,
)

_PALETTE = ("#4477aa", "#ee6677", "#228833", "#ccbb44", "#66ccee", "#aa3377", "#bbbbbb", "#222255")


class Storage(Protocol):
    """Where arrays come from: opened when asked, by name."""

    def arrays(self) -> Mapping[str, Variable]:
        """Return all arrays by their full name."""

    def read(self, name: str, where: tuple[slice, ...]) -> NDArray[Any]:
        """Return a part of an array as stored, in memory of its own."""


def members_in(storage: Storage) -> list[Member]:
    """List raster arrays of a storage as members."""
    return variable_members(Arranged(storage).arrays())


def variable_members(arrays: Mapping[str, Variable]) -> list[Member]:
    """List raster arrays as members."""
    return [
        Member(number, v.name, v.shape[-2], v.shape[-1], v.bands, v.dtype.newbyteorder("=").name)
        for number, v in enumerate(rasters(arrays), 1)
    ]


class ArraySourceOnDisk(FullSource):
    """One stored array as a lazy raster: the last two dimensions are rows and columns."""

    of_file = True

    def __init__(self, file: ByteFile, storage: Storage, variable: Variable) -> None:
        self.file, self.storage, self.variable, self.name = file, storage, variable, file.name
        check_band_count(f"{file.name}: {variable.name}", variable.bands)
        arrays = storage.arrays()
        self.dtype = _dtype(variable)
        rows, columns = variable.shape[-2:]
        self.grid = _grid(file.name, storage, arrays, variable)
        swath = geolocation_of(self, arrays) if self.grid.crs_text is None else None
        if swath is not None:  # of indices along the axes no place is made
            self.grid, self.geolocation, self.axes = Grid((rows, columns)), swath, (TOLD,)
        self.bands = _bands(storage, arrays, variable)
        chunks = variable.chunks or ()
        self.block_shape = (
            (min(chunks[-2], rows), min(chunks[-1], columns)) if len(chunks) >= 2 else
            (max(1, min(rows, (1 << 20) // columns)), columns)
        )  # fmt: skip
        chunks_in_all = int(np.prod([-(-n // m) for n, m in zip(
            variable.shape[-2:], self.block_shape, strict=True)])) * variable.bands  # fmt: skip
        self.damaged = Damaged(file.name, chunks_in_all, "chunks")
        self.validity = validity_of(arrays, variable)
        self.has_mask = self.validity is not None
        said = variable.attributes
        self.coded = "flag_meanings" in said and bool({"flag_values", "flag_masks"} & said.keys())
        classes = _classes(said)
        self.look = Look(classes=classes) if classes and variable.bands == 1 else None
        self.metadata = {
            "variable": variable.name,
            "dimensions": list(variable.dimensions),
            **{k: _attribute_value(v) for k, v in variable.attributes.items()},
        }

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer one window; a chunk that holds several wanted bands is unpacked once."""
        if not self.file.keeps_damaged:
            return self._answer(bands, window)
        try:
            return self._answer(bands, window)
        except FormatError:
            return self._without_damaged(bands, window)

    def _without_damaged(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer chunk by chunk; those that cannot be read are invalid."""
        values = np.zeros((len(bands), *extent(window)), self.dtype)
        mask = np.zeros(values.shape, bool)
        for number, band in enumerate(bands):
            for position in blocks_touching(window, self.block_shape):
                _, part = block_seen(position, self.block_shape, self.shape, window)
                pixels = self.damaged.attempt((band, position), self._answer, [band], part)
                if pixels is None:
                    continue
                where = relative(part, window)
                values[number][where] = pixels.values[0]
                mask[number][where] = True if pixels.mask is None else pixels.mask[0]
        self.damaged.tell()
        rules = [self.bands[band].rule for band in bands]
        return Pixels(values, mask=mask, rules=rules, when=self.nodata_when)

    def _answer(self, bands: Sequence[int], window: Window) -> Pixels:
        values = self._planes(self.variable, bands, window)
        rules = [self.bands[band].rule for band in bands]
        return Pixels(values.view(self.dtype), mask=self._mask(bands, window), rules=rules,
                      when=self.nodata_when)  # fmt: skip

    def _mask(self, bands: Sequence[int], window: Window) -> NDArray[np.bool_] | None:
        """Return what the ancillary variable says is valid."""
        if self.validity is None:
            return None
        flags = self._planes(self.validity, bands if self.validity.shape[:-2] else [0], window)
        return np.asarray(flags == valid_flag(self.validity))

    def _planes(self, variable: Variable, bands: Sequence[int], window: Window) -> NDArray[Any]:
        """Return planes of a variable, in native byte order."""
        where = tuple(slice(a, b) for a, b in window)
        out: NDArray[Any] | None = None
        for lead, places in _runs(variable, bands):
            values = self.storage.read(variable.name, (*lead, *where))
            planes = _native(values, variable.dtype).reshape(-1, *extent(window))
            if places == [(k, k) for k in range(len(bands))] and len(planes) == len(bands):
                return planes
            if out is None:
                out = np.empty((len(bands), *extent(window)), planes.dtype)
            for plane, place in places:
                out[place] = planes[plane]
        assert out is not None
        return out

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk runs of whole chunks."""
        rows = self.block_shape[0]
        per_row = rows * self.shape[1] * len(bands)
        down = max(1, (4 << 20) // max(1, per_row)) * rows
        return cut_blocks(self, bands, self.checked(window), (down, self.shape[1]))

    def close(self) -> None:
        """Let go of the file."""
        getattr(self.storage, "close", lambda: None)()
        self.file.close()


def _native(values: NDArray[Any], dtype: np.dtype[Any]) -> NDArray[Any]:
    """Return numbers of a type in native byte order, turned where they lie if that is all."""
    native = dtype.newbyteorder("=")
    turned = values.dtype != native and values.dtype == native.newbyteorder("S")
    if turned and values.flags.writeable:
        return values.byteswap(inplace=True).view(native)
    return values.astype(native, copy=False)


def _runs(
    variable: Variable, bands: Sequence[int]
) -> Iterator[tuple[tuple[slice, ...], list[tuple[int, int]]]]:
    """Group planes that are read at once: leading slices, and (plane of these, place) pairs.

    Those that follow one another, else those that lie in one chunk.
    """
    lead, first = variable.shape[:-2], bands[0]
    if not lead:
        yield (), [(0, place) for place in range(len(bands))]
        return
    if len(lead) == 1 and list(bands) == list(range(first, first + len(bands))):
        yield (slice(first, first + len(bands)),), [(k, k) for k in range(len(bands))]
        return
    deep = variable.chunks[len(lead) - 1] if variable.chunks else 1
    groups: dict[tuple[int, ...], list[tuple[int, int]]] = {}
    for place, band in enumerate(bands):
        index = np.unravel_index(band, lead)
        key = (*map(int, index[:-1]), int(index[-1]) // deep)
        groups.setdefault(key, []).append((int(index[-1]), place))
    for key, places in groups.items():
        low, high = min(k for k, _ in places), max(k for k, _ in places) + 1
        slices = (*(slice(k, k + 1) for k in key[:-1]), slice(low, high))
        yield slices, [(k - low, place) for k, place in places]


def _attribute_value(value: Any) -> Any:
    if isinstance(value, np.ndarray):
        return value.tolist()
    return value.item() if isinstance(value, np.generic) else value


def _dtype(variable: Variable) -> np.dtype[Any]:
    native = variable.dtype.newbyteorder("=")
    marked = str(variable.attributes.get("_Unsigned", "")).lower()
    if native.kind == "i" and marked == "true":
        return np.dtype(f"u{native.itemsize}")
    if native.kind == "u" and marked == "false":
        return np.dtype(f"i{native.itemsize}")
    return native


def band_in(variable: Variable, name: str) -> Band:
    """Return what an array's attributes say of its numbers, as a band of a name."""
    said = variable.attributes
    title = str(said.get("long_name") or said.get("standard_name") or "") or None
    scale, offset = scaling_said(variable.name, *_packing(said))
    return Band(
        name,
        unit=str(said["units"]) if said.get("units") not in (None, "") else None,
        scale=scale,
        offset=offset,
        nodata=_nodata(variable, _dtype(variable)),
        description=None if title == name else title,
    )


def _packing(said: Mapping[str, Any]) -> tuple[float, float]:
    """Return the scale and offset that attributes say."""
    return (float(_attribute_value(said.get("scale_factor", 1.0))),
            float(_attribute_value(said.get("add_offset", 0.0))))  # fmt: skip


def _bands(
    storage: Storage, arrays: Mapping[str, Variable], variable: Variable
) -> tuple[Band, ...]:  # fmt: skip
    said = variable.attributes
    given = [str(name) for name in np.atleast_1d(said.get("band_names", ())).ravel()]
    name = given[0] if len(given) == 1 and given[0] else variable.name.split("/")[-1]
    one = band_in(variable, name)
    if not variable.shape[:-2]:
        return (replace(one, wavelength=own_wavelength(storage.read, arrays, variable)),)
    names = named_planes(storage.read, arrays, variable)
    if len(given) == len(names):
        names = [(name, wave) for name, (_, wave) in zip(given, names, strict=True)]
    return tuple(
        replace(one, name=name, wavelength=wavelength, role=None) for name, wavelength in names
    )


def _nodata(variable: Variable, dtype: np.dtype[Any]) -> Any:
    """Gather _FillValue, missing_value and the valid range (CF 1.11, section 2.5.1)."""
    said = variable.attributes
    rules: list[Any] = []
    for key in ("_FillValue", "missing_value"):
        values: Any = np.atleast_1d(said[key]) if key in said else []
        rules += [_as(v, variable, dtype) for v in values if np.asarray(v).dtype.kind in "iuf"]
    if variable.fill is not None and "_FillValue" not in said:
        rules.append(_as(variable.fill, variable, dtype))
    low, high = _attribute_value(said.get("valid_min")), _attribute_value(said.get("valid_max"))
    pair = said.get("valid_range")
    if pair is not None and np.size(pair) == 2:
        low, high = (v.item() for v in np.asarray(pair).ravel())
    limits = (
        (-np.inf, np.inf) if dtype.kind == "f" else (_limit(dtype, "min"), _limit(dtype, "max"))
    )
    if isinstance(low, int | float) and low > limits[0]:
        rules.append((limits[0], _neighbour(low, -np.inf, dtype)))
    if isinstance(high, int | float) and high < limits[1]:
        rules.append((_neighbour(high, np.inf, dtype), limits[1]))
    unique = [v for k, v in enumerate(rules) if repr(v) not in map(repr, rules[:k])]
    if len(unique) == 1 and not isinstance(unique[0], tuple):
        return unique[0]
    return tuple(unique) or None


def _neighbour(value: Any, towards: float, dtype: np.dtype[Any]) -> Any:
    """Return the next number of a type in a direction."""
    if dtype.kind != "f":
        return value + (1 if towards > 0 else -1)
    return float(np.nextafter(dtype.type(value), dtype.type(towards)))


def _limit(dtype: np.dtype[Any], end: str) -> int:
    return int(getattr(np.iinfo(dtype), end)) if dtype.kind in "iu" else 0


def _as(value: Any, variable: Variable, dtype: np.dtype[Any]) -> Any:
    """Bring a stored special number to the type handed out (``_Unsigned`` turns its bits)."""
    if dtype.kind in "iu" and variable.dtype.kind in "iu" and dtype.kind != variable.dtype.kind:
        return int(np.array(value).astype(variable.dtype.newbyteorder("=")).view(dtype))
    return np.asarray(value).item()


def _classes(said: Mapping[str, Any]) -> dict[float, Class]:
    """Return flag values and meanings as classes (CF 1.11, section 3.5)."""
    if "flag_values" not in said or "flag_meanings" not in said:
        return {}
    values = np.atleast_1d(said["flag_values"])
    meanings = str(said["flag_meanings"]).split()
    colours = str(said.get("flag_colors", "")).split()
    if values.dtype.kind not in "iuf" or len(values) != len(meanings):
        return {}
    if len(colours) != len(values):
        colours = [_PALETTE[k % len(_PALETTE)] for k in range(len(values))]
    return {float(v): (c, m.replace("_", " "))
            for v, c, m in zip(values, colours, meanings, strict=True)}  # fmt: skip


def _grid(name: str, storage: Storage, arrays: Mapping[str, Variable], variable: Variable) -> Grid:
    axes = [_axis(arrays, variable, variable.dimensions[k], storage) for k in (-2, -1)]
    shape = variable.shape[-2], variable.shape[-1]
    return grid_from_axes(name, shape, axes[0], axes[1], _mapping(arrays, variable))


def _axis(
    arrays: Mapping[str, Variable], variable: Variable, dimension: str, storage: Storage
) -> tuple[NDArray[np.float64], dict[str, Any]] | None:
    found = companion_name(arrays, variable, dimension)
    if found is None or found.shape != (variable.shape[variable.dimensions.index(dimension)],):
        return None
    values = storage.read(found.name, (slice(None),)).astype(np.float64)
    scale, offset = _packing(found.attributes)
    return values * scale + offset, found.attributes


def _mapping(arrays: Mapping[str, Variable], variable: Variable) -> dict[str, Any]:
    name = str(variable.attributes.get("grid_mapping", "")).split(":")[0].split()
    found = companion_name(arrays, variable, name[0]) if name else None
    return {} if found is None else {k: _attribute_value(v) for k, v in found.attributes.items()}


def opened(
    file: ByteFile, storage: Storage, member: int | str | None, kind: str,
    make: Callable[..., ArraySourceOnDisk] = ArraySourceOnDisk,
) -> Source:  # fmt: skip
    """Open one raster array of a storage."""
    storage = Arranged(storage)
    arrays = storage.arrays()
    variables = rasters(arrays)
    if not variables:
        raise FormatError(f"{file.name}: holds no array of two dimensions or more of numbers")
    chosen = find_member(variable_members(arrays), member, file.name)
    source = make(file, storage, variables[chosen.number - 1])
    source.format, source.members = kind, len(variables)
    words = source.metadata.get(WORDS)
    return (
        apply_sidecar(source, parse_sidecar(words, f"{file.name}, attribute {WORDS}"))
        if isinstance(words, str)
        else source
    )


def warn(name: str, problem: str) -> None:
    """Warn of something in a file that should be looked at."""
    warn_caller(f"{name}: {problem}")
