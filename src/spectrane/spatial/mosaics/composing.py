"""How rasters on one grid become one: by a rule, under what was resolved once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.errors import LookError
from spectrane.model.grid import Grid
from spectrane.model.pixels import Pixels
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, extent, intersection, relative
from spectrane.spatial.mosaics.balancing import BALANCES, Balance, balanced
from spectrane.spatial.mosaics.inputs import GridAligned
from spectrane.spatial.mosaics.seams import Seam, find_seams
from spectrane.spatial.mosaics.weights import continued, feather_weights
from spectrane.spatial.regridded import Regridded, stored_values

MosaicRule = Literal["top", "bottom", "least", "greatest", "average", "feather", "seam"]
RULES: tuple[MosaicRule, ...] = get_args(MosaicRule)
WIDTHS = {"feather": 64.0, "seam": 16.0}
"""Pixels over which a feather rises unless another width is asked for."""
_PIECE = 1 << 20


@record(frozen=True)
class CompositionRule:
    """How valid pixels that lie on one another become one."""

    name: str = "top"
    width: float | None = None
    balance: str | None = None
    reference: int = 0

    def __post_init__(self) -> None:
        """Check names and numbers."""
        if self.name not in RULES:
            raise LookError(f"rule {self.name!r}: expected {', '.join(RULES)}")
        if self.balance is not None and self.balance not in BALANCES:
            raise LookError(f"balance {self.balance!r}: expected {', '.join(BALANCES)}")
        if self.width is not None and self.name not in WIDTHS:
            raise LookError(f"width means nothing for rule {self.name}; it is for feather and seam")
        if not 0 < self.across < 1e5:
            raise LookError(f"width {self.width}: expected pixels above 0")

    @property
    def across(self) -> float:
        """The feather's width in pixels."""
        return WIDTHS.get(self.name, 1.0) if self.width is None else float(self.width)


TOP = CompositionRule()


@record(frozen=True)
class ResolvedComposition:
    """What is found once for all of a mosaic: the balance, and the seams; None without."""

    balance: Balance | None = None
    seams: tuple[Any, ...] | None = None

    @classmethod
    def of(
        cls, laid: Sequence[GridAligned], bands: Sequence[Band], rule: CompositionRule
    ) -> ResolvedComposition:
        """Find balance and seams. Warns of rasters that overlap no other."""
        balance, count = None, len(bands)
        if rule.balance is not None:
            balance = balanced(laid, count, rule.balance, rule.reference)
            _tell_alone(laid, balance)
        if rule.name != "seam":
            return cls(balance)

        def matched(which: int, plane: NDArray[Any], band: int) -> NDArray[Any]:
            return corrected(balance, which, plane, bands[band], band)

        return cls(balance, tuple(find_seams(laid, count, rule.across, matched)))


def corrected(
    balance: Balance | None, which: int, plane: NDArray[Any], described: Band, band: int
) -> NDArray[Any]:
    """Return a plane of stored numbers of one raster as the balance corrects them."""
    if balance is None:
        return plane
    return balance.corrections[which].apply(plane, band, described.scale, described.offset)


def _tell_alone(laid: Sequence[GridAligned], balance: Balance) -> None:
    if balance.alone:
        names = ", ".join(laid[k].name for k in balance.alone[:5])
        more = f" and {len(balance.alone) - 5} more" if len(balance.alone) > 5 else ""
        warn_caller(
            f"{names}{more}: overlap no other raster, so that nothing tells their balance; "
            "they are left as they are"
        )


