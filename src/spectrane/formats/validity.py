"""How it is kept which pixels are valid, whatever a format has for that; the one rule of it.

What comes from the declared no-data alone stays as it is. Else invalid floats are NaN, and invalid
integers get the bands' own no-data value, or a mask, or a number that no valid pixel has.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.errors import FormatError
from spectrane.model.nodata import NoDataValue
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, whole


@record(frozen=True)
class Abilities:
    """What a format has to say which pixels are valid.

    ``declares`` is which no-data it can name: ``none``, ``one`` value for all bands, or ``any``
    values and ranges band by band; ``of_floats`` whether for floats too, and ``when`` whether it
    can say that a pixel is invalid only where all bands are. ``mask`` is ``none``, one for all
    bands (``pixel``), or one per ``band``. With ``alpha`` the coverage is kept as it is. A format
    that ``widens`` has none of it for integers, which become floats with NaN.
    """

    name: str
    declares: str = "none"
    of_floats: bool = False
    when: bool = False
    mask: str = "none"
    alpha: bool = False
    widens: bool = False


TIFF = Abilities("TIFF", "any", of_floats=True, when=True, mask="pixel", alpha=True)
PNG = Abilities("PNG", "any", when=True, mask="pixel", alpha=True)
NETCDF = Abilities("netCDF", "one", of_floats=True, when=True, mask="band")
ZARR = replace(NETCDF, name="Zarr")
FITS = Abilities("FITS", "one")
NPY = Abilities("NPY", "any", of_floats=True, when=True)
RAW = replace(NPY, name="a headerless file")
NIFTI = Abilities("NIfTI", widens=True)


class MasksDifferError(Exception):
    """Raised by a writer that finds one band's mask to differ from another's while writing."""


def keeping(source: Source, can: Abilities, *, masks_differ: bool = False) -> Source:
    """Return a source whose numbers and declared no-data may be written as they are.

    Its ``bands`` say what no-data to declare. Where its ``has_mask`` is true, a mask must be
    written besides; that is only so where the format has one. ``masks_differ``: the bands' masks
    are known to differ, so that one mask for all will not do.

    Warns of what is stored otherwise than it was, and raises FormatError where no way is left.
    """
    masked = source.has_mask or (source.alpha is not None and not can.alpha)
    _tell_alpha(source, can)
    told = _declarable(source, can)
    values = [fill_of(band, source.dtype) for band in source.bands]
    if not masked and told:
        return source
    if told and all(value is not None for value in values):
        return KeptValidity(source, source.bands, values, alpha=can.alpha)
    if source.dtype.kind == "f":
        return _with_nan(source, can)
    if not (masked or any(band.rule.applies_to(source.dtype) for band in source.bands)):
        return KeptValidity(source, _bare(source.bands), None, alpha=can.alpha)
    if can.mask == "band" or (can.mask == "pixel" and not masks_differ):
        bands = source.bands if told else _bare(source.bands)
        return KeptValidity(source, bands, None, alpha=can.alpha, masked=True)
    return _widened(source, can) if can.widens else _with_free_number(source, can)


class KeptValidity(Derived, FullSource):
    """A source with no-data put into its invalid pixels, or (``masked``) told by its mask alone."""

    def __init__(
        self, parent: Source, bands: Sequence[Band], fills: Sequence[Any] | None, *,
        alpha: bool, masked: bool = False, dtype: np.dtype[Any] | None = None,
    ) -> None:  # fmt: skip
        super().__init__(
            parent,
            bands=tuple(bands),
            has_mask=masked,
            dtype=dtype or parent.dtype,
            alpha=parent.alpha if alpha else None,
        )
        self.fills, self._with_alpha = fills, alpha
        self._declares = any(band.nodata is not None for band in self.bands)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window, filled; where all bands decide together, all are asked."""
        if self.nodata_when == "any" or len(bands) == len(self.bands):
            return self._kept(self.parent.read(bands, window), bands)
        every = range(len(self.bands))
        kept = self._kept(self.parent.read(every, window), every)
        rules = [kept.rules[band] for band in bands]
        return Pixels(kept.values[list(bands)], mask=kept.mask, rules=rules, alpha=kept.alpha,
                      when="all", known=kept.valid)  # fmt: skip

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the parent's blocks, filled."""
        if self.nodata_when == "all":
            yield from super().blocks(bands, window)
            return
        for part, pixels in self.parent.blocks(bands, self.checked(window)):
            yield part, self._kept(pixels, bands)

    def _kept(self, pixels: Pixels, bands: Sequence[int]) -> Pixels:
        alpha = pixels.alpha
        if self._with_alpha:  # a sample of its own, which does not count as no-data too
            pixels = Pixels(pixels.values, mask=pixels.mask, rules=pixels.rules, when=pixels.when)
        valid, values = pixels.valid, pixels.values.astype(self.dtype, copy=False)
        if self.fills is not None:
            values = filled(values, valid, [self.fills[band] for band in bands])
        rules = [self.bands[band].rule for band in bands]
        mask = pixels.given_mask() if self._declares else valid
        return Pixels(values, mask=mask if self.has_mask else None, rules=rules,
                      alpha=alpha if self._with_alpha else None, when=self.nodata_when,
                      known=valid)  # fmt: skip


