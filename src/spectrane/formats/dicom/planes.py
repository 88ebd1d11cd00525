"""The planes of a file: where each frame lies in the patient, and what tells it from others."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.formats.dicom.elements import Dataset
from spectrane.formats.dicom.head import DicomHead
from spectrane.formats.dicom.real_values import RealValues
from spectrane.model.errors import FormatError

F64 = NDArray[np.float64]
# What may tell frames at one place from each other: keyword (and the functional group it stands
# in), what the frame is called by it.
KEYS: tuple[tuple[str, str, str], ...] = (
    ("TemporalPositionIdentifier", "", "time {:g}"),
    ("TemporalPositionIndex", "FrameContentSequence", "time {:g}"),
    ("EchoTime", "", "echo {:g} ms"),
    ("EffectiveEchoTime", "MREchoSequence", "echo {:g} ms"),
    ("EchoNumbers", "", "echo {:g}"),
    ("TriggerTime", "", "{:g} ms"),
    ("NominalCardiacTriggerDelayTime", "FrameContentSequence", "{:g} ms"),
    ("DiffusionBValue", "", "b {:g}"),
    ("DiffusionBValue", "MRDiffusionSequence", "b {:g}"),
    ("InversionTime", "", "inversion {:g} ms"),
    ("ReferencedSegmentNumber", "SegmentIdentificationSequence", "segment {:g}"),
    ("ComplexImageComponent", "", "{}"),
    ("FrameReferenceTime", "", "{:g} ms"),
    ("AcquisitionNumber", "", "acquisition {:g}"),
)

_CM = 3
"""The code of centimetres among physical units (C.8.5.5.1.15)."""


@dataclass(frozen=True, slots=True)
class PlaneRecord:
    """One frame of one file: its place in patient millimetres (LPS), spacing, rescale, keys.

    ``rescale`` is the file's modality transformation; ``real`` is a map that takes its place.
    """

    head: DicomHead
    frame: int
    position: tuple[float, ...] | None
    orientation: tuple[float, ...] | None
    spacing: tuple[float, float] | None
    thickness: float | None
    rescale: tuple[float, float]
    keys: tuple[float | str | None, ...]
    number: int
    instance: str
    real: RealValues | None = None

    @property
    def linear(self) -> tuple[float, float] | None:
        """Slope and intercept of the values; None where they are a table's."""
        if self.real is None:
            return self.rescale
        return None if self.real.table else (self.real.slope, self.real.intercept)

    def values(self, stored: NDArray[Any]) -> NDArray[np.float32]:
        """Return the physical values of stored numbers."""
        if self.real is not None:
            return self.real.of(stored)
        slope, intercept = self.rescale
        return (stored * np.float64(slope) + intercept).astype(np.float32)

    @property
    def name(self) -> str:
        """The file's path, and the frame where it has several."""
        many = self.head.layout.frames > 1
        return f"{self.head.name}, frame {self.frame + 1}" if many else self.head.name

    @property
    def normal(self) -> F64:
        """The direction across the plane (LPS), by the right-hand rule from row to column."""
        assert self.orientation is not None
        return np.cross(self.orientation[:3], self.orientation[3:])


def planes_of(head: DicomHead) -> list[PlaneRecord]:
    """Return a record per frame. Raises FormatError where an element makes no sense."""
    shared = head.data.item("SharedFunctionalGroupsSequence")
    groups = head.data.items("PerFrameFunctionalGroupsSequence")
    count = head.layout.frames
    if groups and len(groups) != count:
        raise FormatError(
            f"{head.name}: {len(groups)} items of PerFrameFunctionalGroupsSequence (5200,9230) for "
            f"NumberOfFrames {count}"
        )
    planes = []
    steps = list(_steps(head)) if count > 1 and not groups else [None]
    for frame in range(count):
        own = _Groups(head.data, shared, groups[frame] if groups else None)
        step = steps[frame] if len(steps) == count else None
        planes.append(_plane(head, frame, own, step))
    return planes


class _Groups:
    """Looks an element up where it may stand: the frame's groups, the shared ones, the top."""

    def __init__(self, data: Dataset, shared: Dataset | None, own: Dataset | None) -> None:
        self.data, self.macros = data, [one for one in (own, shared) if one is not None]
        self.detector = data.item("DetectorInformationSequence")

    def holder(self, keyword: str, group: str) -> Dataset | None:
        """Return the data set that has an element; ``group`` is the sequence it may stand in."""
        for macro in self.macros if group else ():
            item = macro.item(group)
            if item is not None and keyword in item:
                return item
        if keyword in self.data:
            return self.data
        there = self.detector is not None and keyword in self.detector
        return self.detector if there else None

    def numbers(self, keyword: str, group: str, count: int) -> tuple[float, ...] | None:
        """Return so many numbers, or None. Raises FormatError for others."""
        holder = self.holder(keyword, group)
        values = [] if holder is None else holder.values(keyword)
        if not values:
            return None
        if len(values) != count or not all(map(math.isfinite, values)):
            raise FormatError(f"{self.data.name}: {keyword} has {values}; expected {count} numbers")
        return tuple(map(float, values))


