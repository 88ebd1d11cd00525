"""Segmentation objects as labels: binary and fractional, with names and colours (PS3.3 C.8.20)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.volumes import VolumeSource
from spectrane.formats.dicom.arranging import EVEN, affine_of
from spectrane.formats.dicom.elements import Dataset
from spectrane.formats.dicom.frames import Frames
from spectrane.formats.dicom.identity import identifying
from spectrane.formats.dicom.meaning import dicom_metadata
from spectrane.formats.dicom.planes import KEYS, PlaneRecord
from spectrane.kernels.oklab import encoded
from spectrane.model.band import Band
from spectrane.model.errors import FormatError
from spectrane.model.grid import Grid
from spectrane.model.labels import BACKGROUND, label_classes
from spectrane.model.look import Class, Look
from spectrane.model.pixels import Pixels
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, extent

_NUMBER = next(k for k, key in enumerate(KEYS) if key[0] == "ReferencedSegmentNumber")
_HALF = 0.5
"""A voxel is of the segment that holds most of it, where that is at least a half."""
_MOST_SEGMENTS, _MOST_GAPS = 65535, 20_000
_WHITE_50 = np.array([0.96422, 1.0, 0.82521])
_TO_LIGHT = np.array([  # CIE XYZ under D50 to linear sRGB, adapted by Bradford's method
    [3.1338561, -1.6168667, -0.4906146], [-0.9787684, 1.9161415, 0.0334540],
    [0.0719453, -0.2289914, 1.4052427],
])  # fmt: skip


def is_segmentation(data: Dataset) -> bool:
    """Tell whether a file's frames are segments."""
    return data.text("Modality") == "SEG" and bool(data.items("SegmentSequence"))


class Segmentation(VolumeSource):
    """Segments as one volume of labels, by their numbers; 0 is where none is.

    Planes without a frame hold nothing of a segment. Where segments overlap the one with the higher
    number is there, which is warned of when it is met.
    """

    of_file = True

    format = "DICOM"

    def __init__(self, planes: Sequence[PlaneRecord], name: str) -> None:
        first = planes[0]
        head, self.name = first.head, name
        segments = head.data.items("SegmentSequence")
        self.fractional = head.data.text("SegmentationType") == "FRACTIONAL"
        self.top = float(head.data.number("MaximumFractionalValue", 255) or 255)
        classes = _classes(segments, name)
        numbers = [int(value) for value in classes]
        self.dtype = np.dtype(np.uint8 if max(numbers) < 256 else np.uint16)
        self.bands = (Band("segments"),)
        self.look, self.coded = Look(classes=classes), True
        self._at, step, lowest = _places(planes, set(numbers), name)
        layout = head.layout
        affine = affine_of(lowest, step)
        shape = (layout.columns, layout.rows, len(self._at))
        self.grid = Grid(shape, tuple(map(tuple, affine.tolist())), placed=True)
        self.block_shape = (layout.columns, layout.rows, 1)
        told = dicom_metadata(head.data)
        self.identity = identifying(told)
        kind = f"fractions of {self.top:g} at least a half" if self.fractional else "binary"
        self.metadata = {
            **told, "compression": head.packing, "segments": f"{len(numbers)}, {kind}",
            "placed by": "ImagePositionPatient and ImageOrientationPatient",
        }  # fmt: skip
        self._frames = Frames(head)
        self._warned = False

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window, plane by plane."""
        columns, rows, (first, last) = window
        out = np.zeros((extent(window)[1], extent(window)[0], last - first), self.dtype)
        for k in range(first, last):
            self._fill(out[..., k - first], self._at[k], rows, columns)
        values = out.transpose(1, 0, 2)[np.newaxis]
        return Pixels(np.repeat(values, len(bands), axis=0))

    def _fill(
        self, out: NDArray[np.unsignedinteger], frames: Sequence[tuple[int, int]],
        rows: tuple[int, int], columns: tuple[int, int],
    ) -> None:  # fmt: skip
        most = np.zeros(out.shape, np.float32)
        for number, frame in frames:
            share = self._frames.read(frame, rows, columns)[0].astype(np.float32)
            share = share / self.top if self.fractional else (share > 0).astype(np.float32)
            held = share >= (np.maximum(most, _HALF))
            if not self._warned and not self.fractional and (held & (out > 0)).any():
                self._warned = True
                warn_caller(f"{self.name}: segments overlap; where they do the one with the higher "
                            "number is shown")  # fmt: skip
            out[held], most[held] = number, share[held]

    def close(self) -> None:
        """Let go of the file."""
        self._frames.head.file.close()


def _classes(segments: Sequence[Dataset], name: str) -> dict[float, Class]:
    """Return names and colours by the segments' numbers."""
    numbers = [int(one.number("SegmentNumber", k)) for k, one in enumerate(segments, 1)]
    if len(set(numbers)) < len(numbers) or min(numbers) < 1 or max(numbers) > _MOST_SEGMENTS:
        raise FormatError(f"{name}: SegmentNumber (0062,0004) has {numbers[:16]}; expected each "
                          "once, from 1 to 65535")  # fmt: skip
    called = {number: one.text("SegmentLabel") or str(number)
              for number, one in zip(numbers, segments, strict=True)}  # fmt: skip
    classes = label_classes(numbers, called)
    for number, one in zip(numbers, segments, strict=True):
        coded = one.values("RecommendedDisplayCIELabValue")
        if len(coded) == 3:
            classes[float(number)] = (srgb_of(coded), classes[float(number)][1])
    return {0.0: BACKGROUND, **classes}


