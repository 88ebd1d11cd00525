"""Which bands go to which display channels. The data keep their order whatever is shown."""

from __future__ import annotations

from spectrane.model.band import find_bands, preset_bands
from spectrane.model.look import Look
from spectrane.model.roles import PRESETS
from spectrane.model.source import Source


def shown_bands(source: Source, look: Look) -> list[int]:
    """Return the indices (from 0) of the bands to show: 1, 3, or 4 with alpha last.

    Without channels in the look: ``natural`` when the roles exist, else three-sample colour as
    stored, else band 1 in grey.
    """
    if isinstance(look.channels, str) and look.channels in PRESETS:
        return preset_bands(source.bands, look.channels)
    if look.channels is not None:
        return find_bands(source.bands, look.channels)
    roles = {band.role for band in source.bands}
    if roles.issuperset(PRESETS["natural"]):
        return preset_bands(source.bands, "natural")
    colour = len(source.bands) == 3 and source.dtype.itemsize == 1 and source.dtype.kind == "u"
    return [0, 1, 2] if colour else [0]
