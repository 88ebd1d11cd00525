"""A TIFF image as a lazy source."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.engine import cache
from spectrane.engine.byte_file import ByteFile, Range
from spectrane.engine.damage import Damaged
from spectrane.engine.full import FullSource
from spectrane.engine.threads import in_parallel, made_ahead
from spectrane.formats.tiff.layout import TiffLayout
from spectrane.kernels.prediction import undo_differences
from spectrane.model.pixels import Pixels
from spectrane.model.window import (
    Window,
    block_seen,
    block_window,
    blocks_touching,
    extent,
    relative,
)

_STRIP = 4 << 20
"""Numbers per step when a large window is walked."""


class TiffPlane:
    """The samples of one image (main, overview or mask), read by window."""

    def __init__(self, layout: TiffLayout, fill: int | float) -> None:
        self.layout = layout
        self.shape = (layout.rows, layout.columns)
        self.fill = fill
        file = layout.directory.head.file
        self.key = (file.key, layout.directory.offset)
        # Where damage is an error nothing is noted.
        self.damaged = Damaged(file.name, layout.stored_blocks) if file.keeps_damaged else None

    def read(
        self, samples: Sequence[int], window: Window, out: NDArray[Any] | None = None, *,
        keep: bool = True,
    ) -> NDArray[Any]:  # fmt: skip
        """Return (samples, rows, columns), stored numbers in native byte order, or fill ``out``.

        With ``keep``, decoded blocks go to the cache; not those of a bulk read, which would push
        everything else out of it, and pay a copy for that.
        """
        layout, unique = self.layout, list(dict.fromkeys(samples))
        if len(unique) < len(samples):  # the same sample may be wanted twice
            found = self.read(unique, window, keep=keep)[[unique.index(s) for s in samples]]
            if out is None:
                return found
            out[...] = found
            return out
        if out is None:
            out = np.empty((len(samples), *extent(window)), layout.dtype.newbyteorder("="))
        jobs = self._jobs(unique, window)
        keep = keep and self.cacheable(window, len(unique))
        jobs = [job for job in jobs if not self._from_cache(job, window, out)]
        if jobs:
            undo = undo_differences.choose(out.size if layout.predictor == 2 else 0)
            chunks = self._chunks(jobs, window, out)
            in_parallel(chunks, lambda: self._decoder(window, out, keep, undo))
        return out

    def lost(self, samples: Sequence[int], window: Window) -> NDArray[np.bool_] | None:
        """Return where (samples, rows, columns) blocks were found damaged; None: nowhere."""
        if self.damaged is None or not self.damaged.blocks:
            return None
        missing = np.zeros((len(samples), *extent(window)), bool)
        for job in self._jobs(list(dict.fromkeys(samples)), window):
            if job.block in self.damaged.blocks:
                which = [k for k, sample in enumerate(samples)
                         if not self.layout.separate or sample == job.plane]  # fmt: skip
                missing[(which, *self._places(job, window)[1])] = True
        return missing

    def cacheable(self, window: Window, samples: int) -> bool:
        """Tell whether the decoded blocks that a window touches may go to the cache."""
        block = self.layout.block
        numbers = len(blocks_touching(window, block)) * math.prod(block) * samples
        return cache.blocks.takes(numbers * self.layout.dtype.itemsize)

    def _jobs(self, samples: list[int], window: Window) -> list[_Job]:
        positions = blocks_touching(window, self.layout.block)
        if not self.layout.separate:
            return [_Job(p, 0, samples, slice(0, len(samples))) for p in positions]
        # A block of a separate plane holds one sample.
        return [_Job(p, sample, [0], slice(k, k + 1))
                for k, sample in enumerate(samples) for p in positions]  # fmt: skip

    def _from_cache(self, job: _Job, window: Window, out: NDArray[Any]) -> bool:
        block = cache.blocks.get((self.key, *job.key))
        if block is None:
            return False
        inside, target = self._places(job, window)
        out[(job.where, *target)] = block[(slice(None), *inside)]
        return True

    def _places(self, job: _Job, window: Window) -> tuple[tuple[slice, slice], tuple[slice, slice]]:
        """Return which part of a block is wanted, and where it goes in the answer."""
        block, seen = block_seen(job.position, self.layout.block, self.shape, window)
        (r, c), (u, v) = relative(seen, block), relative(seen, window)
        return (r, c), (u, v)

    def _chunks(self, jobs: list[_Job], window: Window, out: NDArray[Any]) -> list[list[_Fetch]]:
        """Cut jobs into runs that are each fetched and decoded by one thread."""
        placed = []
        for job in jobs:
            if self.damaged is None or self.damaged.attempt(job.block, self._inside, job):
                placed.append((job, self.layout.block_range(job.position, job.plane)))
            else:
                out[(job.where, *self._places(job, window)[1])] = self.fill
        most = self.layout.directory.head.file.fetch_size
        chunks: list[list[_Fetch]] = [[]]
        held = 0
        for job, place in placed:
            if held >= most:
                chunks.append([])
                held = 0
            chunks[-1].append((job, place))
            held += place[1] if place else 0
        return chunks

    def _inside(self, job: _Job) -> bool:
        """Tell that a block's bytes lie in the file; FormatError where they do not."""
        place = self.layout.block_range(job.position, job.plane)
        if place is not None:
            self.layout.directory.head.file.check_range(*place)
        return True

    def _decoder(
        self, window: Window, out: NDArray[Any], keep: bool, undo: Callable[..., Any]
    ) -> Callable[[list[_Fetch]], None]:
        """Return one thread's way to fetch and decode a run, with buffers of its own."""
        # Here, not above: whoever only looks at metadata need not load the codecs.
        from spectrane.formats.tiff.decoding import BlockDecoder

        decoders: dict[tuple[int, ...], BlockDecoder] = {}
        file = self.layout.directory.head.file

        def decode(chunk: list[_Fetch]) -> None:
            contents = iter(file.read_ranges([place for _, place in chunk if place]))
            for job, place in chunk:
                samples = tuple(job.samples)
                if samples not in decoders:
                    decoders[samples] = BlockDecoder(self.layout, job.samples, undo)
                data = next(contents) if place else None
                offset = place[0] if place else 0
                one = (decoders[samples], job, offset, data, window, out, keep)
                if self.damaged is None:
                    self._place(*one)
                    continue
                if self.damaged.attempt(job.block, self._place, *one) is None:
                    out[(job.where, *self._places(job, window)[1])] = self.fill

        return decode

    def _place(
        self, decoder: Any, job: _Job, offset: int, data: memoryview | None, window: Window,
        out: NDArray[Any], keep: bool,
    ) -> bool:  # fmt: skip
        inside, target = self._places(job, window)
        planes = out[(job.where, *target)]
        if data is None:
            planes[...] = self.fill
        elif not keep:
            decoder.decode(data, offset, inside, planes)
        else:
            shape = extent(block_window(job.position, self.layout.block, self.shape))
            block = np.empty((len(job.samples), *shape), out.dtype)
            decoder.decode(data, offset, (slice(0, shape[0]), slice(0, shape[1])), block)
            planes[...] = block[(slice(None), *inside)]
            cache.blocks.put((self.key, *job.key), block)
        return True


