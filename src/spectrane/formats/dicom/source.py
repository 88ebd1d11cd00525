"""A DICOM image as a raster, a series or an image of many frames as a volume."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.damage import Damaged
from spectrane.engine.full import FullSource
from spectrane.engine.threads import in_parallel
from spectrane.engine.volumes import VolumeSource
from spectrane.formats.dicom.arranging import Arrangement
from spectrane.formats.dicom.elements import Dataset
from spectrane.formats.dicom.folder import MODALITIES
from spectrane.formats.dicom.frames import Frames
from spectrane.formats.dicom.identity import identifying
from spectrane.formats.dicom.meaning import DicomMeaning, dicom_metadata, meaning_of, overlays_of
from spectrane.formats.dicom.planes import PlaneRecord
from spectrane.model.grid import IMAGE_PLANE, Grid
from spectrane.model.pixels import Pixels
from spectrane.model.uptake import ACQUIRED
from spectrane.model.window import Window, extent

FORMAT = "DICOM"
_BLOCK_BYTES = 4 << 20


class DicomImage(FullSource):
    """One image of two dimensions; its grid is in millimetres of its plane."""

    of_file = True

    format = FORMAT

    def __init__(self, plane: PlaneRecord) -> None:
        head = plane.head
        self.plane, self.name = plane, head.name
        self.meaning = meaning_of([plane], [_modality(head.data) or "grey"])
        _take_meaning(self, self.meaning, [plane])
        self.grid, told = _plane_grid(plane)
        self.axes = (*told, *_sides(plane))
        self.block_shape = self.grid.shape
        self._frames = Frames(head)
        self.damaged = Damaged(self.name, 1, "frame")

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the file; packed images are unpacked once and kept for a while."""
        found = _attempted(self, self._frames, self.plane, window)
        if found is None:
            nothing = np.zeros((len(bands), *extent(window)), self.dtype)
            return Pixels(nothing, mask=np.zeros((1, 1, 1), bool))
        values, valid = found
        picked = list(bands) if len(values) > 1 else [0]
        rules = [self.bands[band].rule for band in bands]
        return Pixels(values[picked], mask=valid, rules=rules)

    def close(self) -> None:
        """Let go of the file."""
        self.plane.head.file.close()