def srgb_of(coded: Sequence[int]) -> str:
    """Return the colour of a CIELab value as it is stored (C.10.7.1.1): L, a, b of 16 bits, D50.

    >>> srgb_of([65535, 32896, 32896])
    '#ffffff'
    """
    lightness, a, b = (float(one) / 65535.0 for one in coded)
    y = (100 * lightness + 16) / 116
    bent = np.array([y + (255 * a - 128) / 500, y, y - (255 * b - 128) / 200])
    xyz = np.where(bent > 6 / 29, bent**3, 3 * (6 / 29) ** 2 * (bent - 4 / 29)) * _WHITE_50
    levels = np.clip(np.round(encoded(np.clip(_TO_LIGHT @ xyz, 0, 1)) * 255), 0, 255).astype(int)
    return "#{:02x}{:02x}{:02x}".format(*levels.tolist())


def _places(
    planes: Sequence[PlaneRecord], numbers: set[int], name: str
) -> tuple[list[list[tuple[int, int]]], NDArray[np.float64], PlaneRecord]:
    """Return at each place of planes (segment, frame), in order; the step between places (LPS), and
    the lowest plane.
    """
    lost = next((one for one in planes if one.position is None or one.orientation is None), None)
    if lost is not None:
        raise FormatError(f"{lost.name}: ImagePositionPatient or ImageOrientationPatient is "
                          "missing; segments lie nowhere without them")  # fmt: skip
    normal = planes[0].normal / np.linalg.norm(planes[0].normal)
    depths = np.array([np.asarray(plane.position) @ normal for plane in planes])
    apart = np.diff(np.unique(np.round(depths, 4)))
    least = float(apart.min()) if apart.size else 1.0
    for gap in (planes[0].thickness or least, least):  # a thickness may not fit where planes lie
        index = (depths - depths.min()) / gap
        if np.abs(index - np.round(index)).max() <= 10 * EVEN and index.max() <= _MOST_GAPS:
            break
    else:
        raise FormatError(f"{name}: the frames of segments are not evenly spaced: gaps from "
                          f"{least:.6g} to {apart.max(initial=least):.6g} mm")  # fmt: skip
    at: list[list[tuple[int, int]]] = [[] for _ in range(int(np.round(index.max())) + 1)]
    for plane, k in zip(planes, np.round(index).astype(int).tolist(), strict=True):
        number = plane.keys[_NUMBER]
        if not isinstance(number, int | float) or int(number) not in numbers:
            raise FormatError(f"{plane.name}: ReferencedSegmentNumber (0062,000B) is {number}; "
                              f"expected one of {sorted(numbers)[:16]}")  # fmt: skip
        at[k].append((int(number), plane.frame))
    lowest = planes[int(np.argmin(depths))]
    return [sorted(one) for one in at], normal * gap, lowest
