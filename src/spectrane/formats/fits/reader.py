"""Opening FITS images: members, bands, physical values, axes on the sky."""

from __future__ import annotations

import itertools
import json
import math
from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from spectrane.engine.byte_file import ByteFile
from spectrane.formats.fits.header import WORDS, Unit, read_units
from spectrane.formats.flat import FlatLayout, FlatSource, interleaved
from spectrane.model.band import MOST_BANDS, Band, scaling_said
from spectrane.model.errors import FormatError, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.member import Member, find_member
from spectrane.model.source import Source

if TYPE_CHECKING:
    from spectrane.formats.table import Probe

TYPES = {8: "u1", 16: ">i2", 32: ">i4", 64: ">i8", -32: ">f4", -64: ">f8"}


class FitsReader:
    """FITS 4.0: images in the primary unit, in IMAGE extensions, and tile-compressed ones."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether the first card is SIMPLE."""
        return probe.head.startswith(b"SIMPLE  =")

    def members(self, file: ByteFile) -> list[Member]:
        """List the images."""
        return [member for member, _ in images(file)]

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open one image: by its number among the images, from 1, or its EXTNAME."""
        return open_fits(file, member)


def images(file: ByteFile) -> list[tuple[Member, Unit]]:
    """Return the images of a file with the units that hold them."""
    return list(_walked(file))


def _walked(file: ByteFile) -> Iterator[tuple[Member, Unit]]:
    count = 0
    for unit in read_units(file):
        shape = image_shape(unit)
        if shape is None:
            continue
        bits = unit.integer("ZBITPIX" if is_compressed(unit) else "BITPIX")
        bands, rows, columns = shape
        dtype = _unsigned(unit, bits) or np.dtype(TYPES[bits]).newbyteorder("=").name
        count += 1
        yield Member(count, unit.name, rows, columns, bands, dtype), unit


def is_compressed(unit: Unit) -> bool:
    """Tell whether a unit is a binary table that holds an image in compressed tiles."""
    return unit.cards.get("XTENSION") == "BINTABLE" and unit.cards.get("ZIMAGE") is True


def image_shape(unit: Unit) -> tuple[int, int, int] | None:
    """Return (bands, rows, columns), or None for a unit that holds no image of two axes or more."""
    if is_compressed(unit):
        lengths = tuple(unit.integer(f"ZNAXIS{n}") for n in range(unit.integer("ZNAXIS"), 0, -1))
        if unit.integer("ZBITPIX") not in TYPES:
            raise unit.fail("ZBITPIX", f"is {unit.integer('ZBITPIX')}; expected 8, 16, 32, 64, -32")
    elif unit.cards.get("XTENSION", "IMAGE") == "IMAGE":
        lengths = unit.shape
    else:
        return None
    if len(lengths) < 2 or min(lengths) < 1:
        return None
    bands = math.prod(lengths[:-2])
    if bands > MOST_BANDS:
        raise unit.fail("NAXIS", f"{bands} planes; at most {MOST_BANDS} bands are read")
    return bands, lengths[-2], lengths[-1]


def open_fits(file: ByteFile, member: int | str | None = None) -> Source:
    """Open one image of a FITS file. Raises FormatError on what is broken or unsupported."""
    # Of a file elsewhere only the headers up to the first image are asked for.
    first = itertools.islice(_walked(file), 1) if member is None and "://" in file.name else None
    found = images(file) if first is None else list(first)
    if not found:
        raise FormatError(f"{file.name}: holds no image of two axes or more")
    chosen = find_member([one for one, _ in found], member, file.name)
    unit = found[chosen.number - 1][1]
    primary = found[0][1] if found[0][1].number == 1 else next(read_units(file))
    source: Source = _source(file, unit)
    source.format = "FITS"
    source.members = len(found)
    bits = unit.integer("ZBITPIX" if is_compressed(unit) else "BITPIX")
    source.bands = _bands(unit, chosen, bits, source.dtype)
    rows, columns = source.grid.shape
    source.grid = Grid((rows, columns), y_up=True)
    source.axes = tuple(_axes(unit))
    inherited = primary.cards if unit.cards.get("INHERIT") is True else {}
    source.metadata = {**inherited, **unit.cards, "compression": _compression(unit)}
    words = unit.cards.get(WORDS)
    return source if words is None else _described(source, str(words))


def _described(source: Source, words: str) -> Source:
    """Lay over a source what a card says that FITS has no field for."""
    from spectrane.formats.sidecar_schema import apply_sidecar, parse_sidecar

    where = f"{source.name}, card {WORDS}"
    try:
        text = json.loads(words)
    except ValueError as error:
        raise MetadataError(f"{where}: is not JSON: {error}") from error
    return apply_sidecar(source, parse_sidecar(str(text), where))


def _compression(unit: Unit) -> str:
    return str(unit.cards.get("ZCMPTYPE", "GZIP_1")) if is_compressed(unit) else "none"


def _source(file: ByteFile, unit: Unit) -> Any:
    if is_compressed(unit):
        from spectrane.formats.fits.compressed import CompressedSource

        return CompressedSource(file, unit)
    shape = image_shape(unit)
    assert shape is not None
    bits = unit.integer("BITPIX")
    dtype = np.dtype(TYPES[bits])
    steps = interleaved("bsq", *shape, dtype.itemsize)
    flip = _unsigned(unit, bits) is not None
    return FlatSource(file, FlatLayout(*shape, dtype, unit.data, steps, flip))


def _unsigned(unit: Unit, bits: int) -> str | None:
    """Return the type that BZERO turns an integer into by convention (section 5.2.5)."""
    if unit.number_of("BSCALE", 1.0) != 1.0 or bits < 0:
        return None
    zero = unit.number_of("BZERO", 0.0)
    if bits == 8:
        return "int8" if zero == -128 else None
    return f"uint{bits}" if zero == 2.0 ** (bits - 1) else None


def _bands(unit: Unit, member: Member, bits: int, dtype: np.dtype[Any]) -> tuple[Band, ...]:
    scale, offset = unit.number_of("BSCALE", 1.0), unit.number_of("BZERO", 0.0)
    blank: int | None = None
    key = "ZBLANK" if is_compressed(unit) and "BLANK" not in unit.cards else "BLANK"
    if bits > 0 and isinstance(unit.cards.get(key), int):
        blank = int(unit.cards[key])
    if _unsigned(unit, bits) is not None:
        blank = None if blank is None else blank + int(offset)
        scale, offset = 1.0, 0.0
    text = unit.cards.get("BUNIT")
    unit_name = str(text).strip() or None if text is not None else None
    scale, offset = scaling_said(unit.file.name, scale, offset)
    one = Band(unit.name or "band 1", unit=unit_name, scale=scale, offset=offset, nodata=blank)
    names = [unit.cards.get(f"BAND{k}") for k in range(1, member.bands + 1)]
    if member.bands == 1:
        return (replace(one, name=str(names[0])),) if names[0] else (one,)
    depths = _plane_names(unit, member.bands)
    return tuple(
        replace(one, name=str(name or depth)) for name, depth in zip(names, depths, strict=True)
    )


def _plane_names(unit: Unit, count: int) -> list[str]:
    """Name planes by the third axis where it is linear and alone, else by number."""
    kind, axis_unit = unit.cards.get("CTYPE3"), unit.cards.get("CUNIT3", "")
    kind = str(kind or "").strip()
    axes = unit.integer("ZNAXIS" if is_compressed(unit) else "NAXIS", 0)
    step = _axis_step(unit, 3, 3)
    value = unit.cards.get("CRVAL3")
    if step is None or value is None or axes != 3:
        return [f"band {k}" for k in range(1, count + 1)]
    pixel = unit.number_of("CRPIX3", 1.0)
    return [
        f"{kind} {float(value) + (k - pixel) * float(step):.6g} {axis_unit}".strip()
        for k in range(1, count + 1)
    ]


def _axes(unit: Unit) -> list[str]:
    """Say the world axes in words: kind, reference value and pixel, step (FITS 4.0, section 8)."""
    lines = []
    count = unit.integer("ZNAXIS" if is_compressed(unit) else "NAXIS", 0) or 2
    for n in range(1, min(count, 4) + 1):
        own = {f"{key}{n}" for key in ("CTYPE", "CRVAL", "CDELT")}
        own |= {f"CD{n}_{m}" for m in range(1, 10)}
        if own.isdisjoint(unit.cards):
            continue
        kind = str(unit.cards.get(f"CTYPE{n}") or "").strip()
        name = _AXIS_NAMES.get(kind[:4].rstrip("-"), kind) if kind else "linear"
        said = f"{name} ({kind})" if kind else name  # without a kind an axis is linear (8.2)
        units = str(unit.cards.get(f"CUNIT{n}", "deg" if kind[:4] in _SKY else "")).strip()
        value, pixel = unit.number_of(f"CRVAL{n}", 0.0), unit.number_of(f"CRPIX{n}", 0.0)
        step = _axis_step(unit, n, count)
        text = f"axis {n}: {said}, {value:.8g} {units} at pixel {pixel:g}".replace("  ", " ")
        if step is not None:
            seconds = f" = {step * 3600:.4g} arcsec" if units == "deg" else ""
            text += f", step {step:.6g} {units}{seconds}"
        lines.append(text)
    return lines


_SKY = ("RA--", "DEC-", "GLON", "GLAT", "ELON", "ELAT")
_AXIS_NAMES = {
    "RA": "right ascension", "DEC": "declination", "GLON": "galactic longitude",
    "GLAT": "galactic latitude", "ELON": "ecliptic longitude", "ELAT": "ecliptic latitude",
    "FREQ": "frequency", "WAVE": "wavelength", "VELO": "velocity", "STOK": "Stokes parameter",
}  # fmt: skip


def _axis_step(unit: Unit, n: int, count: int) -> float | None:
    """Return how far the world coordinates move from a pixel to the next along axis n.

    That is column n of the CD matrix, or of PC times CDELT (section 8.1); of an axis that turns
    with no other its sign counts too.
    """
    axes = range(1, count + 1)
    if any(f"CD{k}_{m}" in unit.cards for k in axes for m in axes):
        column = [unit.number_of(f"CD{k}_{n}", 0.0) for k in axes]
    elif any(f"CDELT{k}" in unit.cards for k in axes):
        column = [unit.number_of(f"PC{k}_{n}", float(k == n)) * unit.number_of(f"CDELT{k}", 1.0)
                  for k in axes]  # fmt: skip
    else:
        return None
    others = [value for k, value in enumerate(column, 1) if k != n and value]
    return (math.hypot(*column) if others else column[n - 1]) or None