def _plane(head: DicomHead, frame: int, groups: _Groups, step: F64 | None) -> PlaneRecord:
    position = groups.numbers("ImagePositionPatient", "PlanePositionSequence", 3)
    orientation = groups.numbers("ImageOrientationPatient", "PlaneOrientationSequence", 6)
    if orientation is not None:
        _check_directions(head.name, orientation)
    if position is not None and step is not None:
        position = tuple((np.asarray(position) + step).tolist())
    elif position is not None and head.layout.frames > 1 and not groups.macros:
        position = None  # the first frame's alone
    spacing = groups.numbers("PixelSpacing", "PixelMeasuresSequence", 2)
    if spacing is None:
        spacing = ultrasound_spacing(head.data)
    if spacing is not None and min(spacing) <= 0:
        raise FormatError(f"{head.name}: PixelSpacing (0028,0030) is {spacing[0]:g}\\{spacing[1]:g}"
                          "; expected lengths above 0")  # fmt: skip
    thickness = (groups.numbers("SpacingBetweenSlices", "PixelMeasuresSequence", 1)
                 or groups.numbers("SliceThickness", "PixelMeasuresSequence", 1))  # fmt: skip
    slope = groups.numbers("RescaleSlope", "PixelValueTransformationSequence", 1)
    intercept = groups.numbers("RescaleIntercept", "PixelValueTransformationSequence", 1)
    if slope is None:
        slope = groups.numbers("DoseGridScaling", "", 1)
    if slope == (0.0,):
        raise FormatError(f"{head.name}: RescaleSlope (0028,1053) is 0: every value would be one")
    return PlaneRecord(
        head, frame, position, orientation, None if spacing is None else (spacing[0], spacing[1]),
        None if thickness is None else abs(thickness[0]) or None,
        ((slope or (1.0,))[0], (intercept or (0.0,))[0]), _keys(groups),
        head.data.count("InstanceNumber"), f"{head.data.text('SOPInstanceUID')} {frame}",
    )  # fmt: skip


def ultrasound_spacing(data: Dataset) -> tuple[float, float] | None:
    """Return the millimetres between rows and columns that regions of ultrasound tell (C.8.5.5).

    Of regions that measure lengths both ways, where all say the same; None else.
    """
    found = {
        (abs(one.number("PhysicalDeltaY", 0.0)) * 10, abs(one.number("PhysicalDeltaX", 0.0)) * 10)
        for one in data.items("SequenceOfUltrasoundRegions")
        if one.number("PhysicalUnitsXDirection") == one.number("PhysicalUnitsYDirection") == _CM
    }
    spacing = found.pop() if len(found) == 1 else (0.0, 0.0)
    return spacing if min(spacing) > 0 else None


def _check_directions(name: str, orientation: tuple[float, ...]) -> None:
    row, column = orientation[:3], orientation[3:]
    lengths = (math.hypot(*row), math.hypot(*column))
    along = sum(a * b for a, b in zip(row, column, strict=True))
    if abs(along) > 1e-2 or max(abs(length - 1) for length in lengths) > 1e-2:
        raise FormatError(
            f"{name}: ImageOrientationPatient (0020,0037) is {orientation}; expected two "
            "directions of length 1 at a right angle"
        )


def _keys(groups: _Groups) -> tuple[float | str | None, ...]:
    keys: list[float | str | None] = []
    for keyword, group, _ in KEYS:
        holder = groups.holder(keyword, group)
        values = [] if holder is None else holder.values(keyword)
        keys.append(values[0] if values else None)
    return tuple(keys)


def _steps(head: DicomHead) -> Iterator[F64]:
    """Yield each frame's way from the first, where one element tells it for all.

    ``GridFrameOffsetVector`` of doses (C.8.8.3), or ``SpacingBetweenSlices`` of reconstructed
    nuclear medicine (C.8.4.15).
    """
    groups = _Groups(head.data, None, None)
    orientation = groups.numbers("ImageOrientationPatient", "", 6)
    if orientation is None:
        return
    normal = np.cross(orientation[:3], orientation[3:])
    offsets = head.data.values("GridFrameOffsetVector")
    gap = head.data.number("SpacingBetweenSlices")
    if not offsets and gap is not None and not head.data.values("FrameIncrementPointer")[1:]:
        offsets = [gap * k for k in range(head.layout.frames)]
    if len(offsets) == head.layout.frames:
        for offset in offsets:
            yield normal * (offset - (offsets[0] if abs(offsets[0]) > 1e-6 else 0.0))
