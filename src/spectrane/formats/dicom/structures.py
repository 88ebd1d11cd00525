"""Structure sets: outlines in patient millimetres (PS3.3 C.8.8.5, C.8.8.6), seen on every plane.

Outlines are closed polygons in parallel planes. They open as labels on voxels of their own, filled
plane by plane by the even-odd rule, so that any plane cuts them; what lies over anatomy draws their
edges.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.volumes import VolumeSource
from spectrane.formats.dicom.dictionary import TAGS
from spectrane.formats.dicom.elements import Dataset
from spectrane.formats.dicom.identity import identifying
from spectrane.formats.dicom.meaning import dicom_metadata
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.errors import FormatError
from spectrane.model.grid import Grid
from spectrane.model.labels import BACKGROUND, label_classes
from spectrane.model.look import Class, Look
from spectrane.model.pixels import Pixels
from spectrane.model.window import Window, extent

F64 = NDArray[np.float64]
_ALONG, _FINEST = 768, 0.25
"""Voxels along the longer side of all outlines, about, and the finest side in mm."""
_FLAT = 0.05
"""Millimetres that an outline's points may lie apart across its plane."""
_MOST_PLANES, _MOST_NUMBERS = 20_000, 65_535


@record(frozen=True)
class Outlined:
    """One structure: its number, its name and colour, its polygons (points, 3) in RAS+ mm."""

    number: int
    name: str
    color: str | None
    polygons: tuple[F64, ...]


def is_structure_set(data: Dataset) -> bool:
    """Tell whether a file holds structures' outlines."""
    return data.text("Modality") == "RTSTRUCT" or bool(data.items("ROIContourSequence"))


def structures_in(data: Dataset, file: ByteFile) -> list[Outlined]:
    """Return the structures that have closed outlines. Raises FormatError for broken ones."""
    names = {one.count("ROINumber"): one.text("ROIName")
             for one in data.items("StructureSetROISequence")}  # fmt: skip
    found = []
    for item in data.items("ROIContourSequence"):
        number = item.count("ReferencedROINumber")
        if not 0 < number <= _MOST_NUMBERS:
            raise FormatError(f"{file.name}: ReferencedROINumber (3006,0084) is {number}; expected "
                              f"1 to {_MOST_NUMBERS}")  # fmt: skip
        polygons = [_polygon(one, file) for one in item.items("ContourSequence")
                    if one.text("ContourGeometricType") == "CLOSED_PLANAR"]  # fmt: skip
        if not polygons:
            continue
        levels = item.values("ROIDisplayColor")
        told = len(levels) == 3 and all(0 <= one <= 255 for one in levels)
        color = "#{:02x}{:02x}{:02x}".format(*levels) if told else None
        found.append(Outlined(number, names.get(number) or str(number), color, tuple(polygons)))
    return found


def _polygon(item: Dataset, file: ByteFile) -> F64:
    """Return the points of an outline, brought from LPS to RAS+."""
    element = item.elements.get(TAGS["ContourData"])
    raw = b"" if element is None else element.data
    if element is not None and not raw:  # long ones are not held
        raw = file.read(element.offset, element.length)
    try:
        numbers = np.array(raw.decode("latin_1").strip(" \0").split("\\"), np.float64)
    except ValueError as error:
        raise FormatError(f"{file.name}: ContourData (3006,0050) holds what is no number") from (
            error)  # fmt: skip
    if numbers.size < 9 or numbers.size % 3 or not np.isfinite(numbers).all():
        raise FormatError(f"{file.name}: ContourData (3006,0050) has {numbers.size} numbers; "
                          "expected x, y, z of three points or more")  # fmt: skip
    return np.asarray(numbers.reshape(-1, 3) * (-1.0, -1.0, 1.0))


