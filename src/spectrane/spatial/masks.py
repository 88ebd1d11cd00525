"""Masks: which pixels are chosen, by what they hold; combined, grown, and put to use.

A mask is a source of one boolean band on a raster's grid, as lazy as any other. A pixel that is
invalid is chosen by no test of its value.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import PLACE, Derived
from spectrane.engine.full import FullSource
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.errors import BandError, GridMismatch, LookError
from spectrane.model.physical import physical
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, extent, intersection, relative, whole, window_area
from spectrane.spatial.regridded import regrid

Chosen = NDArray[np.bool_]
_MASK = (Band("mask", description="1 where a pixel is chosen"),)
_FURTHEST = 1024
"""Pixels by which a mask may be grown at once: the margin that every window is read with."""


class MaskSource(Derived, FullSource):
    """One boolean band on the grid of another source."""

    def __init__(self, *parents: Source) -> None:
        super().__init__(*parents, keep=PLACE, bands=_MASK, dtype=np.dtype(bool))

    def chosen(self, window: Window) -> Chosen:
        """Return which pixels of a window are chosen."""
        raise NotImplementedError

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer the mask."""
        return Pixels(self.chosen(window)[np.newaxis])


@record(frozen=True)
class Test:
    """What a band's pixel must be: one of ``values``, within ``low``...``high``, or by bits.

    Values are physical; bits ``first`` to ``last`` (from 0, the lowest) of the stored number, as a
    number of their own, are one of ``wanted``.
    """

    values: tuple[float, ...] | None = None
    low: float | None = None
    high: float | None = None
    first: int | None = None
    last: int = 0
    wanted: tuple[int, ...] = ()
    other: bool = False  # chosen where the bits are none of ``wanted``

    def of(self, stored: NDArray[Any], band: Band) -> Chosen:
        """Return where a plane of stored numbers passes."""
        if self.first is not None:
            if stored.dtype.kind not in "iu":
                raise LookError(f"bits: {band.name} holds {stored.dtype}, which has no bits to ask")
            unsigned = stored.view(f"u{stored.dtype.itemsize}")
            width = self.last - self.first + 1
            part = (unsigned >> unsigned.dtype.type(self.first)) & unsigned.dtype.type(
                (1 << width) - 1)  # fmt: skip
            chosen = np.isin(part, np.array(self.wanted, unsigned.dtype))
            return ~chosen if self.other else chosen
        plain = stored if not band.scaled else physical(stored, band, np.float64)
        if self.values is not None:
            close = [np.isclose(plain, value, rtol=1e-9, atol=0) if band.scaled else plain == value
                     for value in self.values]  # fmt: skip
            return np.asarray(np.logical_or.reduce(close))
        with np.errstate(invalid="ignore"):
            above = np.ones(plain.shape, bool) if self.low is None else plain >= self.low
            return np.asarray(above if self.high is None else above & (plain <= self.high))


def bits_test(text: str) -> Test:
    """Read a test of quality bits: ``bits 3-4 = 2``, ``bit 0 != 1``, ``bits 10-11 = 2,3``.

    >>> bits_test("bits 3-4 = 2")
    Test(values=None, low=None, high=None, first=3, last=4, wanted=(2,), other=False)
    """
    match = re.fullmatch(
        r"\s*bits?\s+(\d+)(?:\s*-\s*(\d+))?\s*(==?|!=)\s*(\d+(?:\s*,\s*\d+)*)\s*", text
    )
    if not match:
        raise LookError(f"bits {text!r}: expected such as: bits 3-4 = 2, or bit 0 != 1")
    first, last = int(match[1]), int(match[2] or match[1])
    wanted = tuple(int(one) for one in match[4].split(","))
    if not first <= last < 64:
        raise LookError(f"bits {text!r}: bits are counted from 0 to 63, the lower one first")
    if max(wanted) >= 1 << (last - first + 1):
        raise LookError(
            f"bits {text!r}: {last - first + 1} bits hold numbers up to "
            f"{(1 << (last - first + 1)) - 1}"
        )
    return Test(first=first, last=last, wanted=wanted, other=match[3] == "!=")


class ByTest(MaskSource):
    """Where a band's value passes a test."""

    def __init__(self, parent: Source, band: int, test: Test) -> None:
        super().__init__(parent)
        self.band, self.test = band, test
        if test.first is not None:
            bits = parent.dtype.itemsize * 8
            if parent.dtype.kind not in "iu" or test.last >= bits:
                raise LookError(
                    f"bits {test.first}-{test.last}: the band holds {parent.dtype}, which has "
                    f"{bits if parent.dtype.kind in 'iu' else 'no'} bits to ask"
                )

    def chosen(self, window: Window) -> Chosen:
        """Return where the test passes."""
        pixels = self.parent.read([self.band], window)
        passed = self.test.of(pixels.values[0], self.parent.bands[self.band])
        return np.asarray(passed & pixels.validity[0])