def filled(values: NDArray[Any], valid: NDArray[np.bool_], fills: Sequence[Any]) -> NDArray[Any]:
    """Return values (bands first) with each band's fill, where it has one, put in for invalid."""
    if valid.size == 1 or valid.all():
        return values
    shown = np.broadcast_to(valid, values.shape)
    out = values.copy()
    for band, fill in enumerate(fills):
        if fill is not None:
            out[band][~shown[band]] = fill
    return out


def masks_disagree(pixels: Pixels) -> bool:
    """Tell whether a pixel is masked in one band and not in another."""
    mask = pixels.mask
    if mask is None or len(mask) == 1 or pixels.when == "all":
        return False
    return bool((mask.any(axis=0) != mask.all(axis=0)).any())


def single_nodata(bands: Sequence[Band]) -> NoDataValue:
    """Return the one no-data value that all bands declare, or None."""
    first = bands[0].nodata
    same = all(repr(band.nodata) == repr(first) for band in bands)
    return first if same and not isinstance(first, tuple) else None


def _declarable(source: Source, can: Abilities) -> bool:
    """Tell whether a format can declare just what the bands do."""
    declared = [band for band in source.bands if band.nodata is not None]
    if not declared:
        return source.nodata_when == "any" or can.when or source.dtype.kind != "f"
    if can.declares == "none" or (source.nodata_when == "all" and not can.when):
        return False
    if source.dtype.kind == "f" and not can.of_floats:
        return False
    return can.declares == "any" or single_nodata(source.bands) is not None


def fill_of(band: Band, dtype: np.dtype[Any]) -> Any:
    """Return a number of a type that a band declares as no-data; None where there is none.

    >>> fill_of(Band("depth", nodata=((-2.5, 3),)), np.dtype("uint8")).item()
    0
    """
    for value in band.rule.matching(dtype):
        return value
    for low, high in band.rule.ranges:
        if dtype.kind == "f":
            tried = [dtype.type(low), dtype.type(high)]
        else:
            bottom, top = (0, 1) if dtype.kind == "b" else ends_of(dtype)
            least = math.ceil(low) if low > bottom else bottom
            tried = [dtype.type(least)] if least <= min(high, top) else []
        for value in tried:
            if np.isfinite(value) and band.rule.invalid(np.array([value]))[0]:
                return value
    return None


def ends_of(dtype: np.dtype[Any]) -> tuple[int, int]:
    """Return the least and the greatest number of an integer type."""
    span = np.iinfo(dtype)
    return int(span.min), int(span.max)


def _bare(bands: Sequence[Band]) -> list[Band]:
    return [replace(band, nodata=None) for band in bands]