@record(frozen=True)
class Composition:
    """Rasters on one grid, the first the lowest, the rule that joins them, and what is resolved."""

    laid: tuple[GridAligned, ...]
    bands: tuple[Band, ...]
    dtype: np.dtype[Any]
    rule: CompositionRule
    resolved: ResolvedComposition

    @cached_property
    def _beside(self) -> list[Any]:
        """For each raster, which of its edges another one continues."""
        windows = [aligned.window for aligned in self.laid]
        return [continued(windows, k) for k in range(len(windows))]

    def answer(self, bands: Sequence[int], window: Window) -> Pixels:
        """Return a window, piece by piece."""
        values = np.zeros((len(bands), *extent(window)), self.dtype)
        mask = np.zeros(values.shape, bool)
        for piece in _pieces(window, len(bands)):
            where = (slice(None), *relative(piece, window))
            self._fill(bands, piece, values[where], mask[where])
        return Pixels(values, mask=mask)

    def smaller(self, grid: Grid, scale: tuple[float, ...]) -> Composition:
        """Return the same at a reduced size: ``scale`` pixels along each axis become one."""
        rule = self.rule
        if rule.name == "feather":
            rule = replace(rule, width=max(1e-3, rule.across / scale[0]))
        seams = self.resolved.seams
        if seams is not None:
            seams = tuple(None if seam is None else _SmallSeam(seam, scale) for seam in seams)
        laid = tuple(_laid_smaller(aligned, grid, scale) for aligned in self.laid)
        return replace(self, laid=laid, rule=rule, resolved=replace(self.resolved, seams=seams))

    def _fill(
        self, bands: Sequence[int], window: Window, values: NDArray[Any], mask: NDArray[np.bool_]
    ) -> None:
        meeting = [k for k, aligned in enumerate(self.laid)
                   if intersection(aligned.window, window) is not None]  # fmt: skip
        if self.rule.name in ("top", "bottom"):
            order = meeting[::-1] if self.rule.name == "top" else meeting
            self._lay(bands, window, order, values, mask)
            return
        join = {"least": self._extreme, "greatest": self._extreme, "average": self._weighted,
                "feather": self._weighted, "seam": self._layered}[self.rule.name]  # fmt: skip
        pixels, valid = join(bands, window, meeting)
        mask[...] = valid
        for k, band in enumerate(bands):
            values[k] = self._stored(pixels[k], valid[k], band)

    def _lay(
        self, bands: Sequence[int], window: Window, order: Sequence[int], values: NDArray[Any],
        mask: NDArray[np.bool_],
    ) -> None:  # fmt: skip
        """Take the first valid pixel in an order; stop when nothing is missing."""
        for which in order:
            part, pixels = self._read(bands, window, which)
            where = relative(part, window)
            valid = pixels.validity
            for k, band in enumerate(bands):
                free = valid[k] & ~mask[k][where]
                if not free.any():
                    continue
                plane = self._corrected(which, pixels.values[k], band)
                plain = plane.dtype == self.dtype and self.bands[band].nodata is None
                new = plane if plain else self._stored(plane, valid[k], band)
                values[k][where][free] = new[free]
                mask[k][where] |= free
            if mask.all():
                return

    def _stored(self, plane: NDArray[Any], valid: NDArray[np.bool_], band: int) -> NDArray[Any]:
        return stored_values(plane, valid, self.dtype, self.bands[band].rule)

    def _read(self, bands: Sequence[int], window: Window, which: int) -> tuple[Window, Pixels]:
        part = intersection(self.laid[which].window, window)
        assert part is not None
        return part, self.laid[which].read(bands, part)

    def _corrected(self, which: int, plane: NDArray[Any], band: int) -> NDArray[Any]:
        return corrected(self.resolved.balance, which, plane, self.bands[band], band)

    def _extreme(
        self, bands: Sequence[int], window: Window, meeting: Sequence[int]
    ) -> tuple[NDArray[Any], NDArray[np.bool_]]:
        least = self.rule.name == "least"
        dtype = self.dtype if self.resolved.balance is None else np.dtype(np.float64)
        out = np.zeros((len(bands), *extent(window)), dtype)
        mask = np.zeros(out.shape, bool)
        for which in meeting:
            part, pixels = self._read(bands, window, which)
            valid = pixels.validity
            for k, band in enumerate(bands):
                where = relative(part, window)
                best, seen = out[k][where], mask[k][where]
                plane = self._corrected(which, pixels.values[k], band).astype(dtype, copy=False)
                # In physical values: a negative scale turns what is less.
                lower = least == (self.bands[band].scale > 0)
                take = valid[k] & ((plane < best if lower else plane > best) | ~seen)
                best[take] = plane[take]
                seen |= valid[k]
        return out, mask

    def _weighted(
        self, bands: Sequence[int], window: Window, meeting: Sequence[int]
    ) -> tuple[NDArray[Any], NDArray[np.bool_]]:
        sums = np.zeros((len(bands), *extent(window)), self._wide)
        weights = np.zeros(sums.shape, np.float32)
        for which in meeting:
            part, values, weight = self._with_weights(bands, window, which)
            where = relative(part, window)
            for k, band in enumerate(bands):
                plane = self._corrected(which, values[k], band)
                safe = np.where(weight[k] > 0, plane, 0)
                sums[k][where] += safe * weight[k]
                weights[k][where] += weight[k]
        mask = weights > 0
        return sums / np.where(mask, weights, 1), mask

    @property
    def _wide(self) -> np.dtype[Any]:
        small = self.dtype.itemsize <= 2 or self.dtype == np.float32
        return np.dtype(np.float32 if small else np.float64)

    def _with_weights(
        self, bands: Sequence[int], window: Window, which: int
    ) -> tuple[Window, NDArray[Any], NDArray[np.float32]]:
        """Return what a raster holds of a window, and how much each pixel counts."""
        own = self.laid[which].window
        if self.rule.name == "average":
            part, pixels = self._read(bands, window, which)
            valid = pixels.validity
            return part, pixels.values, valid.astype(np.float32)
        width = self.rule.across
        margin = int(np.ceil(width)) + 1
        seen = intersection(tuple((a - margin, b + margin) for a, b in window), own)
        inner = intersection(window, own)
        assert seen is not None
        assert inner is not None
        part = inner
        pixels = self.laid[which].read(bands, seen)
        where = relative(part, seen)
        values = pixels.values[(slice(None), *where)]
        valid = pixels.valid
        planes = [feather_weights(np.broadcast_to(one, extent(seen)), seen, part, own,
                                  self._beside[which], width) for one in valid]  # fmt: skip
        weight = np.broadcast_to(np.stack(planes), values.shape)
        return part, values, weight

    def _layered(
        self, bands: Sequence[int], window: Window, meeting: Sequence[int]
    ) -> tuple[NDArray[Any], NDArray[np.bool_]]:
        """Lay rasters on one another, each fading into what is below along its seam."""
        out = np.zeros((len(bands), *extent(window)), self._wide)
        mask = np.zeros(out.shape, bool)
        assert self.resolved.seams is not None
        for which in meeting:
            part, pixels = self._read(bands, window, which)
            where = relative(part, window)
            valid = pixels.validity
            seam = self.resolved.seams[which]
            share = np.float32(1) if seam is None else seam.at(part)
            for k, band in enumerate(bands):
                plane = self._corrected(which, pixels.values[k], band)
                below, seen = out[k][where], mask[k][where]
                weight = np.where(seen, share, np.float32(1)) * valid[k]
                safe = np.where(valid[k], plane, 0)
                below[...] = below * (1 - weight) + safe * weight
                seen |= valid[k]
        return out, mask


