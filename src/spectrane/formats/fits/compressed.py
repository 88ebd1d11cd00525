"""Tile-compressed FITS images in binary tables (FITS 4.0, section 10)."""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator, Sequence
from functools import cache
from typing import Any

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from spectrane.engine import cache as blocks_cache
from spectrane.engine.byte_file import ByteFile
from spectrane.engine.damage import REMEDY, Damaged
from spectrane.engine.full import FullSource
from spectrane.engine.inflating import inflated
from spectrane.engine.pyramid import cut_blocks
from spectrane.engine.threads import in_parallel
from spectrane.formats.fits.hcompress import unpacked
from spectrane.formats.fits.header import Unit
from spectrane.model.errors import FormatError
from spectrane.model.grid import Grid
from spectrane.model.pixels import Pixels
from spectrane.model.window import (
    Window,
    block_seen,
    blocks_touching,
    extent,
    relative,
)

_TYPES = {8: "u1", 16: "i2", 32: "i4", 64: "i8", -32: "f4", -64: "f8"}
_KNOWN = ("RICE_1", "RICE_ONE", "GZIP_1", "GZIP_2", "HCOMPRESS_1", "NOCOMPRESS")
_NULL = -(2**31) + 1  # what stands for NaN among quantised floats unless ZBLANK says otherwise
_ZERO = -(2**31) + 2  # exact zero under SUBTRACTIVE_DITHER_2
_LARGEST_TILE = 1 << 30


