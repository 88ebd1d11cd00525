"""The mosaic itself: a lazy raster over many, each window made from those that it meets."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.engine.once import Once
from spectrane.engine.pyramid import Level, Whole, cut_blocks
from spectrane.model.errors import LookError
from spectrane.model.grid import Grid
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, called
from spectrane.model.window import Window, whole, window_area
from spectrane.spatial.mosaics.composing import (
    TOP,
    Composition,
    CompositionRule,
    ResolvedComposition,
)
from spectrane.spatial.mosaics.inputs import laid_out

_SHOWN_WHOLE = 4 << 20
_SMALLEST = 256


class Mosaic(Derived, FullSource):
    """Rasters on one grid, the first the lowest; balances and seams are found at the first read."""

    def __init__(
        self, sources: Sequence[Source], rule: CompositionRule = TOP, *, grid: Grid | None = None,
        resample: str | None = None, force: bool = False,
    ) -> None:  # fmt: skip
        if not force:
            _check_unmixed(sources, rule)
        laid, grid, bands, dtype = laid_out(sources, grid, resample, force)
        inputs = {
            "inputs": [aligned.name for aligned in laid],
            "rule": rule.name,
            "balance": rule.balance,
        }
        super().__init__(
            sources[0], *(aligned.source for aligned in laid), grid=grid, bands=bands, dtype=dtype,
            name="",
            block_shape=tuple(min(512, n) for n in grid.shape), metadata={"mosaic": inputs},
            members=1, orientation=1, format="mosaic", nodata_when="any", alpha=None, has_mask=True,
        )  # fmt: skip
        self.rule, self.laid = rule, tuple(laid)
        if rule.reference and not 0 <= rule.reference < len(laid):
            raise LookError(f"reference {rule.reference}: there are {len(laid)} rasters")
        self._composed: Once[Composition] = Once()

    @property
    def composition(self) -> Composition:
        """How the rasters become one; found once. Warns of rasters that overlap no other."""
        return self._composed.get(self._compose)

    def _compose(self) -> Composition:
        resolved = ResolvedComposition.of(self.laid, self.bands, self.rule)
        return Composition(self.laid, self.bands, self.dtype, self.rule, resolved)

    def __getstate__(self) -> Any:
        assert self.composition  # what was found goes along, so that no process finds it anew
        return super().__getstate__()

    def resolutions(self) -> Sequence[Level]:
        """Return the full resolution, and for large mosaics smaller ones made from the inputs."""
        levels: list[Level] = [Whole.of(self)]
        shape = self.shape
        if window_area(whole(shape)) <= _SHOWN_WHOLE:
            return levels
        while max(shape) > _SMALLEST:
            shape = tuple(-(-n // 2) for n in shape)
            scale = tuple(n / m for n, m in zip(self.shape, shape, strict=True))
            levels.append(_Smaller(self, shape, scale))
        return levels

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window, piece by piece."""
        return self.composition.answer(bands, window)


def _check_unmixed(sources: Sequence[Source], rule: CompositionRule) -> None:
    """Raise LookError for a rule that would make new numbers of what are names of classes."""
    named = next((called(one) for one in sources if not one.mixable), None)
    wrong = f"balance {rule.balance}" if rule.balance else (
        f"rule {rule.name}" if rule.name in ("average", "feather", "seam") else "")  # fmt: skip
    if named and wrong:
        raise LookError(
            f"{named}: its numbers are names of classes or flags, and {wrong} would mix them; use "
            "top, bottom, least or greatest without a balance, or force it (force=True, --force)"
        )


class _Smaller:
    """A mosaic at a reduced size, made from its inputs at that size when it is read."""

    def __init__(self, mosaic: Mosaic, shape: tuple[int, ...], scale: tuple[float, ...]) -> None:
        self.mosaic, self.shape, self.scale = mosaic, shape, scale
        self._made: Once[Composition] = Once()

    def _composition(self) -> Composition:
        grid = self.mosaic.grid.resized(self.shape)
        return self._made.get(lambda: self.mosaic.composition.smaller(grid, self.scale))

    def read(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer one window of this level."""
        return self._composition().answer(bands, window)

    def blocks(self, bands: Sequence[int], window: Window) -> Any:
        """Walk this level."""
        return cut_blocks(self, bands, window, self.mosaic.block_shape)
