"""Which bands go to which display channels. The data keep their order whatever is shown."""

from __future__ import annotations

from spectrane.model.band import find_bands, preset_bands
from spectrane.model.errors import LookError
from spectrane.model.look import Look
from spectrane.model.roles import PRESETS
from spectrane.model.source import Source


def _for_one_band(found: list[int]) -> LookError:
    return LookError(
        f"a colour map is for one band, and the channels show {len(found)}; name one (--channels 1)"
    )


def _tell_reversed(source: Source, look: Look, found: list[int], told: list[str]) -> None:
    """Tell where numbers put blue on red: a stored order taken for the display order."""
    numbers = all(str(name).isdecimal() for name in look.channels)
    roles = [source.bands[index].role for index in found[:3]]
    if numbers and roles == ["blue", "green", "red"]:
        turned = ",".join(str(index + 1) for index in found[2::-1])
        told.append(
            f"channels {','.join(str(i + 1) for i in found[:3])} show blue as red and red as blue; "
            f"natural colours are {turned}, or: natural"
        )


def shown_bands(source: Source, look: Look, told: list[str]) -> list[int]:
    """Return the indices (from 0) of the bands to show: 1, 3, or 4 with alpha last.

    ``told`` takes what deserves a second look.

    Without channels in the look: those kept with the file, else ``natural`` when the roles exist,
    else three-sample colour as stored, else band 1 in grey.
    """
    asked_map = look.colormap
    if look.channels is None and source.look is not None and source.look.channels is not None:
        look = source.look
    if isinstance(look.channels, str) and look.channels in PRESETS:
        if asked_map is not None:
            raise _for_one_band([0, 1, 2])
        return preset_bands(source.bands, look.channels)
    if look.channels is not None:
        found = find_bands(source.bands, look.channels)
        if asked_map is not None and len(found) > 1:
            raise _for_one_band(found)
        _tell_reversed(source, look, found, told)
        return found
    if look.colormap is not None:
        return [0]  # a colour map is for one band
    roles = {band.role for band in source.bands}
    if roles.issuperset(PRESETS["natural"]):
        return preset_bands(source.bands, "natural")
    colour = len(source.bands) == 3 and source.dtype.itemsize == 1 and source.dtype.kind == "u"
    return [0, 1, 2] if colour else [0]
