"""What the numbers of an image mean: band, unit, padding, windows; and all else that it says."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
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
from spectrane.model.band import Band
from spectrane.model.display_window import DisplayWindow
from spectrane.model.errors import FormatError
from spectrane.model.look import Look
from spectrane.model.nodata import NoDataRule, nodata_rule

_UNITS = {
    "HU": "HU", "MGML": "mg/ml", "PCT": "%", "BQML": "Bq/ml", "GML": "g/ml", "CPS": "1/s",
    "PERCENT": "%", "GY": "Gy", "MLMING": "ml/min/g", "UMOLML": "umol/ml",
}  # fmt: skip
_CODED = {"[hnsf'U]": "HU", "Bq/mL": "Bq/ml", "{SUVbw}g/ml": "SUV", "g/ml{SUVbw}": "SUV", "1": "1"}
"""Codes of units (UCUM) that we write otherwise."""
_SHORT = 64
"""Longer bytes are told by their number alone."""


@dataclass(frozen=True)
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
        slope, intercept = plane.rescale
        values = (stored * np.float64(slope) + intercept).astype(np.float32)
        values[self.padding.invalid(stored)] = np.nan
        return values, None


def meaning_of(planes: Sequence[PlaneRecord], names: Sequence[str]) -> DicomMeaning:
    """Find what the numbers of planes mean; ``names`` are the frames'. The middle plane speaks."""
    plane = planes[len(planes) // 2]
    head, layout = plane.head, plane.head.layout
    data = head.data
    grey = layout.samples == 1
    lookup = modality_lookup(data, layout.signed) if grey and not layout.floating else None
    rescaled = lookup is None and len({plane.rescale for plane in planes}) > 1
    dtype = np.dtype(np.float32) if rescaled else _common_type(planes)
    if lookup is not None:
        dtype = np.dtype(np.uint8 if lookup.bits <= 8 else np.uint16)
    padding = padding_of(head) if grey else None
    slope, intercept = (1.0, 0.0) if lookup is not None or rescaled else plane.rescale
    unit = _unit(plane, lookup)
    untold = lookup is None and not rescaled and unit is None
    mapped = _real_world(planes) if untold else None
    if mapped is not None:
        slope, intercept, unit = mapped[:3]
    least = (-(2.0 ** (layout.stored - 1)) if layout.signed else 0.0) * slope + intercept
    windows = _windows(plane, least < 0) if grey else ()
    kept = padding if lookup is None and not rescaled else None
    bands = (
        tuple(Band(name, unit=unit, scale=slope, offset=intercept, nodata=kept) for name in names)
        if grey else tuple(Band(color, color) for color in ("red", "green", "blue"))
    )  # fmt: skip
    look = _look(plane, windows, lookup)
    return DicomMeaning(dtype, bands, look, windows, lookup, rescaled, nodata_rule(padding))


def _real_world(planes: Sequence[PlaneRecord]) -> tuple[float, float, str | None] | None:
    """Return slope, intercept and unit (UCUM) of a map to real values, of stored numbers
    (C.7.6.16.2.11); None where there is none, several, or another from plane to plane.
    """
    found = {_mapping(plane) for plane in planes}
    return found.pop() if len(found) == 1 else None


def _mapping(plane: PlaneRecord) -> tuple[float, float, str | None] | None:
    data = plane.head.data
    groups = data.items("PerFrameFunctionalGroupsSequence")
    shared = data.item("SharedFunctionalGroupsSequence")
    holders = [*groups[plane.frame : plane.frame + 1], shared, data]
    found = (one.items("RealWorldValueMappingSequence") for one in holders if one is not None)
    maps = next((some for some in found if some), [])
    if len(maps) != 1:
        return None
    slope, intercept = (maps[0].number(f"RealWorldValue{name}") for name in ("Slope", "Intercept"))
    code = maps[0].item("MeasurementUnitsCodeSequence")
    said = "" if code is None else code.text("CodeValue")
    if slope is None or intercept is None or not np.isfinite([slope, intercept]).all() or not slope:
        return None
    return float(slope), float(intercept), _CODED.get(said, said) or None


def _common_type(planes: Sequence[PlaneRecord]) -> np.dtype[Any]:
    types = {plane.head.layout.dtype for plane in planes}
    if any(plane.head.layout.photometric.startswith("YBR") for plane in planes):
        return np.dtype(np.uint8)
    return np.result_type(*types)


def _windows(plane: PlaneRecord, signed: bool) -> tuple[DisplayWindow, ...]:
    item = _macro(plane, "FrameVOILUTSequence")
    return windows_of(plane.head.data if item is None else item, signed)


def _macro(plane: PlaneRecord, sequence: str) -> Dataset | None:
    """Return the item of a functional group: the frame's own, or what all share."""
    data = plane.head.data
    groups = data.items("PerFrameFunctionalGroupsSequence")
    own = groups[plane.frame].item(sequence) if plane.frame < len(groups) else None
    shared = data.item("SharedFunctionalGroupsSequence")
    return own or (None if shared is None else shared.item(sequence))


def _unit(plane: PlaneRecord, lookup: Lookup | None) -> str | None:
    data = plane.head.data
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
    if layout.samples == 1 and layout.stored < 8 and lookup is None and not layout.signed:
        slope, intercept = plane.rescale
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
