"""The same pixels, with another word on what they mean: names, units, no-data, place, look."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, replace
from typing import Any

from spectrane.engine.pyramid import Whole, read_resized
from spectrane.model.band import Band, find_band
from spectrane.model.errors import MetadataError
from spectrane.model.nodata import nodata_value, per_band
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, answer_size, check_answer
from spectrane.model.window import Window, extent


class Described(Source):
    """A source whose bands are described anew.

    Where no-data is another than the file's, its overviews are left alone: they were averaged
    under the old rule, and mix what is invalid now into what is valid.
    """

    def __init__(
        self, parent: Source, bands: Sequence[Band], nodata_when: str | None = None
    ) -> None:
        self.parent = parent
        self.bands = tuple(bands)
        same = [b.nodata for b in bands] == [b.nodata for b in parent.bands]
        self.same_nodata = same and nodata_when in (None, parent.nodata_when)
        for name in (
            "grid", "dtype", "block_shape", "nodata_when", "has_mask", "alpha", "look", "format",
            "name", "metadata",
        ):  # fmt: skip
            setattr(self, name, getattr(parent, name))
        self.nodata_when = nodata_when or parent.nodata_when
        self.overviews = parent.overviews if self.same_nodata else ()

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer from the parent, under this source's own no-data rules."""
        window = self.checked(window)
        self.check_bands(bands)
        wanted = answer_size(window, size)
        if self.same_nodata:
            return self.parent.read(bands, window, wanted, resample)
        check_answer(len(bands), wanted, self.dtype)
        if wanted != extent(window):
            return read_resized([Whole.of(self)], bands, window, wanted, resample)
        return self._ruled(self.parent.read(bands, window), bands)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the parent's blocks."""
        for part, pixels in self.parent.blocks(bands, self.checked(window)):
            yield part, self._ruled(pixels, bands)

    def _ruled(self, pixels: Pixels, bands: Sequence[int]) -> Pixels:
        rules = [self.bands[band].rule for band in bands]
        return Pixels(
            pixels.values, mask=pixels.mask, rules=rules, alpha=pixels.alpha, when=self.nodata_when
        )

    def close(self) -> None:
        """Let go of the parent's file."""
        self.parent.close()


def with_nodata(source: Source, nodata: Any, when: str | None = None) -> Source:
    """Replace what a source says of no-data.

    ``nodata`` is a number, a list in which a pair is a closed range, None for none at all, or a
    mapping from band numbers (from 1), names or roles to either. ``when`` is ``any`` or ``all``.
    """
    if when not in (None, "any", "all"):
        raise MetadataError(f"when {when!r}: expected any or all")
    if isinstance(nodata, Mapping):
        found = {find_band(source.bands, key): nodata_value(v) for key, v in nodata.items()}
    else:
        found = per_band(nodata, len(source.bands))
    bands = [
        replace(band, nodata=found[k]) if k in found else band
        for k, band in enumerate(source.bands)
    ]
    return Described(source, bands, when)


_GIVEN = {field.name for field in fields(Band)}


def with_bands(source: Source, given: Mapping[Any, Mapping[str, Any]]) -> Source:
    """Describe bands anew: a mapping from band number (from 1), name or role to new fields."""
    bands = list(source.bands)
    for key, changes in given.items():
        unknown = sorted(set(changes) - _GIVEN)
        if unknown:
            raise MetadataError(
                f"band {key}: no field {', '.join(unknown)}; expected {', '.join(sorted(_GIVEN))}"
            )
        index = find_band(source.bands, key)
        changes = dict(changes)
        if "nodata" in changes:
            changes["nodata"] = nodata_value(changes["nodata"])
        if "wavelength" in changes and "role" not in changes:
            changes["role"] = None  # a new wavelength names the role anew
        bands[index] = replace(bands[index], **changes)
    return Described(source, bands)