class DicomVolume(VolumeSource):
    """Planes in order as a volume: frames are bands; colours are three bands."""

    of_file = True

    format = FORMAT

    def __init__(self, arrangement: Arrangement, name: str) -> None:
        self.arrangement, self.name = arrangement, name
        planes = arrangement.planes
        first = planes[0][0].head
        every = [one for frame in planes for one in frame]
        names = [text or _modality(first.data) or "frame 1" for text in arrangement.names]
        self.meaning = meaning_of(every, names)
        _take_meaning(self, self.meaning, every)
        times = arrangement.times or []
        if len(times) == len(self.bands) > 1:
            self.bands = tuple(replace(band, time=time)
                               for band, time in zip(self.bands, times, strict=True))  # fmt: skip
        layout = first.layout
        matrix = tuple(map(tuple, arrangement.affine.tolist()))
        placed = planes[0][0].position is not None
        self.grid = Grid((layout.columns, layout.rows, len(planes[0])), matrix, placed=placed)
        self.metadata = {**self.metadata, "placed by": arrangement.placed_by,
                         "files": len({plane.head.name for plane in every})}  # fmt: skip
        began = _began(every) if first.data.text("Modality") == "PT" else None
        if began is not None:
            self.metadata[ACQUIRED] = began
            self.identity = (*self.identity, ACQUIRED)
        frame = layout.rows * layout.columns * self.dtype.itemsize
        deep = max(1, min(len(planes[0]), _BLOCK_BYTES // max(1, frame)))
        self.block_shape = (layout.columns, layout.rows, deep)
        self._readers: dict[str, Frames] = {}
        self.damaged = Damaged(name, len(every), "frames")

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window of some frames, in the order of the files, never turned in memory."""
        columns, rows, (first, last) = window
        wide, high, deep = extent(window)
        colored = self.meaning.bands[0].role == "red"
        out = np.empty((len(bands), deep, high, wide), self.dtype)
        kept = self.arrangement.planes[0][0].head.file.keeps_damaged
        mask = np.ones(out.shape, bool) if self.meaning.masked or kept else None

        def take(job: tuple[int, int]) -> None:
            number, k = job
            plane = self.arrangement.planes[0 if colored else bands[number]][first + k]
            here = _attempted(self, self._reader(plane), plane, (rows, columns))
            if here is None:
                every = slice(None) if colored else number
                out[every, k], mask[every, k] = 0, False  # type: ignore[index]
                return
            values, valid = here
            if colored:
                out[:, k] = values[list(bands)]
            else:
                out[number, k] = values[0]
            if mask is not None and valid is not None:
                mask[number, k] = valid[0]

        jobs = [(n, k) for n in range(1 if colored else len(bands)) for k in range(last - first)]
        packed = self.arrangement.planes[0][0].head.encapsulated
        in_parallel(jobs, lambda: take, threads=None if packed else 1)
        self.damaged.tell()
        return Pixels(
            out.transpose(0, 3, 2, 1), mask=None if mask is None else mask.transpose(0, 3, 2, 1),
            rules=[self.bands[band].rule for band in bands],
        )  # fmt: skip

    def _reader(self, plane: PlaneRecord) -> Frames:
        frames = self._readers.get(plane.head.name)
        if frames is None:
            frames = self._readers[plane.head.name] = Frames(plane.head)
        return frames

    def close(self) -> None:
        """Let go of the files."""
        for frame in self.arrangement.planes:
            for plane in frame:
                plane.head.file.close()

    def __getstate__(self) -> dict[str, Any]:
        return {**vars(self), "_readers": {}}


def _attempted(
    source: Any, frames: Frames, plane: PlaneRecord, window: Window
) -> tuple[NDArray[Any], NDArray[np.bool_] | None] | None:
    """Return a plane's values and validity; None where it is damaged and that is no error."""
    rows, columns = window
    if not plane.head.file.keeps_damaged:
        found: tuple[NDArray[Any], Any] = source.meaning.values(frames, plane, rows, columns)
        return found
    kept: tuple[NDArray[Any], Any] | None = source.damaged.attempt(
        (plane.head.name, plane.frame), source.meaning.values, frames, plane, rows, columns
    )
    if len(source.shape) == 2:
        source.damaged.tell()
    return kept


def _take_meaning(source: Any, meaning: DicomMeaning, planes: Sequence[PlaneRecord]) -> None:
    """Set what rasters and volumes have alike."""
    head = planes[0].head
    source.dtype, source.bands = meaning.dtype, meaning.bands
    source.look, source.windows = meaning.look, meaning.windows
    source.has_mask = meaning.masked
    told = dicom_metadata(head.data)
    source.identity = identifying(told)
    extra: dict[str, Any] = {"compression": head.packing, "bits": head.layout.stored}
    if meaning.lookup is not None:
        extra["modality LUT"] = "applied on reading: its output stands for the stored numbers"
        extra["bits"] = meaning.lookup.bits
    if meaning.rescaled:
        extra["rescale"] = "differs from slice to slice: physical values are read"
        extra["bits"] = 32
    real = planes[len(planes) // 2].real
    if real is not None:
        called = f" {real.label}" if real.label else ""
        extra["real values"] = f"by a map to real values{called}, in place of the rescale"
    overlays = overlays_of(head.data)
    if overlays:
        extra["overlays"] = overlays
    source.metadata = {**told, **extra}


def _modality(data: Dataset) -> str:
    said = data.text("Modality")
    return said if said in MODALITIES else ""


def _began(planes: Sequence[PlaneRecord]) -> str | None:
    """Return when the earliest plane was acquired, as a DICOM date and time; None where untold."""
    told = [
        f"{plane.head.data.text('AcquisitionDate')}{plane.head.data.text('AcquisitionTime')}"
        for plane in planes
        if plane.head.data.text("AcquisitionDate") and plane.head.data.text("AcquisitionTime")
    ]
    return min(told) if len(told) == len(planes) else None


def _plane_grid(plane: PlaneRecord) -> tuple[Grid, list[str]]:
    """Return the grid of one image: x along its rows, y down its columns, in mm; and what to tell.

    Where the image has a place, x and y are the patient's (LPS) along those directions, so that
    two images of one orientation agree.
    """
    data, layout = plane.head.data, plane.head.layout
    told = []
    spacing = plane.spacing
    for keyword, where in (("ImagerPixelSpacing", "at the detector, not in the patient"),
                           ("NominalScannedPixelSpacing", "of the scanned sheet")):  # fmt: skip
        values = data.values(keyword)
        if spacing is None and len(values) == 2 and min(values) > 0:
            spacing = (values[0], values[1])
            told.append(f"millimetres are {where} ({keyword})")
    if spacing is None:
        return Grid((layout.rows, layout.columns)), told
    down, across = spacing
    x = y = 0.0
    if plane.position is not None and plane.orientation is not None:
        place = np.asarray(plane.position)
        x = float(place @ plane.orientation[:3]) - across / 2
        y = float(place @ plane.orientation[3:]) - down / 2
    affine = ((across, 0.0, x), (0.0, down, y), (0.0, 0.0, 1.0))
    shape = (layout.rows, layout.columns)
    grid = Grid(shape, affine, placed=True, crs_name=IMAGE_PLANE, plane=_plane_key(plane))
    return grid, told


def _plane_key(plane: PlaneRecord) -> tuple[str, ...] | None:
    """Return what images have in common whose millimetres mean one place: the frame of reference,
    the directions, and how far along the normal they lie (to a hundredth of a millimetre).
    """
    frame = plane.head.data.text("FrameOfReferenceUID")
    if not frame or plane.position is None or plane.orientation is None:
        return None
    directions = " ".join(f"{one + 0.0:.3f}" for one in plane.orientation)
    return frame, directions, f"{float(np.dot(plane.normal, plane.position)):.2f}"


def _sides(plane: PlaneRecord) -> list[str]:
    """Say which way rows and columns run, in the patient's letters."""
    said = [str(one) for one in plane.head.data.values("PatientOrientation")]
    if plane.orientation is not None:
        said = [_letters(np.asarray(plane.orientation[k : k + 3])) for k in (0, 3)]
    return [f"columns run to {said[0]}, rows to {said[1]}"] if len(said) == 2 else []


def _letters(direction: NDArray[np.float64]) -> str:
    """Return the patient's sides a direction (LPS) runs to, the strongest first (C.7.6.1.1.1)."""
    order = sorted(range(3), key=lambda k: -abs(direction[k]))
    pairs = ("RL", "AP", "FH")
    return "".join(pairs[k][int(direction[k] > 0)] for k in order if abs(direction[k]) > 0.05)