def _with_nan(source: Source, can: Abilities) -> Source:
    if source.nodata_when == "all" and not can.when:
        warn_caller(
            f"{can.name} cannot say that a pixel is invalid only where all bands are: each band's "
            "NaN will count by itself"
        )
    named = float("nan") if can.of_floats else None
    bands = [replace(band, nodata=named) for band in source.bands]
    return KeptValidity(source, bands, [np.nan] * len(bands), alpha=can.alpha)


def _widened(source: Source, can: Abilities) -> Source:
    """Return integers as the float that holds them exactly, where some are invalid."""
    kind = source.dtype
    bands = range(len(source.bands))
    if all(pixels.valid.all() for _, pixels in source.blocks(bands, whole(source.shape))):
        return KeptValidity(source, _bare(source.bands), None, alpha=False)
    if kind.itemsize > 4:
        raise FormatError(
            f"{can.name} has no field for no-data, some voxels are invalid, and no float holds "
            f"{kind} exactly; crop to the valid part, or fill it"
        )
    wide = np.dtype(np.float32 if kind.itemsize <= 2 else np.float64)
    warn_caller(
        f"some voxels are invalid, and {can.name} has no field for no-data: written as {wide} with "
        f"NaN instead of {kind}, the numbers unchanged"
    )
    return KeptValidity(source, _bare(source.bands), [np.nan] * len(bands), alpha=False, dtype=wide)


def _with_free_number(source: Source, can: Abilities) -> Source:
    """Return integers whose invalid pixels hold a number that a pass proved no valid one has."""
    stored = np.dtype(np.uint8) if source.dtype.kind == "b" else source.dtype
    free, hidden = _free_number(source, stored)
    if not hidden:
        return KeptValidity(source, _bare(source.bands), None, alpha=can.alpha)
    why = "one mask for all bands, and these have different ones" if can.mask == "pixel" else (
        "no mask")  # fmt: skip
    if free is None:
        raise FormatError(
            f"{can.name} has {why}, and valid pixels use every number of {stored}, so that none "
            "is left to say which pixels are invalid; write .nc or .zarr"
            + (" (.tif too, where one mask serves all bands)" if can.mask == "none" else "")
            + ", or a wider type (--type)"
        )  # fmt: skip
    warn_caller(
        f"{can.name} has {why}: invalid pixels are stored as {free}, which no valid pixel has, and "
        "it is declared as no-data"
    )
    bands = [replace(band, nodata=free) for band in source.bands]
    fills = [stored.type(free)] * len(bands)
    return KeptValidity(source, bands, fills, alpha=can.alpha, dtype=stored)


def _free_number(source: Source, stored: np.dtype[Any]) -> tuple[int | None, bool]:
    """Return a number that no valid pixel has (None: all are used), and whether any is invalid."""
    least, most = ends_of(stored)
    likely = [least, most] if stored.kind == "i" else [most, least]
    small = stored.itemsize <= 2
    if not small:  # with as many numbers as there can be pixels, one of a few spread ones is free
        likely += [least + (most - least) // 4099 * k for k in range(1, 4099, 16)]  # fmt: skip
    used = np.zeros(1 << (8 * stored.itemsize) if small else len(likely), bool)
    hidden = False
    for _, pixels in source.blocks(range(len(source.bands)), whole(source.shape)):
        valid = pixels.validity
        hidden = hidden or not bool(pixels.valid.all())
        values = pixels.values[valid].astype(stored, copy=False)
        if small:
            used[values.view(f"u{stored.itemsize}")] = True
        else:
            used |= np.isin(np.array(likely, stored), values)
    if small:
        bits = np.arange(len(used), dtype=f"u{stored.itemsize}").view(stored)
        likely += [int(number) for number in bits[::-1]]
        taken = {int(number) for number in bits[used]}
    else:
        taken = {number for number, gone in zip(likely, used, strict=True) if gone}
    return next((number for number in likely if number not in taken), None), hidden


def _tell_alpha(source: Source, can: Abilities) -> None:
    if source.alpha is not None and not can.alpha:
        warn_caller(
            f"{can.name} has no alpha: where it is 0 pixels are written as invalid, and how much "
            "of the others is covered is not kept"
        )
