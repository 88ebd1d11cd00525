"""A TIFF image as a lazy source."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine import cache
from spectrane.engine.files import ByteFile
from spectrane.engine.pyramid import read_resized
from spectrane.engine.threads import in_parallel
from spectrane.formats.tiff.layout import Layout
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, answer_size, check_answer
from spectrane.model.window import (
    Window,
    block_window,
    blocks_touching,
    extent,
    intersection,
    relative,
)

_BATCH = 16 << 20
"""Compressed bytes fetched at a time."""
_STRIP = 4 << 20
"""Numbers per step when a large window is walked."""


class Plane:
    """The samples of one image (main, overview or mask), read by window."""

    def __init__(self, layout: Layout, fill: int | float) -> None:
        self.layout = layout
        self.shape = (layout.rows, layout.columns)
        self.fill = fill
        self.key = (layout.directory.head.file.key, layout.directory.offset)

    def read(self, samples: Sequence[int], window: Window) -> NDArray[Any]:
        """Return (samples, rows, columns), stored numbers in native byte order."""
        layout = self.layout
        out = np.empty((len(samples), *extent(window)), layout.dtype.newbyteorder("="))
        jobs = self._jobs(list(samples), window)
        # A bulk read would push everything else out of the cache, and pay a copy for it.
        keep = len(jobs) * layout.block_bytes <= cache.blocks.limit // 4
        jobs = [job for job in jobs if not self._from_cache(job, window, out)]
        for batch in self._batches(jobs):
            self._decode(batch, window, out, keep)
        return out

    def _jobs(self, samples: list[int], window: Window) -> list[_Job]:
        positions = blocks_touching(window, self.layout.block)
        if not self.layout.separate:
            return [_Job(p, 0, samples, list(range(len(samples)))) for p in positions]
        # A separate plane holds one sample; the same one may be wanted twice.
        wanted = {s: [k for k, other in enumerate(samples) if other == s] for s in samples}
        return [_Job(p, s, [0] * len(where), where) for s, where in wanted.items()
                for p in positions]  # fmt: skip

    def _from_cache(self, job: _Job, window: Window, out: NDArray[Any]) -> bool:
        block = cache.blocks.get((self.key, *job.key))
        if block is None:
            return False
        inside, target = self._places(job, window)
        for k, index in enumerate(job.where):
            out[(index, *target)] = block[(k, *inside)]
        return True

    def _places(self, job: _Job, window: Window) -> tuple[tuple[slice, slice], tuple[slice, slice]]:
        """Return which part of a block is wanted, and where it goes in the answer."""
        block = block_window(job.position, self.layout.block, self.shape)
        seen = intersection(block, window)
        assert seen is not None
        (r, c), (u, v) = relative(seen, block), relative(seen, window)
        return (r, c), (u, v)

    def _batches(self, jobs: list[_Job]) -> Iterator[list[tuple[_Job, int, memoryview | None]]]:
        file = self.layout.directory.head.file
        batch: list[tuple[_Job, tuple[int, int] | None]] = []
        held = 0
        for number, job in enumerate(jobs, 1):
            place = self.layout.block_range(job.position, job.plane)
            batch.append((job, place))
            held += place[1] if place else 0
            if held >= _BATCH or number == len(jobs):
                found = iter(file.read_ranges([p for _, p in batch if p is not None]))
                yield [(j, p[0] if p else 0, next(found) if p else None) for j, p in batch]
                batch, held = [], 0

    def _decode(
        self, batch: list[tuple[_Job, int, memoryview | None]], window: Window, out: NDArray[Any],
        keep: bool,
    ) -> None:  # fmt: skip
        # Here, not above: whoever only looks at metadata need not load the codecs.
        from spectrane.formats.tiff.decoding import BlockDecoder

        def worker() -> Any:
            decoders: dict[tuple[int, ...], BlockDecoder] = {}

            def decode(item: tuple[_Job, int, memoryview | None]) -> None:
                job, offset, data = item
                decoder = decoders.get(tuple(job.samples))
                if decoder is None:
                    decoder = BlockDecoder(self.layout, job.samples, out.size)
                    decoders[tuple(job.samples)] = decoder
                self._place(decoder, job, offset, data, window, out, keep)

            return decode

        in_parallel(batch, worker)

    def _place(
        self, decoder: Any, job: _Job, offset: int, data: memoryview | None, window: Window,
        out: NDArray[Any], keep: bool,
    ) -> None:  # fmt: skip
        inside, target = self._places(job, window)
        planes = [out[(index, *target)] for index in job.where]
        if data is None:
            for plane in planes:
                plane[...] = self.fill
        elif not keep:
            decoder.decode(data, offset, inside, planes)
        else:
            shape = extent(block_window(job.position, self.layout.block, self.shape))
            block = np.empty((len(job.samples), *shape), out.dtype)
            decoder.decode(data, offset, (slice(0, shape[0]), slice(0, shape[1])), list(block))
            for plane, values in zip(planes, block, strict=True):
                plane[...] = values[inside]
            cache.blocks.put((self.key, *job.key), block)


class _Job:
    """One block to decode: where it is, which of its samples, and where they go."""

    __slots__ = ("plane", "position", "samples", "where")

    def __init__(
        self, position: tuple[int, ...], plane: int, samples: list[int], where: list[int]
    ) -> None:
        self.position, self.plane, self.samples, self.where = position, plane, samples, where

    @property
    def key(self) -> tuple[Any, ...]:
        return (self.position, self.plane, tuple(self.samples))


class Resolution:
    """One resolution of the image: its samples with the mask that belongs to them."""

    def __init__(
        self, source: TiffSource, samples: Plane, mask: Plane | None, full: tuple[int, ...]
    ) -> None:
        self.source, self.samples, self.mask = source, samples, mask
        self.shape = samples.shape
        self.scale = tuple(_step(n, m) for n, m in zip(full, self.shape, strict=True))

    def read(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer one window of this resolution, as stored."""
        source = self.source
        wanted = [source.band_samples[band] for band in bands]
        if source.alpha_sample is not None:
            wanted.append(source.alpha_sample)
        values = self.samples.read(wanted, window)
        mask = None if self.mask is None else self.mask.read([0], window) > 0
        return Pixels(
            values[: len(bands)],
            mask=mask,
            rules=[source.bands[band].rule for band in bands],
            alpha=None if source.alpha_sample is None else values[-1],
            when=source.nodata_when,
        )

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk rows of blocks, several at a time, each block decoded once."""
        block = self.samples.layout.block
        columns = max(1, min(_STRIP // (block[0] * len(bands)), window[1][1] - window[1][0]))
        across = max(1, columns // block[1]) * block[1]
        down = max(1, _STRIP // (block[0] * across * len(bands))) * block[0]
        for position in blocks_touching(window, (down, across)):
            part = intersection(block_window(position, (down, across), self.shape), window)
            assert part is not None
            yield part, self.read(bands, part)


def _step(full: int, reduced: int) -> float:
    """Return the reduction along an axis: whole where the sizes allow, for the last pixel of an
    overview may reach over the edge.
    """
    whole = round(full / reduced)
    return float(whole) if -(-full // whole) == reduced else full / reduced


class TiffSource(Source):
    """One image of a TIFF file: full resolution, overviews, mask and alpha."""

    format = "TIFF"
    band_samples: list[int]
    alpha_sample: int | None = None

    def __init__(self, file: ByteFile) -> None:
        self.file = file
        self.name = file.name
        self.levels: list[Resolution] = []
        self.member = 1

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer one window: only the blocks it touches are fetched and decoded."""
        window = self.checked(window)
        self.check_bands(bands)
        wanted = answer_size(window, size)
        check_answer(len(bands), wanted, self.dtype)
        if wanted == extent(window):
            return self.levels[0].read(bands, window)
        return read_resized(self.levels, bands, window, wanted, resample)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the blocks of the full resolution, each decoded once."""
        return self.levels[0].blocks(bands, self.checked(window))

    def close(self) -> None:
        """Let go of the file."""
        self.file.close()

    def __reduce__(self) -> tuple[Any, ...]:
        from spectrane.formats.tiff.reader import open_file

        return open_file, (self.file, self.member)
