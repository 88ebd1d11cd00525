"""Reduced copies beside files that have no overviews: ``NAME.spectrane-reduced.tif``.

It holds the image at half its size with overviews of its own, and says of which state of the file
and under which rule of no-data it was made; of another it is left aside, and told.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.engine.pyramid import Level, Whole
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.tiff.reducing import MeanLevel, first_halves, majority_of_four
from spectrane.kernels.records import record
from spectrane.model.pixels import Pixels
from spectrane.model.regular_files import beside
from spectrane.model.said import GIVEN
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, extent

ENDING = ".spectrane-reduced.tif"
_KEY = "reduced-of"
READ_AS = "read as"
"""What the part of a source's state begins with that says how its file is read."""


def reduced_name(name: str) -> str:
    """Return where a file's reduced copy lies.

    >>> reduced_name("scenes/a.fits")
    'scenes/a.fits.spectrane-reduced.tif'
    """
    return beside(name, ENDING)


class Halved(Derived, FullSource):
    """A source at half its size, as stored numbers: means of what is valid, or the commonest."""

    def __init__(self, parent: Source) -> None:
        shape = tuple(-(-n // 2) for n in parent.shape)
        said = {**parent.metadata, GIVEN: {_KEY: _mark(parent)}}
        super().__init__(parent, grid=parent.grid.resized(shape), has_mask=True, metadata=said,
                         block_shape=tuple(min(512, n) for n in shape))  # fmt: skip

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from twice the window: each 2 x 2 becomes one, at odd edges what is there."""
        full = tuple((2 * a, min(2 * b, n))
                     for (a, b), n in zip(window, self.parent.shape, strict=True))  # fmt: skip
        pixels = self.parent.read(bands, full)
        if not self.mixable:
            values, valid = majority_of_four(pixels.values, pixels.validity)
            return Pixels(values, mask=valid)
        sums, weights = first_halves(pixels.values, pixels.validity, pixels.alpha)
        made = MeanLevel(_sides(full), _sides(window), 2)
        means, enough = made.stored(sums, weights, self.dtype)
        count = len(bands)
        alpha = None if pixels.alpha is None else means[count]
        return Pixels(means[:count], mask=None if enough is None else enough[:count], alpha=alpha)


def _sides(window: Window) -> tuple[int, int]:
    rows, columns = extent(window)
    return rows, columns


def _mark(source: Source) -> str:
    """Return what tells the state of a file, how it is read, and its rule of no-data from others.

    Nothing of where it lies: a folder may be moved.
    """
    known, read_as = [str(part) for part in _numbers(source.state or ())], _ways(source.state or ())
    rules = [repr(band.nodata) for band in source.bands]
    names = [] if source.mixable else ["names"]
    parts = [" ".join(known), ", ".join(rules), source.nodata_when, *read_as, *names]
    return "; ".join(parts)


def _numbers(state: tuple[Any, ...]) -> Iterator[int]:
    for part in state:
        if isinstance(part, tuple):
            yield from _numbers(part)
        elif isinstance(part, int):
            yield part


def _ways(state: tuple[Any, ...]) -> Iterator[str]:
    if state and state[0] == READ_AS:
        yield from (f"{name} {value}" for name, value in state[1:])
    else:
        for part in state:
            yield from _ways(part) if isinstance(part, tuple) else ()


def write_reduced(source: Source, name: str, progress: Progress = no_progress) -> str:
    """Write a file's reduced copy beside it; a run that was killed goes on. Return its path."""
    from spectrane.formats.tiff.writer import write_tiff

    path = reduced_name(name)
    write_tiff(Halved(source), path, overwrite=True, resume=True, progress=progress)
    return path


@record(frozen=True)
class _Reduced:
    """A resolution of the reduced copy, as one of the whole file's."""

    level: Level
    scale: tuple[float, ...]

    @property
    def shape(self) -> tuple[int, ...]:
        """Pixels along each axis."""
        return self.level.shape

    def read(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer one window of this level."""
        return self.level.read(bands, window)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk this level."""
        return self.level.blocks(bands, window)


class WithReduced(Derived, FullSource):
    """A source whose smaller sizes come from the copy beside it."""

    def __init__(self, parent: Source, reduced: FullSource) -> None:
        self._reduced = reduced
        shapes = tuple(tuple(level.shape) for level in reduced.resolutions())
        super().__init__(parent, overviews=shapes, state=parent.state)

    def resolutions(self) -> Sequence[Level]:
        """Return the whole, and those of the copy."""
        made: list[Level] = [Whole.of(self)]
        for level in self._reduced.resolutions():
            scale = tuple(n / m for n, m in zip(self.shape, level.shape, strict=True))
            made.append(_Reduced(level, scale))
        return made

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the file itself."""
        return self.parent.read(bands, window)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the file's own blocks."""
        return self.parent.blocks(bands, window)

    def close(self) -> None:
        """Let go of both files."""
        super().close()
        self._reduced.close()


def with_reduced(source: Source) -> Source:
    """Return a source with the reduced copy that lies beside its file, if it fits it."""
    path = reduced_name(source.name)
    from spectrane.engine.files import open_bytes
    from spectrane.formats.tiff.reader import open_tiff

    reduced = open_tiff(open_bytes(path))
    fits = reduced.metadata.get(GIVEN, {}).get(_KEY) == _mark(source)
    if not fits or len(reduced.bands) != len(source.bands):
        reduced.close()
        warn_caller(f"{path}: was made of another state of the file and is left aside; "
                    f"spectrane amend {source.name} --overviews makes it anew")  # fmt: skip
        return source
    return WithReduced(source, reduced)
