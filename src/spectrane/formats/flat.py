"""Pixels that lie in a file as plain numbers at regular distances: read by window, as stored."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.damage import REMEDY, Damaged
from spectrane.engine.full import FullSource
from spectrane.engine.inflating import GREATEST_RATIO
from spectrane.kernels.records import record
from spectrane.model.band import check_band_count, numbered
from spectrane.model.errors import FormatError
from spectrane.model.grid import Grid
from spectrane.model.pixels import Pixels
from spectrane.model.window import Window, extent

_AT_A_TIME = 4 << 20
"""Numbers per block when everything is walked."""
_RUN = 8 << 20
"""Bytes fetched at a time from a file that is not mapped."""

ByteOrder = Literal["little", "big"]
ORDERS: tuple[ByteOrder, ...] = get_args(ByteOrder)
"""Byte orders."""
Interleave = Literal["bsq", "bil", "bip"]
INTERLEAVES: tuple[Interleave, ...] = get_args(Interleave)
"""How bands lie among one another: band by band, row by row, pixel by pixel."""


@record(frozen=True)
class FlatLayout:
    """Where each number lies: ``offset`` plus steps (bytes) along band, row and column.

    ``dtype`` has the file's byte order. ``flip``: the top bit is turned over, which is how
    formats without unsigned (or signed) types keep them.
    """

    bands: int
    rows: int
    columns: int
    dtype: np.dtype[Any]
    offset: int
    steps: tuple[int, int, int]
    flip: bool = False

    @property
    def native(self) -> np.dtype[Any]:
        """The type of the numbers handed out."""
        plain = self.dtype.newbyteorder("=")
        if not self.flip:
            return plain
        return np.dtype(f"{'i' if plain.kind == 'u' else 'u'}{plain.itemsize}")

    @property
    def end(self) -> int:
        """The first byte after the last number."""
        counts = (self.bands, self.rows, self.columns)
        reach = sum((n - 1) * s for n, s in zip(counts, self.steps, strict=True))
        return self.offset + reach + self.dtype.itemsize

    def check(self, file: ByteFile) -> None:
        """Raise FormatError where a file is too short for it."""
        check_band_count(file.name, self.bands)
        if min(self.bands, self.rows, self.columns) < 1:
            raise FormatError(f"{file.name}: claims {self.rows} rows x {self.columns} columns")
        least = self.end // GREATEST_RATIO if file.keeps_damaged else self.end
        if least > file.size:
            raise FormatError(
                f"{file.name}: {self.rows} rows x {self.columns} columns x {self.bands} bands of "
                f"{self.dtype.name} end at byte {self.end}; the file has {file.size} bytes and "
                f"may be cut short{REMEDY}"
            )


def interleaved(
    interleave: str, bands: int, rows: int, columns: int, itemsize: int
) -> tuple[int, int, int]:
    """Return the steps of band (bsq), line (bil) or pixel (bip) interleaved numbers.

    >>> interleaved("bil", 3, 10, 20, 2)
    (40, 120, 2)
    """
    if interleave == "bsq":
        return rows * columns * itemsize, columns * itemsize, itemsize
    if interleave == "bil":
        return columns * itemsize, bands * columns * itemsize, itemsize
    return itemsize, columns * bands * itemsize, bands * itemsize


class FlatSource(FullSource):
    """Regular numbers in a file: mapped into memory where it is local, else fetched by rows."""

    of_file = True

    def __init__(self, file: ByteFile, layout: FlatLayout) -> None:
        layout.check(file)
        self.file, self.layout = file, layout
        self.name = file.name
        self.bands = numbered(layout.bands)
        self.dtype = layout.native
        self.grid = Grid((layout.rows, layout.columns))
        self.damaged = Damaged(file.name, layout.rows * layout.bands, "rows")
        per_row = layout.columns * layout.bands
        self.block_shape = (max(1, min(layout.rows, _AT_A_TIME // per_row)), layout.columns)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer one window; of a file elsewhere only its rows are fetched."""
        rules = [self.bands[band].rule for band in bands]
        if self.layout.end > self.file.size:
            return self._what_is_there(bands, window)
        return Pixels(self._numbers(bands, window), rules=rules, when=self.nodata_when)

    def _what_is_there(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer of a file that is cut short: rows that are not whole in it are invalid."""
        values = np.zeros((len(bands), *extent(window)), self.layout.native)
        mask = np.zeros(values.shape, bool)
        (top, bottom), columns = window
        for index, band in enumerate(bands):
            there = self._whole_rows(band)
            last = min(bottom, max(top, there))
            if last > top:
                part = ((top, last), columns)
                values[index, : last - top] = self._numbers([band], part)[0]
                mask[index, : last - top] = True
        rows = self.layout.rows
        missing = sum(rows - self._whole_rows(band) for band in range(self.layout.bands))
        self.damaged.lack(missing, f"ends at byte {self.file.size} of {self.layout.end}")
        self.damaged.tell()
        rules = [self.bands[band].rule for band in bands]
        return Pixels(values, mask=mask, rules=rules, when=self.nodata_when)

    def _whole_rows(self, band: int) -> int:
        """Return how many rows of a band lie in the file."""
        layout = self.layout
        by_band, by_row, by_column = layout.steps
        first = layout.offset + band * by_band + (layout.columns - 1) * by_column
        room = self.file.size - first - layout.dtype.itemsize
        return 0 if room < 0 else min(layout.rows, room // by_row + 1)

    def _numbers(self, bands: Sequence[int], window: Window) -> NDArray[Any]:
        layout = self.layout
        out = np.empty((len(bands), *extent(window)), layout.native)
        stored = out.view(layout.dtype.newbyteorder("=")) if layout.flip else out
        memory = self.file.mapped()
        if memory is None:
            self._fetch(bands, window, stored)
        else:
            for index, band in enumerate(bands):
                start = self._place(band, window[0][0], window[1][0])
                stored[index] = self._view(memory, start, extent(window))
        if layout.flip:
            size = layout.dtype.itemsize
            bits = out.view(f"u{size}")
            bits ^= bits.dtype.type(1 << (8 * size - 1))
        return out

    def _fetch(self, bands: Sequence[int], window: Window, out: NDArray[Any]) -> None:
        """Read a window by runs of a few megabytes, bands that lie between one another together."""
        by_band, by_row, by_column = self.layout.steps
        down = by_row >= by_column  # else columns are what lies together
        slow, fast = (by_row, by_column) if down else (by_column, by_row)
        (first, last), (start, end) = window if down else window[::-1]
        together = len(bands) > 1 and by_band < slow
        for group in [list(bands)] if together else [[band] for band in bands]:
            low, wide = min(group), (max(group) - min(group)) * by_band + self.layout.dtype.itemsize
            count = max(1, (_RUN - (end - start - 1) * fast - wide) // slow + 1)
            for at in range(first, last, count):
                until = min(last, at + count)
                part = ((at, until), (start, end)) if down else ((start, end), (at, until))
                begin = self._place(low, part[0][0], part[1][0])
                length = (until - at - 1) * slow + (end - start - 1) * fast + wide
                run = memoryview(self.file.read(begin, length))
                rows, columns = (slice(a - whole[0], b - whole[0])
                                 for (a, b), whole in zip(part, window, strict=True))  # fmt: skip
                for number, band in enumerate(bands):
                    if band in group:
                        view = self._view(run, (band - low) * by_band, extent(part))
                        out[number, rows, columns] = view

    def _place(self, band: int, row: int, column: int) -> int:
        by_band, by_row, by_column = self.layout.steps
        return self.layout.offset + band * by_band + row * by_row + column * by_column

    def _view(self, memory: memoryview, start: int, shape: tuple[int, ...]) -> NDArray[Any]:
        return np.ndarray(shape, self.layout.dtype, memory, start, self.layout.steps[1:])

    def close(self) -> None:
        """Let go of the file."""
        self.file.close()