class CompressedSource(FullSource):
    """An image kept as rows of a binary table, one compressed tile per row."""

    of_file = True

    def __init__(self, file: ByteFile, unit: Unit) -> None:
        self.file, self.unit, self.name = file, unit, file.name
        self.method = str(unit.cards.get("ZCMPTYPE", "")).strip()
        if self.method not in _KNOWN:
            raise unit.fail(
                "ZCMPTYPE", f"{self.method or 'missing'}: not supported; supported are RICE_1, "
                "GZIP_1, GZIP_2 and HCOMPRESS_1")  # fmt: skip
        lengths = [unit.integer(f"ZNAXIS{n}") for n in range(unit.integer("ZNAXIS"), 0, -1)]
        first = unit.integer("ZNAXIS1")
        tile = [unit.integer(f"ZTILE{n}", first if n == 1 else 1)
                for n in range(len(lengths), 0, -1)]  # fmt: skip
        if min(tile) < 1 or any(t != 1 for t in tile[:-3]):
            raise unit.fail("ZTILE", f"is {tile[::-1]}, which is not supported")
        self.full = (int(np.prod(lengths[:-2], dtype=object)), lengths[-2], lengths[-1])
        self.tile = (tile[-3] if len(tile) > 2 else 1, tile[-2], tile[-1])
        if len(lengths) > 3 and self.tile[0] != 1:
            raise unit.fail("ZTILE", "tiles across the third axis of four are not supported")
        if int(np.prod(self.tile, dtype=object)) * 8 > _LARGEST_TILE:
            raise unit.fail("ZTILE", f"claims tiles of {self.tile} pixels")
        self.bits = unit.integer("ZBITPIX")
        self.dtype = np.dtype(_TYPES[self.bits])
        zero = unit.number_of("BZERO", 0.0)
        plain = unit.number_of("BSCALE", 1.0) == 1.0 and self.bits > 0
        self.flip = plain and zero == (-128 if self.bits == 8 else 2.0 ** (self.bits - 1))
        if self.flip:
            self.dtype = np.dtype(f"{'i' if self.bits == 8 else 'u'}{self.dtype.itemsize}")
        self.grid = Grid(self.full[1:])
        self.block_shape = (min(self.tile[1], self.full[1]), min(self.tile[2], self.full[2]))
        self.columns = _columns(unit)
        tiles = int(np.prod([-(-n // t) for n, t in zip(self.full, self.tile, strict=True)]))
        self.damaged = Damaged(file.name, tiles, "tiles") if file.keeps_damaged else None
        if unit.data + unit.length > file.size and self.damaged is None:
            raise FormatError(
                f"{file.name}: the compressed image ends at byte {unit.data + unit.length}; the "
                f"file has {file.size} and may be cut short"
            )

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer one window: only the tiles it touches are fetched and decoded."""
        out = np.empty((len(bands), *extent(window)), self.dtype)
        mask = np.ones(out.shape, bool) if self.damaged is not None else None
        for index, band in enumerate(bands):
            one = slice(index, index + 1)
            self._fill(((band, band + 1), *window), out[one], None if mask is None else mask[one])
        if self.damaged is not None:
            self.damaged.tell()
        return Pixels(out, mask=mask, rules=[self.bands[band].rule for band in bands])

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk runs of whole tiles."""
        rows = self.block_shape[0]
        down = max(1, (1 << 20) // (rows * self.full[2])) * rows
        return cut_blocks(self, bands, self.checked(window), (down, self.full[2]))

    def _fill(self, window: Window, out: NDArray[Any], mask: NDArray[np.bool_] | None) -> None:
        counts = [-(-n // t) for n, t in zip(self.full, self.tile, strict=True)]
        touched = blocks_touching(window, self.tile)

        def fill(which: int) -> None:
            position = touched[which]
            row = (position[0] * counts[1] + position[1]) * counts[2] + position[2]
            place, seen = block_seen(position, self.tile, self.full, window)
            if self.damaged is None:
                values: NDArray[Any] | None = self._tile(row, extent(place))
            else:
                values = self.damaged.attempt(row, self._tile, row, extent(place))
            if values is not None:
                out[relative(seen, window)] = values[relative(seen, place)]
            elif mask is not None:
                out[relative(seen, window)] = 0
                mask[relative(seen, window)] = False

        in_parallel(range(len(touched)), lambda: fill)

    def _tile(self, row: int, shape: tuple[int, ...]) -> NDArray[Any]:
        key = (self.file.key, self.unit.start, row)
        held = blocks_cache.blocks.get(key)
        if held is None:
            try:
                held = self._decoded(row, shape)
            except (RuntimeError, ValueError, zlib.error) as error:
                if str(error).startswith(self.name):
                    raise
                raise FormatError(
                    f"{self.name}: unit {self.unit.number}, compressed tile {row + 1}: {error}; "
                    f"the file is damaged there{REMEDY}"
                ) from error
            blocks_cache.blocks.put(key, held)
        return held

    def _cell(self, row: int, name: str) -> bytes | None:
        """Return the bytes that a row's variable-length column points to; None where empty."""
        if name not in self.columns:
            return None
        place, code, item = self.columns[name]
        width = 16 if code == "Q" else 8
        start = self.unit.data + row * self.unit.integer("NAXIS1") + place
        count, offset = np.frombuffer(self.file.read(start, width), f">i{width // 2}").tolist()
        heap = self.unit.integer("THEAP", self.unit.integer("NAXIS1") * self.unit.integer("NAXIS2"))
        where = self.unit.data + heap + offset
        if count <= 0:
            return None
        if offset < 0 or where + count * item > self.unit.data + self.unit.length:
            raise FormatError(f"{self.name}: compressed tile {row + 1} points outside its heap")
        return self.file.read(where, count * item)

    def _number(self, row: int, name: str, default: float | None) -> float | None:
        """Return a number that is a column of the table, or one keyword for all tiles."""
        if name in self.columns:
            place, code, item = self.columns[name]
            start = self.unit.data + row * self.unit.integer("NAXIS1") + place
            kind = {"E": ">f4", "D": ">f8", "J": ">i4", "K": ">i8", "I": ">i2"}[code]
            return float(np.frombuffer(self.file.read(start, item), kind)[0])
        value = self.unit.cards.get(name, default)
        return None if value is None else float(value)

    def _decoded(self, row: int, shape: tuple[int, ...]) -> NDArray[Any]:
        count = int(np.prod(shape))
        plain = np.dtype(_TYPES[self.bits])
        packed = self._cell(row, "COMPRESSED_DATA")
        if packed is not None:
            scale = self._number(row, "ZSCALE", None)
            quantised = self.bits < 0 and scale is not None
            values = self._numbers(packed, count, quantised, plain)
            if quantised:
                values = self._floats(values, row, scale or 1.0, plain)
        else:
            values = self._unquantised(row, count, plain)
        values = values[:count].astype(plain).reshape(shape)
        if self.flip:
            bits = values.view(f"u{plain.itemsize}")
            values = (bits ^ bits.dtype.type(1 << (8 * plain.itemsize - 1))).view(self.dtype)
        return values

    def _unquantised(self, row: int, count: int, plain: np.dtype[Any]) -> NDArray[Any]:
        """Return a tile that was kept without loss: gzipped, or not compressed at all."""
        data = self._cell(row, "GZIP_COMPRESSED_DATA")
        if data is not None:
            return _big_endian(inflated(data, count * plain.itemsize, 47), plain, count)
        data = self._cell(row, "UNCOMPRESSED_DATA")
        if data is None:
            raise FormatError(f"{self.name}: compressed tile {row + 1} has no data")
        return _big_endian(data, plain, count)

    def _numbers(
        self, packed: bytes, count: int, quantised: bool, plain: np.dtype[Any]
    ) -> NDArray[Any]:
        stored = np.dtype(np.int32) if quantised else plain
        if self.method.startswith("RICE"):
            size = self._parameter("BYTEPIX", min(stored.itemsize, 4))
            if size not in (1, 2, 4) or (self.bits < 0 and not quantised):
                raise self.unit.fail("ZVAL", f"RICE_1 with {size} bytes a pixel is not defined")
            number = np.dtype("u1" if size == 1 else f"i{size}")
            block = self._parameter("BLOCKSIZE", 32)
            numbers = imagecodecs.rcomp_decode(packed, shape=(count,), dtype=number, nblock=block)
            return np.asarray(numbers).reshape(-1)
        if self.method == "HCOMPRESS_1":
            return unpacked(packed, count)
        if self.method == "NOCOMPRESS":
            return _big_endian(packed, stored, count)
        raw = inflated(packed, count * max(stored.itemsize, 4), 47)
        if len(raw) < count * stored.itemsize:
            # Integers may be kept narrower than the image's own type.
            stored = np.dtype(f"i{len(raw) // count}") if len(raw) // count in (1, 2, 4) else stored
        if self.method == "GZIP_2":
            planes = np.frombuffer(raw, np.uint8)[: count * stored.itemsize]
            raw = np.ascontiguousarray(planes.reshape(stored.itemsize, count).T).tobytes()
        return _big_endian(raw, stored, count)

    def _parameter(self, name: str, default: int) -> int:
        for n in range(1, 10):
            if str(self.unit.cards.get(f"ZNAME{n}", "")).strip() == name:
                return self.unit.integer(f"ZVAL{n}")
        return default

    def _floats(
        self, numbers: NDArray[Any], row: int, scale: float, plain: np.dtype[Any]
    ) -> NDArray[Any]:
        """Undo quantisation: scale * number + zero, with the dither taken out again."""
        zero = self._number(row, "ZZERO", 0.0) or 0.0
        blank = self._number(row, "ZBLANK", float(_NULL))
        method = str(self.unit.cards.get("ZQUANTIZ", "NO_DITHER")).strip()
        values = numbers.astype(np.float64)
        if method.startswith("SUBTRACTIVE_DITHER"):
            seed = self.unit.integer("ZDITHER0", 1)
            values = (values - dither(row, seed, len(numbers)) + 0.5) * scale + zero
            if method.endswith("2"):
                values[numbers == _ZERO] = 0.0
        else:
            values = values * scale + zero
        values[numbers == blank] = np.nan
        return values.astype(plain)

    def close(self) -> None:
        """Let go of the file."""
        self.file.close()


def _columns(unit: Unit) -> dict[str, tuple[int, str, int]]:
    """Return each column's place in a row, its type letter, and the bytes of one value."""
    sizes = {"L": 1, "B": 1, "A": 1, "I": 2, "J": 4, "E": 4, "K": 8, "D": 8, "P": 8, "Q": 16}
    columns: dict[str, tuple[int, str, int]] = {}
    place = 0
    for n in range(1, unit.integer("TFIELDS") + 1):
        form = re.fullmatch(
            r"\s*(\d*)([A-Z])([A-Z]?)(\(\d+\))?\s*", str(unit.cards.get(f"TFORM{n}"))
        )
        if form is None or form[2] not in sizes:
            raise unit.fail(f"TFORM{n}", f"is {unit.cards.get(f'TFORM{n}')!r}, which is not known")
        repeat = int(form[1] or 1)
        item = sizes.get(form[3], 1) if form[2] in "PQ" else sizes[form[2]]
        columns[str(unit.cards.get(f"TTYPE{n}", "")).strip().upper()] = (place, form[2], item)
        place += repeat * sizes[form[2]]
    return columns


def _big_endian(raw: bytes, dtype: np.dtype[Any], count: int) -> NDArray[Any]:
    if len(raw) < count * dtype.itemsize:
        raise FormatError(f"holds {len(raw)} of {count * dtype.itemsize} bytes")
    return np.frombuffer(raw, dtype.newbyteorder(">"), count).astype(dtype)


@cache
def _random_numbers() -> NDArray[np.float64]:
    """Return the 10 000 random numbers of appendix I: Park and Miller's minimal generator."""
    seed, numbers = 1, np.empty(10000)
    for k in range(10000):
        seed = seed * 16807 % 2147483647
        numbers[k] = seed / 2147483647
    if seed != 1043618065:
        raise AssertionError("the generator of FITS 4.0, appendix I, must end with 1043618065")
    return numbers


def dither(row: int, seed: int, count: int) -> NDArray[np.float64]:
    """Return the dither of a tile (``row`` from 0), one number per pixel (section 10.2)."""
    numbers = _random_numbers()
    start = (row + seed - 1) % 10000
    parts: list[NDArray[np.float64]] = []
    held = 0
    while held < count:
        offset = int(numbers[start] * 500)
        parts.append(numbers[offset:])
        held += 10000 - offset
        start = (start + 1) % 10000
    return np.concatenate(parts)[:count]
