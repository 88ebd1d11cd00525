"""The lazy thing that everything is: a source of pixels."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import ArgumentError, BandError, GridMismatch, LookError, ResourceError
from spectrane.model.printing import short_name
from spectrane.model.settings import settings
from spectrane.model.window import Window, extent, intersection, whole

if TYPE_CHECKING:
    from spectrane.model.band import Band
    from spectrane.model.display_window import DisplayWindow
    from spectrane.model.geolocation import Geolocation
    from spectrane.model.grid import Grid
    from spectrane.model.look import Look
    from spectrane.model.pixels import Pixels


class Source(ABC):
    """Pixels that have not been read yet: a file, or something made from other sources.

    A subclass sets ``bands``, ``grid`` and ``dtype`` and answers ``read`` and ``blocks``. The
    spatial axes are those of ``grid.shape``: rows and columns, or i, j and k. Inside the library
    bands are indices from 0; people count them from 1.
    """

    bands: tuple[Band, ...]
    grid: Grid
    dtype: np.dtype[Any]
    block_shape: tuple[int, ...]
    overviews: tuple[tuple[int, ...], ...] = ()
    nodata_when: str = "any"
    has_mask: bool = False
    alpha: str | None = None  # None | "straight" | "premultiplied"
    look: Look | None = None
    format: str = "memory"
    name: str = ""
    told_as: str = ""  # what it is called in what is handed on, where its name may say who it is of
    metadata: Mapping[str, Any] = {}
    state: tuple[Any, ...] | None = None  # what tells this state of this file from any other
    axes: tuple[str, ...] = ()  # what the file says of axes that are no map's, in words
    members: int = 1  # how many rasters the file holds
    windows: tuple[DisplayWindow, ...] = ()  # the file's own, the first of which is its default
    identity: tuple[str, ...] = ()  # which elements of the metadata say who somebody is
    geolocation: Geolocation | None = None  # where each pixel of a swath lies
    coded: bool = False  # whether the file says that numbers are names: a palette, labels, flags
    orientation: int = 1  # as TIFF 6.0 numbers the ways a first row and column may lie
    outlined: bool = False  # whether what its labels hold are outlines, drawn as lines
    between: np.dtype[Any] | None = None  # the whole numbers that floats here were found between

    @property
    def shape(self) -> tuple[int, ...]:
        """The spatial axes' lengths."""
        return self.grid.shape

    @property
    def stored_type(self) -> np.dtype[Any]:
        """The type that stored numbers are handed out in: that of what they were found between."""
        return self.dtype if self.between is None else self.between

    @property
    def categories(self) -> bool:
        """Whether the numbers are drawn as classes."""
        return self.look is not None and bool(self.look.classes)

    @property
    def mixable(self) -> bool:
        """Whether a number between two others means something; of names of classes none does."""
        return not (self.coded or self.categories)

    @abstractmethod
    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer one window (inside the raster) at a wanted size, from the cheapest right data.

        ``size`` None means the window's own. Overviews serve ``area`` when shrinking, never
        ``nearest`` or ``majority``.
        """

    @abstractmethod
    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the natural blocks that a window touches, each once and cut to the window."""

    def close(self) -> None:  # noqa: B027 - most sources hold no file
        """Let go of files; reading again opens them again."""

    def checked(self, window: Window | None) -> Window:
        """Return a window (None: all), or raise GridMismatch where it reaches outside."""
        if window is None:
            return whole(self.shape)
        inside = intersection(window, whole(self.shape))
        if inside != tuple(window):
            raise GridMismatch(
                f"{format_window(window)}: the raster has {format_window(whole(self.shape))}"
            )
        return window

    def in_memory(self, band: int) -> NDArray[Any] | None:
        """Return a volume's frame as (k, j, i) without copying it, all of it valid (or NaN).

        None where it does not lie in memory so, or where other numbers are invalid.
        """
        return None

    def check_bands(self, bands: Sequence[int]) -> None:
        """Raise BandError for an index that is not there."""
        wrong = [index for index in bands if not 0 <= index < len(self.bands)]
        if wrong:
            raise BandError(f"no band {wrong[0] + 1}; the raster has {len(self.bands)}")


def called(source: Source, otherwise: str = "an array in memory") -> str:
    """Return what a source is called in pictures, tables and files that are handed on.

    Its file's short name; of what may say who somebody is (DICOM) what kind of picture it is.
    """
    if source.told_as and settings.identity == "withheld":
        return source.told_as
    return short_name(source.name, otherwise)


def source_of(given: Any) -> Source:
    """Return a source, or the one that a public object such as a raster wraps.

    Raises ArgumentError for anything else.
    """
    source = getattr(given, "_source", given)
    if isinstance(source, Source):
        return source
    ways = {
        np.ndarray: "an array becomes one by spectrane.from_array(array, grid=…)",
        str: "a file becomes one by spectrane.open(path)",
        list: "give them one by one, or use a call that takes several",
    }
    hint = next((way for kind, way in ways.items() if isinstance(given, kind)), "")
    raise ArgumentError(
        f"expected a raster or a volume, not {type(given).__name__}" + (f"; {hint}" if hint else "")
    )


def flat_source_of(given: Any) -> Source:
    """Return the source of a raster; GridMismatch, with what to do, of a volume."""
    source = source_of(given)
    if len(source.shape) != 2:
        name = source.name or "an array in memory"
        raise GridMismatch(f"{name}: is a volume; take a slice of it (volume.slice), or draw it "
                           "with slice_picture or three_planes")  # fmt: skip
    return source


def deep_source_of(given: Any) -> Source:
    """Return the source of a volume; GridMismatch of a raster."""
    source = source_of(given)
    if len(source.shape) != 3:
        raise GridMismatch(f"{source.name or 'an array in memory'}: is no volume")
    return source


def format_window(window: Window) -> str:
    """Say a window as people do.

    >>> format_window(((0, 10), (5, 9)))
    'rows 0 to 10, columns 5 to 9'
    """
    axes = ("rows", "columns") if len(window) == 2 else ("i", "j", "k")
    return ", ".join(
        f"{a} {start} to {stop}" for a, (start, stop) in zip(axes, window, strict=True)
    )


MOST_BYTES = 8 << 30
"""A single answer larger than this is refused rather than tried."""


def check_answer(bands: int, size: Sequence[int], dtype: np.dtype[Any]) -> None:
    """Raise ResourceError when an answer would not reasonably fit in memory."""
    wanted = bands * int(np.prod([int(n) for n in size], dtype=object)) * dtype.itemsize
    if wanted > MOST_BYTES:
        raise ResourceError(
            f"{bands} bands of {' x '.join(map(str, size))} {dtype} would take "
            f"{wanted / 2**30:.1f} GB; ask for a window, fewer bands or a smaller size"
        )


def answer_size(window: Window, size: tuple[int, ...] | None) -> tuple[int, ...]:
    """Return the size a read answers with, checked to be positive."""
    return extent(window) if size is None else sizes(size, len(window))


def sizes(given: Any, axes: int = 2) -> tuple[int, ...]:
    """Return a size as plain numbers, one per axis. Raises LookError for anything else.

    >>> sizes(np.array([3, 4]))
    (3, 4)
    """
    try:
        lengths = tuple(int(n) for n in given)
    except (TypeError, ValueError):
        lengths = ()
    if len(lengths) != axes or min(lengths) < 1:
        said = "(rows, columns)" if axes == 2 else f"{axes} numbers"
        raise LookError(f"size {given!r}: expected {said}, positive whole numbers")
    return lengths