def _laid_smaller(aligned: GridAligned, grid: Grid, scale: tuple[float, ...]) -> GridAligned:
    """Return a raster on a smaller grid's pixels, from its own overviews where it has any."""
    window = tuple((int(np.floor(a / s)), int(np.ceil(b / s)))
                   for (a, b), s in zip(aligned.window, scale, strict=True))  # fmt: skip
    part, base = grid.cropped(window), aligned.source
    if isinstance(base, Regridded):
        made = Regridded(base.parent, part, "area", place=base.mapping.source,
                         warp=base.mapping.warp)  # fmt: skip
    else:
        made = Regridded(base, part, "area")
    return GridAligned(made, window, aligned.name)


def _pieces(window: Window, bands: int) -> list[Window]:
    """Cut a window into parts side by side of about a million pixels, on whole blocks."""
    rows, (left, right) = window
    step = max(512, _PIECE // (max(1, rows[1] - rows[0])) // 512 * 512)
    first = left // step * step
    return [(rows, (max(left, c), min(right, c + step))) for c in range(first, right, step)]


@record(frozen=True)
class _SmallSeam:
    """A seam asked for at a reduced size."""

    seam: Seam
    scale: tuple[float, ...]

    def at(self, window: Window) -> NDArray[np.float32]:
        """Return the weights at the middles of a window's pixels."""
        full = tuple((int(a * s), max(int(a * s) + 1, int(np.ceil(b * s))))
                     for (a, b), s in zip(window, self.scale, strict=True))  # fmt: skip
        weights = self.seam.at(full)
        rows, columns = (
            np.minimum(((np.arange(a, b) + 0.5) * s - f).astype(np.intp), n - 1)
            for (a, b), s, (f, _), n in zip(window, self.scale, full, weights.shape, strict=True)
        )
        return weights[np.ix_(rows, columns)]
