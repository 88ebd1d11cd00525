"""Writing TIFF: tiled, compressed, with overviews, from a source of any size."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from spectrane.engine import cache
from spectrane.engine.resuming import Journal, fingerprint, resumable
from spectrane.engine.running import in_order
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.tiff.plan import Image, Plan, make_plan
from spectrane.formats.tiff.reducing import MeanLevel, halved, majority_of_four
from spectrane.formats.tiff.strips import (
    Strip,
    StripMaker,
    Tiles,
    image_tiles,
    mask_tiles,
)
from spectrane.formats.validity import (
    TIFF,
    MasksDifferError,
    fill_of,
    filled,
    keeping,
)
from spectrane.model.errors import FormatError
from spectrane.model.source import Source
from spectrane.model.whole_files import written_whole

_BLOCK_BYTES = 96 << 20
"""Decoded blocks of the inputs that are held while writing."""
_STRIP_BYTES = 24 << 20
"""A row of 512-tiles larger than this is written in 256-tiles instead."""


def write_tiff(
    source: Source,
    target: str | os.PathLike[str],
    *,
    compress: str = "deflate",
    overviews: bool | None = None,
    tile: int | None = None,
    planes: str = "chunky",
    overwrite: bool = False,
    resume: bool = False,
    engine: str | None = None,
    progress: Progress = no_progress,
) -> None:
    """Write a source as a tiled TIFF with overviews, in bounded memory.

    ``compress`` is ``deflate``, ``zstd``, ``lzw`` or ``none``; the predictor follows the type.
    ``tile`` is 256 or 512 (None: by size); ``planes`` is ``chunky`` or ``planar`` (separate
    planes). ``overviews`` None makes them where the image is larger than a tile. BigTIFF is
    written where 4 GB may not do. Invalid pixels get the bands' no-data value, NaN in float data
    without one, and a mask image otherwise; where bands have different masks, which one mask image
    cannot say, a number that no valid pixel has. ``progress`` counts rows of tiles.

    ``engine`` says who makes them: ``threads`` (None), or a cluster's address; the bytes are the
    same. With ``resume`` a job that was killed leaves its partial file, and the same call goes on
    from the rows that are finished.

    Raises ExistingFile, AccessError, and FormatError for what TIFF cannot hold; whatever
    happens, the target is the old file or the whole new one.
    """
    size = tile or _tile_size(source)
    if size not in (256, 512):
        raise FormatError(f"tile {tile}: expected 256 or 512")
    if planes not in ("chunky", "planar"):
        raise FormatError(f"planes {planes!r}: expected chunky or planar")

    def write(differ: bool) -> None:
        kept = keeping(source, TIFF, masks_differ=differ)
        plan = make_plan(kept, tile=size, compress=compress, separate=planes == "planar",
                         overviews=overviews is not False)  # fmt: skip
        if not resume:
            with written_whole(target, overwrite=overwrite) as file:
                _Writing(kept, plan, file, engine).run(progress)
            return
        job = fingerprint(kept, plan.head, compress, size, planes)
        with resumable(target, job, overwrite=overwrite) as (file, journal):
            _Writing(kept, plan, file, engine, journal).run(progress)

    try:
        write(False)
    except MasksDifferError:  # seldom: nothing but the whole could have told
        write(True)


def _tile_size(source: Source) -> int:
    samples = len(source.bands) + (source.alpha is not None)
    strip = 512 * source.shape[1] * samples * source.dtype.itemsize
    return 512 if max(source.shape) > 4096 and strip <= _STRIP_BYTES else 256


class _Writing:
    """One file being written: tiles go out as rows of them are complete."""

    def __init__(
        self,
        source: Source,
        plan: Plan,
        file: BinaryIO,
        engine: str | None,
        journal: Journal | None = None,
    ) -> None:
        self.source, self.plan, self.file = source, plan, file
        floating = source.dtype.kind == "f"
        own = [fill_of(band, source.dtype) for band in source.bands]
        self.fills = [np.nan if one is None and floating else one for one in own]
        self.engine, self.journal = engine, journal
        self.tile = plan.images[0].tile
        self.levels = [
            MeanLevel(plan.images[0].shape, image.shape, 2**number)
            for number, image in enumerate(plan.images)
        ]
        self.waiting = [_Waiting(level, self.tile) for level in self.levels]
        self.written: list[tuple[int, int, int, int]] = []
        self.silent = False  # rows that are in the file already are only handed down

    def run(self, progress: Progress) -> None:
        """Write everything: front, tiles of all levels as they come, then the tables."""
        mask = self.plan.masks[0] if self.plan.masks else None
        maker = StripMaker(self.source, self.plan.images[0].bare(), mask and mask.bare(),
                           len(self.plan.images) > 1)  # fmt: skip
        down = self.plan.images[0].down
        first = self._go_on(maker, progress, down)
        if not first:
            self.file.write(self.plan.head)
        rows = range(first, down)
        # Blocks serve two rows of tiles at most: more of them would only be held.
        with (
            cache.blocks.narrowed(_BLOCK_BYTES),
            contextlib.closing(_closable(in_order(maker, rows, self.engine))) as strips,
        ):
            for row, strip in zip(rows, strips, strict=True):
                self._take_strip(row, strip)
                self._note(row)
                progress(row + 1, down)
        for place, table in self.plan.tables():
            self.file.seek(place)
            self.file.write(table)

    def _go_on(self, maker: StripMaker, progress: Progress, down: int) -> int:
        """Take up the rows that an earlier run finished; return how many there are."""
        if self.journal is None or not self.journal.records:
            return 0
        images = self.plan.images + self.plan.masks
        for record in self.journal.records:
            for image, index, offset, count in record["tiles"]:
                images[image].offsets[index], images[image].counts[index] = offset, count
        maker = StripMaker(self.source, self.plan.images[0],
                           self.plan.masks[0] if self.plan.masks else None,
                           maker.overviews)  # fmt: skip
        self.silent = True
        for row in range(len(self.journal.records)):
            self._take_strip(row, maker.again(row, self.file))
            progress(row + 1, down)
        self.silent = False
        self.file.seek(self.journal.records[-1]["end"])
        return len(self.journal.records)

    def _note(self, row: int) -> None:
        """Note a finished row, once its bytes are in the file."""
        if self.journal is not None:
            self.file.flush()
            self.journal.add({"row": row, "end": self.file.tell(), "tiles": self.written})
        self.written = []

    def _take_strip(self, row: int, strip: Strip) -> None:
        self._put(0, strip.tiles)
        self._put(len(self.plan.images), strip.mask)
        if strip.halves is None:
            return
        if not self.source.mixable and self.source.alpha is None:
            self._down_majority(1, *strip.halves)
        else:
            self._hand_down(1, *strip.halves)

    def _hand_down(self, level: int, sums: Any, weights: Any) -> None:
        """Give rows of sums to an overview; when a row of tiles is complete, write it."""
        for number, part, kept in self.waiting[level].add(sums, weights):
            values, enough = self.levels[level].stored(part, kept, self.plan.images[level].dtype)
            self._write_level(level, number, values, enough)
            if level + 1 < len(self.plan.images):
                self._hand_down(level + 1, halved(part), None if kept is None else halved(kept))

    def _down_majority(self, level: int, values: Any, valid: Any) -> None:
        for number, part, kept in self.waiting[level].add(values, valid):
            enough = None if kept is None else kept > 0
            self._write_level(level, number, part, enough)
            if level + 1 < len(self.plan.images):
                self._down_majority(level + 1, *majority_of_four(part, enough))

    def _write_level(
        self, level: int, row: int, values: NDArray[Any], enough: NDArray[np.bool_] | None
    ) -> None:
        if self.silent:
            return
        bands = len(self.source.bands)
        valid = np.ones((1, 1, 1), bool) if enough is None else enough[:bands]
        values[:bands] = filled(values[:bands], valid, self.fills)
        self._put(level, image_tiles(self.plan.images[level], row, values))
        if self.plan.masks:
            mask = self.plan.masks[level]
            tiles = mask_tiles(mask, row, valid, values.shape[1:])
            self._put(len(self.plan.images) + level, tiles)

    def _put(self, number: int, tiles: Tiles) -> None:
        """Write tiles of an image (masks are counted after the images), and note where they are."""
        images: list[Image] = self.plan.images + self.plan.masks
        for index, data in tiles:
            place = self.file.tell()
            images[number].offsets[index], images[number].counts[index] = place, len(data)
            self.written.append((number, index, place, len(data)))
            self.file.write(data)


class OverviewWriting(_Writing):
    """The overviews and their masks alone, of an image that a file holds already."""

    def run(self, progress: Progress = no_progress) -> None:
        """Write the tiles of all levels but the first, as they come."""
        maker = StripMaker(self.source, self.plan.images[0].bare(), None, True, encoding=False)
        rows = range(self.plan.images[0].down)
        with (
            cache.blocks.narrowed(_BLOCK_BYTES),
            contextlib.closing(_closable(in_order(maker, rows, None))) as strips,
        ):
            for row, strip in zip(rows, strips, strict=True):
                if len(self.plan.images) > 1:
                    self._take_strip(row, strip)
                progress(row + 1, len(rows))


def _closable(strips: Iterator[Strip]) -> Any:
    """Return a generator over strips, which stops the work behind it when it is closed."""
    yield from strips


class _Waiting:
    """Rows of a level that do not fill a row of tiles yet, in a buffer that is used again.

    Every level above hands down half a row of tiles at a time, so nothing reaches over the end.
    """

    def __init__(self, level: MeanLevel, tile: int) -> None:
        self.level, self.tile = level, tile
        self.values: Any = None
        self.weights: Any = None
        self.held = 0
        self.taken = 0

    def add(self, values: Any, weights: Any) -> Iterator[tuple[int, Any, Any]]:
        """Take rows; give back a complete row of tiles: its number, values and weights."""
        if self.values is None:
            self.values = np.empty((len(values), self.tile, values.shape[2]), values.dtype)
        rows = slice(self.held, self.held + values.shape[1])
        self.values[:, rows] = values
        if weights is not None and self.weights is None:
            self.weights = np.empty(self.values.shape, np.float32)
            self.weights[:, : self.held] = self.level.covered(self.taken, self.held)
        if self.weights is not None:
            # No weights: everything is valid, and weighs what it covers.
            full = self.level.covered(self.taken + self.held, values.shape[1])
            self.weights[:, rows] = full if weights is None else weights
        self.held = rows.stop
        if self.held < min(self.tile, self.level.shape[0] - self.taken):
            return
        number, count = self.taken // self.tile, self.held
        kept = None if self.weights is None else self.weights[:, :count]
        self.taken, self.held, self.weights = self.taken + count, 0, None
        yield number, self.values[:, :count], kept
