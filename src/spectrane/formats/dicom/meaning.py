"""What the numbers of an image mean: band, unit, padding, windows; and all else that it says."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.formats.dicom.dictionary import known, written
from spectrane.formats.dicom.elements import UNDEFINED, Dataset, Element
from spectrane.formats.dicom.frames import Frames
from spectrane.formats.dicom.lookups import (
    Lookup,
    modality_lookup,
    padding_of,
    palette_of,
    windows_of,
)
from spectrane.formats.dicom.planes import PlaneRecord
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.display_window import DisplayWindow
from spectrane.model.errors import FormatError
from spectrane.model.look import Look
from spectrane.model.nodata import NoDataRule, nodata_rule
from spectrane.model.telling import warn_caller

_UNITS = {
    "HU": "HU", "MGML": "mg/ml", "PCT": "%", "BQML": "Bq/ml", "GML": "g/ml", "CPS": "1/s",
    "PERCENT": "%", "GY": "Gy", "MLMING": "ml/min/g", "UMOLML": "umol/ml",
}  # fmt: skip
_SHORT = 64
"""Longer bytes are told by their number alone."""


@record(frozen=True)
class DicomMeaning:
    """How stored numbers become values: by slope and intercept in the band, or on reading.

    ``lookup`` is a modality LUT that is applied on reading; ``rescaled`` tells that slopes differ
    from plane to plane, so that physical values (float32) are read.
    """

    dtype: np.dtype[Any]
    bands: tuple[Band, ...]
    look: Look | None
    windows: tuple[DisplayWindow, ...]
    lookup: Lookup | None
    rescaled: bool
    padding: NoDataRule

    @property
    def masked(self) -> bool:
        """Whether padding is told by a mask: the numbers read are not those stored."""
        return self.padding != NoDataRule() and self.lookup is not None

    def values(
        self, frames: Frames, plane: PlaneRecord, rows: tuple[int, int], columns: tuple[int, int]
    ) -> tuple[NDArray[Any], NDArray[np.bool_] | None]:
        """Return (samples, rows, columns) of a plane, and where it is no padding."""
        stored = frames.read(plane.frame, rows, columns)
        if self.lookup is not None:
            valid = ~self.padding.invalid(stored) if self.masked else None
            return self.lookup.applied(stored).astype(self.dtype, copy=False), valid
        if not self.rescaled:
            return stored, None
        values = plane.values(stored)
        values[self.padding.invalid(stored)] = np.nan
        return values, None


def meaning_of(planes: Sequence[PlaneRecord], names: Sequence[str]) -> DicomMeaning:
    """Find what the numbers of planes mean; ``names`` are the frames'. The middle plane speaks."""
    plane = planes[len(planes) // 2]
    head, layout = plane.head, plane.head.layout
    grey = layout.samples == 1
    lookup = lookup_in(plane)
    rescaled = lookup is None and (plane.linear is None or len({p.linear for p in planes}) > 1)
    dtype = np.dtype(np.float32) if rescaled else _common_type(planes)
    if lookup is not None:
        dtype = np.dtype(np.uint8 if lookup.bits <= 8 else np.uint16)
    padding = padding_of(head) if grey else None
    linear = plane.linear
    slope, intercept = (1.0, 0.0) if lookup is not None or rescaled or not linear else linear
    unit = unit_of(plane)
    windows = _windows(plane) if grey else ()
    kept = padding if lookup is None and not rescaled else None
    bands = (
        tuple(Band(name, unit=unit, scale=slope, offset=intercept, nodata=kept) for name in names)
        if grey else tuple(Band(color, color) for color in ("red", "green", "blue"))
    )  # fmt: skip
    look = _look(plane, windows, lookup)
    return DicomMeaning(dtype, bands, look, windows, lookup, rescaled, nodata_rule(padding))


def lookup_in(plane: PlaneRecord) -> Lookup | None:
    """Return the modality LUT of a plane, which a map to real values makes needless."""
    layout = plane.head.layout
    if layout.samples > 1 or layout.floating or plane.real is not None:
        return None
    return modality_lookup(plane.head.data, layout.signed)


def _common_type(planes: Sequence[PlaneRecord]) -> np.dtype[Any]:
    types = {plane.head.layout.dtype for plane in planes}
    if any(plane.head.layout.photometric.startswith("YBR") for plane in planes):
        return np.dtype(np.uint8)
    return np.result_type(*types)


def _windows(plane: PlaneRecord) -> tuple[DisplayWindow, ...]:
    """Return a plane's windows, brought to the values that are read; none where they are of a
    modality LUT in whose place a map to real values stands.
    """
    if plane.real is not None and "ModalityLUTSequence" in plane.head.data:
        return ()
    item = _macro(plane, "FrameVOILUTSequence")
    lookup = lookup_in(plane)
    slope, intercept = (1.0, 0.0) if lookup is not None else plane.rescale
    return windows_through(plane, plane.head.data if item is None else item, slope, intercept)


def windows_through(
    plane: PlaneRecord, data: Dataset, slope: float, intercept: float, label: str = ""
) -> tuple[DisplayWindow, ...]:
    """Return the windows of a data set that speaks of ``slope`` times stored numbers plus
    ``intercept`` (1 and 0 of what a modality LUT gives), in the values that are read of a plane.

    ``label`` is what those are called that have no name. Those that cannot be brought over are left
    out with a warning.
    """
    layout = plane.head.layout
    least = (-(2.0 ** (layout.stored - 1)) if layout.signed else 0.0) * slope + intercept
    linear = (1.0, 0.0) if lookup_in(plane) is not None else plane.linear
    found = []
    for window in windows_of(data, least < 0):
        scale = None if linear is None else linear[0] / slope
        brought = None if scale is None or linear is None else (
            window.through(scale, linear[1] - intercept * scale))  # fmt: skip
        if brought is None:
            warn_caller(f"{data.name}: the window {window} speaks of other numbers than the values "
                        "that are read; it is left out")  # fmt: skip
            continue
        found.append(replace(brought, explanation=brought.explanation or label))
    return tuple(found)


def macros_of(plane: PlaneRecord) -> tuple[Dataset, ...]:
    """Return the functional groups of a plane: its frame's own, then what all share."""
    data = plane.head.data
    groups = data.items("PerFrameFunctionalGroupsSequence")
    shared = data.items("SharedFunctionalGroupsSequence")
    return (*groups[plane.frame : plane.frame + 1], *shared[:1])


def _macro(plane: PlaneRecord, sequence: str) -> Dataset | None:
    """Return the item of a functional group: the frame's own, or what all share."""
    found = (one.item(sequence) for one in macros_of(plane))
    return next((item for item in found if item is not None), None)


def unit_of(plane: PlaneRecord) -> str | None:
    """Return the unit of a plane's values, where something tells it."""
    if plane.real is not None:
        return plane.real.unit
    data, lookup = plane.head.data, lookup_in(plane)
    item = _macro(plane, "PixelValueTransformationSequence") or data
    said = lookup.explanation if lookup is not None else item.text("RescaleType")
    if said == "" and data.text("Modality") == "CT" and "RescaleSlope" in item:
        said = "HU"  # PS3.3 C.8.2.1.1.2
    for text in (said, data.text("Units"), data.text("DoseUnits")):
        if text.upper() in _UNITS:
            return _UNITS[text.upper()]
    return None


def _look(
    plane: PlaneRecord, windows: tuple[DisplayWindow, ...], lookup: Lookup | None
) -> Look | None:
    layout = plane.head.layout
    if layout.photometric == "PALETTE COLOR":
        return Look(classes=palette_of(plane.head.data, layout.signed, layout.stored))
    invert = True if layout.photometric == "MONOCHROME1" else None
    if windows:
        return Look(limits="window:1", invert=invert)
    narrow = layout.samples == 1 and layout.stored < 8 and not layout.signed
    if narrow and lookup is None and plane.linear is not None:
        slope, intercept = plane.linear
        return Look(limits=(intercept, ((1 << layout.stored) - 1) * slope + intercept),
                    invert=invert)  # fmt: skip
    return Look(invert=True) if invert else None


def dicom_metadata(data: Dataset) -> dict[str, Any]:
    """Return everything a data set says: by keyword, or by tag (and creator) where there is none.

    Sequences are lists of such mappings; long bytes are told by their number.
    """
    metadata: dict[str, Any] = {}
    for tag, element in data.elements.items():
        if tag >> 16 == 0x7FE0:
            continue
        entry = known(tag)
        keyword = written(tag) if entry is None else entry[1]
        if 0x6000 < tag >> 16 <= 0x601E:
            keyword = f"{keyword} {written(tag)}"
        creator = data.elements.get((tag & 0xFFFF0000) | (tag >> 8 & 0xFF)) if tag >> 16 & 1 else (
            None)  # fmt: skip
        if creator is not None and creator is not element:
            keyword += " " + creator.data.decode("latin_1").strip(" \0")
        metadata[keyword] = _element_value(data, element)
    return metadata


def _element_value(data: Dataset, element: Element) -> Any:
    if element.representation == "SQ":
        return [dicom_metadata(item) for item in element.items]
    if element.length == UNDEFINED:
        return "packed pixels"
    if element.length > len(element.data):
        return f"{element.length} bytes"
    try:
        values = data.of(element)
    except FormatError:
        return element.data.decode("latin_1")
    if element.representation == "AT":
        values = [written(tag) for tag in values]
    values = [f"{len(value)} bytes" if isinstance(value, bytes) and len(value) > _SHORT else value
              for value in values]  # fmt: skip
    return values[0] if len(values) == 1 else values or None


def overlays_of(data: Dataset) -> list[str]:
    """Say which overlay planes there are (C.9.2); they are told, not drawn."""
    overlays = []
    for group in range(0x6000, 0x6020, 2):
        sizes = [data.values(keyword, group) for keyword in ("OverlayRows", "OverlayColumns")]
        if not all(sizes):
            continue
        rows, columns = sizes[0][0], sizes[1][0]
        kind = (data.values("OverlayType", group) or ["?"])[0]
        named = {"G": "graphics", "R": "region of interest"}.get(str(kind), str(kind))
        origin = data.values("OverlayOrigin", group) or [1, 1]
        inside = group << 16 | 0x3000 not in data.elements
        overlays.append(
            f"{columns} x {rows} at row {origin[0]}, column {origin[-1]}, {named}"
            + (f", in bit {(data.values('OverlayBitPosition', group) or ['?'])[0]} of the samples"
               if inside else "")
        )  # fmt: skip
    return overlays