class StructureSet(VolumeSource):
    """Structures as labels by their numbers; of several at a place the smallest is there."""

    of_file = True

    format = "DICOM"

    outlined = True

    def __init__(self, data: Dataset, file: ByteFile) -> None:
        self.name, self._file = file.name, file
        found = structures_in(data, file)
        if not found:
            raise FormatError(f"{file.name}: a structure set without closed outlines: nothing to "
                              "show")  # fmt: skip
        numbers = [one.number for one in found]
        self.dtype = np.dtype(np.uint8 if max(numbers) < 256 else np.uint16)
        self.bands = (Band("structures"),)
        self.look, self.coded = Look(classes=_classes(found)), True
        self.across = _across(found, file.name)
        self._planes, self.grid, self._side, self._first = self._laid(found, file.name)
        i, j, _ = self.grid.shape
        self.block_shape = (i, j, 1)
        told = dicom_metadata(data)
        told.pop("ROIContourSequence", None)
        self.identity = identifying(told)
        self.metadata = {**told, "structures": len(found), "placed by": "ContourData"}

    def _laid(
        self, found: Sequence[Outlined], name: str
    ) -> tuple[list[list[tuple[int, list[F64]]]], Grid, float, F64]:
        """Return the polygons of each plane, the voxels' grid, their side, and the first's place.

        Larger structures come first, so that smaller ones are painted over them.
        """
        along = [axis for axis in range(3) if axis != self.across]
        every = np.concatenate([points for one in found for points in one.polygons])
        low, high = every.min(axis=0), every.max(axis=0)
        side = max(_FINEST, float((high - low)[along].max()) / _ALONG)
        depths = np.array([points[:, self.across].mean() for one in found
                           for points in one.polygons])  # fmt: skip
        gaps = np.diff(np.unique(np.round(depths, 2)))
        gap = float(np.median(gaps)) if gaps.size else 1.0
        planes = round(float(depths.max() - depths.min()) / gap) + 1
        if planes > _MOST_PLANES:
            raise FormatError(f"{name}: outlines reach over {planes} planes of {gap:g} mm")
        shape = [0, 0, 0]
        origin = low - 2 * side
        origin[self.across] = depths.min()
        for axis in along:
            shape[axis] = int(np.ceil((high[axis] - low[axis]) / side)) + 5
        shape[self.across] = planes
        spacing = [side, side, side]
        spacing[self.across] = gap
        order = [*along, self.across]
        matrix = np.eye(4)
        for column, axis in enumerate(order):
            matrix[:3, column] = np.eye(3)[axis] * spacing[axis]
        matrix[:3, 3] = origin
        grid = Grid(tuple(shape[axis] for axis in order), tuple(map(tuple, matrix.tolist())),
                    placed=True)  # fmt: skip
        at: list[list[tuple[int, list[F64]]]] = [[] for _ in range(planes)]
        for one in sorted(found, key=lambda one: -sum(map(_area, _flat(one.polygons, along)))):
            here: dict[int, list[F64]] = {}
            for points, flat in zip(one.polygons, _flat(one.polygons, along), strict=True):
                k = round((float(points[:, self.across].mean()) - origin[self.across]) / gap)
                here.setdefault(k, []).append(flat)
            for k, polygons in here.items():
                at[k].append((one.number, polygons))
        return at, grid, side, origin[along]

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window, plane by plane."""
        (left, right), (top, bottom), (first, last) = window
        out = np.zeros(extent(window), self.dtype)
        for k in range(first, last):
            for number, polygons in self._planes[k]:
                inside = _filled(polygons, self._first, self._side, self.grid.shape[:2])
                out[..., k - first][inside[left:right, top:bottom]] = number
        return Pixels(np.repeat(out[np.newaxis], len(bands), axis=0))

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()


def _across(found: Sequence[Outlined], name: str) -> int:
    """Return the patient's axis that all outlines are square to."""
    spread = np.max([np.ptp(points, axis=0) for one in found for points in one.polygons], axis=0)
    across = int(np.argmin(spread))
    if spread[across] > _FLAT:
        raise FormatError(f"{name}: outlines lie in no planes square to one of the patient's axes "
                          f"(their points spread over {spread.round(2).tolist()} mm)")  # fmt: skip
    return across


def _classes(found: Sequence[Outlined]) -> dict[float, Class]:
    plain = label_classes([one.number for one in found], {one.number: one.name for one in found})
    own = {float(one.number): (one.color, one.name) for one in found if one.color is not None}
    return {0.0: BACKGROUND, **plain, **own}


def _flat(polygons: Sequence[F64], along: list[int]) -> list[F64]:
    return [points[:, along] for points in polygons]


def _area(flat: F64) -> float:
    x, y = flat.T
    return abs(float(x @ np.roll(y, 1) - y @ np.roll(x, 1))) / 2


def _filled(
    polygons: Sequence[F64], first: F64, side: float, shape: tuple[int, ...]
) -> NDArray[np.bool_]:
    """Return which pixels' centres lie in polygons (mm), by the even-odd rule.

    >>> square = np.array([[0.6, 0.6], [2.6, 0.6], [2.6, 2.6], [0.6, 2.6]])
    >>> _filled([square], np.zeros(2), 1.0, (4, 4)).astype(int).tolist()
    [[0, 0, 0, 0], [0, 1, 1, 0], [0, 1, 1, 0], [0, 0, 0, 0]]
    """
    turned = np.zeros((shape[0] + 1, shape[1]), np.uint8)
    for points in polygons:
        u, v = ((points - first) / side).T
        for a, b, c, d in zip(u, v, np.roll(u, -1), np.roll(v, -1), strict=True):
            low, high = (int(np.ceil(min(b, d))), int(np.ceil(max(b, d))))
            columns = np.arange(max(low, 0), min(high, shape[1]))
            if columns.size:
                crossing = a + (columns - b) * (c - a) / (d - b)
                rows = np.clip(np.ceil(crossing), 0, shape[0]).astype(int)
                turned[rows, columns] ^= 1
    return np.asarray(np.logical_xor.accumulate(turned, axis=0)[:-1], bool)