class Truth(MaskSource):
    """Where a band is valid and not 0: of a computed band, or of a raster that is a mask."""

    def chosen(self, window: Window) -> Chosen:
        """Return where the first band is true."""
        pixels = self.parent.read([0], window)
        return np.asarray((pixels.values[0] != 0) & pixels.validity[0])  # fmt: skip


class Footprint(MaskSource):
    """Where a raster holds anything: all of its bands, or one of them."""

    def chosen(self, window: Window) -> Chosen:
        """Return where the raster is valid."""
        bands = range(len(self.parent.bands))
        return np.asarray(self.parent.read(bands, window).shown)


class JoinedMasks(MaskSource):
    """Two masks: where both are (``and``), or either is (``or``)."""

    def __init__(self, parent: Source, other: Source, how: str) -> None:
        super().__init__(parent, mask_on(other, parent))
        self.how = how

    def chosen(self, window: Window) -> Chosen:
        """Return both or either."""
        join = np.logical_and if self.how == "and" else np.logical_or
        planes = (parent.read([0], window) for parent in self.parents)
        return np.asarray(join(*(p.values[0].astype(bool) & _valid(p) for p in planes)))


def _valid(pixels: Pixels) -> Chosen:
    return np.asarray(pixels.validity[0])


class Inverted(MaskSource):
    """Where a mask is not."""

    def chosen(self, window: Window) -> Chosen:
        """Return the others."""
        return np.asarray(~self.parent.read([0], window).values[0].astype(bool))


class Grown(MaskSource):
    """A mask grown by a number of pixels, or shrunk by a negative one: by Euclidean distance.

    Beyond the raster's edge nothing is known: a mask neither grows nor shrinks from there.
    """

    def __init__(self, parent: Source, by: float) -> None:
        super().__init__(parent)
        if not abs(by) <= _FURTHEST:
            raise LookError(f"grow by {by}: expected at most {_FURTHEST} pixels")
        self.by = float(by)

    def chosen(self, window: Window) -> Chosen:
        """Return the grown mask, from a window as much wider."""
        margin = int(np.ceil(abs(self.by)))
        wide = intersection(tuple((a - margin, b + margin) for a, b in window), whole(self.shape))
        assert wide is not None
        mask = self.parent.read([0], wide).values[0].astype(bool)
        return within(mask, self.by)[relative(window, wide)]


def within(mask: Chosen, by: float) -> Chosen:
    """Return a mask grown (or shrunk, below 0) by a distance in pixels.

    >>> within(np.array([[0, 0, 1, 0, 0]], bool), 1).tolist()
    [[False, True, True, True, False]]
    """
    from scipy.ndimage import distance_transform_edt

    far = mask if by < 0 else ~mask
    if not far.any() or far.all():
        return mask
    near = distance_transform_edt(far) <= abs(by) + 1e-9
    return np.asarray(mask & ~near if by < 0 else mask | near)