class _Job:
    """One block to decode: where it is, which of its samples, and where they go."""

    __slots__ = ("plane", "position", "samples", "where")

    def __init__(
        self, position: tuple[int, ...], plane: int, samples: list[int], where: slice
    ) -> None:
        self.position, self.plane, self.samples, self.where = position, plane, samples, where

    @property
    def block(self) -> tuple[Any, ...]:
        """Which block of the file it is."""
        return (self.position, self.plane)

    @property
    def key(self) -> tuple[Any, ...]:
        return (*self.block, tuple(self.samples))


_Fetch: TypeAlias = tuple[_Job, Range | None]
"""A block, and where its bytes are (None: the file leaves it out)."""


class Resolution:
    """One resolution of the image: its samples with the mask that belongs to them."""

    def __init__(
        self, source: TiffSource, samples: TiffPlane, mask: TiffPlane | None, full: tuple[int, ...]
    ) -> None:
        self.source, self.samples, self.mask = source, samples, mask
        self.shape = samples.shape
        self.scale = tuple(_step(n, m) for n, m in zip(full, self.shape, strict=True))

    def read(self, bands: Sequence[int], window: Window, *, keep: bool = True) -> Pixels:
        """Answer one window of this resolution, as stored; what is damaged is told."""
        pixels = self._read(bands, window, keep)
        self._tell()
        return pixels

    def _tell(self) -> None:
        for plane in (self.samples, self.mask):
            if plane is not None and plane.damaged is not None:
                plane.damaged.tell()

    def _read(self, bands: Sequence[int], window: Window, keep: bool) -> Pixels:
        source = self.source
        wanted = [source.band_samples[band] for band in bands]
        if source.alpha_sample is not None:
            wanted.append(source.alpha_sample)
        values = self.samples.read(wanted, window, keep=keep)
        mask = None if self.mask is None else self.mask.read([0], window, keep=keep) > 0
        lost = self.samples.lost(wanted, window)
        gone = None if self.mask is None else self.mask.lost([0], window)
        if lost is not None:
            here = ~(lost[: len(bands)] | lost[len(bands) :].any(axis=0))
            mask = here if mask is None else mask & here
        if mask is not None and gone is not None:
            mask = mask & ~gone
        return Pixels(
            values[: len(bands)],
            mask=mask,
            rules=[source.bands[band].rule for band in bands],
            alpha=None if source.alpha_sample is None else values[-1],
            when=source.nodata_when,
        )

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk rows of blocks, several at a time, each block decoded once, the next ones ahead."""
        block = self.samples.layout.block
        columns = max(1, min(_STRIP // (block[0] * len(bands)), window[1][1] - window[1][0]))
        across = max(1, columns // block[1]) * block[1]
        down = max(1, _STRIP // (block[0] * across * len(bands))) * block[0]
        keep = self.samples.cacheable(window, len(bands))

        def one(position: tuple[int, ...]) -> tuple[Window, Pixels]:
            _, part = block_seen(position, (down, across), self.shape, window)
            return part, self._read(bands, part, keep)

        for found in made_ahead(blocks_touching(window, (down, across)), one):
            self._tell()
            yield found


def _step(full: int, reduced: int) -> float:
    """Return the reduction along an axis: whole where the sizes allow, for the last pixel of an
    overview may reach over the edge.
    """
    whole = round(full / reduced)
    return float(whole) if -(-full // whole) == reduced else full / reduced


class TiffSource(FullSource):
    """One image of a TIFF file: full resolution, overviews, mask and alpha."""

    of_file = True

    format = "TIFF"
    band_samples: list[int]
    alpha_sample: int | None = None
    notes: str = ""
    given: dict[str, Any]
    stale_overviews: bool = False

    def __init__(self, file: ByteFile, opened_by: Callable[[ByteFile, int], TiffSource]) -> None:
        self.file, self.opened_by = file, opened_by  # another process opens it alike
        self.name = file.name
        self.levels: list[Resolution] = []
        self.member = 1

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer one window: only the blocks it touches are fetched and decoded."""
        return self.levels[0].read(bands, window)

    def resolutions(self) -> Sequence[Resolution]:
        """Return the main image and its overviews."""
        return self.levels

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the blocks of the full resolution, each decoded once."""
        return self.reading_blocks(self.levels[0].blocks(bands, self.checked(window)))

    def close(self) -> None:
        """Let go of the file."""
        self.file.close()

    def __reduce__(self) -> tuple[Any, ...]:
        return self.opened_by, (self.file, self.member)