class Sized(MaskSource):
    """Connected areas of a mask, of at least and at most so many pixels.

    The areas are found once, strip by strip, and held as one number each.
    """

    def __init__(self, parent: Source, least: int, most: int | None, neighbours: int) -> None:
        super().__init__(parent)
        if neighbours not in (4, 8):
            raise LookError(f"neighbours {neighbours}: expected 4 or 8")
        self.least, self.most, self.neighbours = least, most, neighbours
        self.strip = max(64, min(1024, (1 << 24) // max(1, parent.shape[1])))
        self._fitting: list[NDArray[np.bool_]] | None = None

    def chosen(self, window: Window) -> Chosen:
        """Return the areas of a fitting size."""
        if self._fitting is None:
            self._fitting = self._find()
        (top, bottom), (left, right) = window
        out = np.zeros(extent(window), bool)
        for number in range(top // self.strip, -(-bottom // self.strip)):
            labels, start = self._labels(number)
            a, b = max(top, start), min(bottom, start + len(labels))
            fitting = self._fitting[number]
            out[a - top : b - top] = fitting[labels[a - start : b - start, left:right]]
        return out

    def _labels(self, number: int) -> tuple[NDArray[np.int32], int]:
        """Return a strip's own labels, 0 where the mask is not, and its first row."""
        from scipy.ndimage import label

        rows = (number * self.strip, min((number + 1) * self.strip, self.shape[0]))
        mask = self.parent.read([0], (rows, (0, self.shape[1]))).values[0].astype(bool)
        structure = np.ones((3, 3), int) if self.neighbours == 8 else None
        return np.asarray(label(mask, structure)[0], np.int32), rows[0]

    def _find(self) -> list[NDArray[np.bool_]]:
        """Join the strips' labels over their borders, and tell which areas have a fitting size."""
        from scipy.sparse import coo_matrix
        from scipy.sparse.csgraph import connected_components

        counts: list[NDArray[np.int64]] = []
        pairs: list[NDArray[np.int64]] = []
        above: NDArray[np.int64] | None = None
        first = 0
        for number in range(-(-self.shape[0] // self.strip)):
            labels, _ = self._labels(number)
            counts.append(np.bincount(labels.ravel()))
            if above is not None:
                below = np.where(labels[0] > 0, labels[0] + first, -1).astype(np.int64)
                pairs += self._meeting(above, below)
            above = np.where(labels[-1] > 0, labels[-1] + first, -1).astype(np.int64)
            first += len(counts[-1])
        joined = np.concatenate(pairs) if pairs else np.zeros((0, 2), np.int64)
        ones = np.ones(len(joined), np.int8)
        graph = coo_matrix((ones, (joined[:, 0], joined[:, 1])), shape=(first, first))
        _, group = connected_components(graph, directed=False)
        sizes = np.bincount(group, weights=np.concatenate(counts))[group]
        good = (sizes >= self.least) & (sizes <= (np.inf if self.most is None else self.most))
        fitting, start = [], 0
        for count in counts:
            part = good[start : start + len(count)].copy()
            part[0] = False
            fitting.append(part)
            start += len(count)
        return fitting

    def _meeting(self, above: NDArray[Any], below: NDArray[Any]) -> list[NDArray[np.int64]]:
        shifts = (0, 1, -1) if self.neighbours == 8 else (0,)
        pairs = []
        for shift in shifts:
            upper = above[max(0, shift) : len(above) + min(0, shift)]
            lower = below[max(0, -shift) : len(below) + min(0, -shift)]
            both = (upper >= 0) & (lower >= 0)
            pairs.append(np.unique(np.column_stack([upper[both], lower[both]]), axis=0))
        return pairs


MaskAs = Literal["nodata", "alpha"]
LEAVES: tuple[MaskAs, ...] = get_args(MaskAs)
"""What becomes of the rest: no-data, or numbers that are transparent."""


class Masked(Derived, FullSource):
    """A source with the pixels that a mask does not choose made invalid, or transparent."""

    def __init__(self, parent: Source, mask: Source, keep: str = "nodata") -> None:
        if keep not in LEAVES:
            raise LookError(f"mask kept as {keep!r}: expected {' or '.join(LEAVES)}")
        alpha = parent.alpha or ("straight" if keep == "alpha" else None)
        super().__init__(parent, mask_on(mask, parent), has_mask=True, alpha=alpha)
        self.mask, self.keep = self.parents[1], keep

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the parent, masked."""
        return self._masked(window, self.parent.read(bands, window))

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the parent's blocks, masked."""
        for part, pixels in self.parent.blocks(bands, self.checked(window)):
            yield part, self._masked(part, pixels)

    def _masked(self, window: Window, pixels: Pixels) -> Pixels:
        chosen = self.mask.read([0], window).values[0].astype(bool)
        if self.keep != "alpha":
            return pixels.only(chosen)
        alpha = pixels.alpha
        top = 1 if self.dtype.kind == "f" else np.iinfo(self.dtype).max
        alpha = np.full(chosen.shape, top, self.dtype) if alpha is None else alpha
        alpha = np.where(chosen, alpha, 0).astype(alpha.dtype)
        return Pixels(
            pixels.values, mask=pixels.mask, rules=pixels.rules, alpha=alpha, when=pixels.when
        )


def mask_on(mask: Source, source: Source) -> Source:
    """Return a mask on another raster's grid: by nearest pixels, nothing chosen outside it."""
    if len(mask.bands) != 1:
        raise BandError(f"mask: expected one band of true and false, not {len(mask.bands)}")
    if mask.dtype.kind != "b":
        mask = Truth(mask)
    if mask.grid == source.grid:
        return mask
    placed = mask.grid.placed or source.grid.placed
    if not placed:
        raise GridMismatch(
            f"the mask has {mask.shape} rows and columns and the raster {source.shape}; without a "
            "place they must agree"
        )
    return Truth(regrid(mask, source.grid, resample="nearest"))


def chosen_share(mask: Source) -> float:
    """Return what share of a mask's pixels is chosen."""
    everything = whole(mask.shape)
    blocks = mask.blocks([0], everything)
    chosen = sum(int(np.count_nonzero(pixels.values[0])) for _, pixels in blocks)
    return chosen / window_area(everything)


def trimmed(source: Source, by: float) -> Source:
    """Return a source whose no-data has grown inward by a number of pixels."""
    return Masked(source, Grown(Footprint(source), -by)) if by else source


def chooser(source: Source) -> Source:
    """Return a mask itself, or the footprint of a raster that is none."""
    return source if len(source.bands) == 1 and source.dtype.kind == "b" else Footprint(source)
