"""More of the joint's study: a second visit, an uptake, segments, outlines, and a cine.

All made from the same joint, so that bones lie at the same millimetres in all but the second visit,
when the horse stood a little otherwise.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.random import default_rng
from numpy.typing import NDArray

from spectrane.demo.fetlock import _cannon, _pastern, joint, voxel_positions
from spectrane.demo.series import Value, dicom_file
from spectrane.model.frame import Frame
from spectrane.model.whole_files import check_target, written_whole
from spectrane.opening import volume_from_array
from spectrane.volume import Volume

F64 = NDArray[np.float64]
_UID = "2.25.20260301"
BONES = {1: ("cannon bone", _cannon), 2: ("pastern", _pastern)}
DOSE, WEIGHT, HALF_LIFE = 296e6, 512.0, 6586.2
"""Of the uptake: becquerel, kilograms, seconds of fluorine-18."""
_OUTLINED = 0.05


def second_visit(seed: int) -> Volume:
    """Return the joint of another day: coarser, turned by 4.4 degrees and moved by some mm, the
    bone denser where it was loaded.
    """
    from scipy.spatial.transform import Rotation

    turn = Rotation.from_rotvec((2.0, -1.5, 3.6), degrees=True).as_matrix()
    shape, side = (66, 72, 58), 1.2
    affine = np.diag([-side, side, 2.0, 1.0])
    affine[:3, 3] = -affine[:3, :3] @ ((np.array(shape) - 1) / 2) + (0, -3, 0)
    x, y, z = voxel_positions(affine, shape)
    there = np.stack([x - 2.5, y + 1.8, z - 3.1]).reshape(3, -1)
    x, y, z = (turn.T @ there).reshape(3, *shape)
    values = joint(x, y, z)
    loaded = 90 * np.exp(-(((x - 12) / 8) ** 2 + (y / 11) ** 2 + ((z - 9) / 9) ** 2))
    values = values + loaded * (values > 200) + default_rng(seed + 5).normal(0, 24, shape)
    stored = np.clip(np.round(values), -1024, 3071).astype(np.int16)
    return volume_from_array(stored, affine=affine, frames=[Frame("attenuation", "HU")])


def write_uptake(folder: Path, seed: int, overwrite: bool) -> int:
    """Write an uptake of the joint as a PET series, each slice with a slope of its own."""
    from scipy.ndimage import gaussian_filter

    folder.mkdir(parents=True, exist_ok=True)
    shape, side, gap = (44, 48, 30), 2.0, 3.2
    affine = np.diag([-side, -side, gap, 1.0])
    affine[:3, 3] = (side * 21.5, side * 23.5 - 3, -gap * 14.5)
    x, y, z = voxel_positions(affine, shape)
    density = joint(x, y, z)
    activity = np.where(density > -500, 1500.0, 0.0) + np.where(density > 250, 1300.0, 0.0)
    activity += 23_000 * np.exp(-(((x - 12) ** 2 + y**2 + (z - 9) ** 2) / (2 * 3.6**2)))
    activity = gaussian_filter(activity, (1.1, 1.1, 0.7))
    activity = np.maximum(activity + default_rng(seed + 6).normal(0, 90, shape), 0)
    for k in range(shape[2]):
        plane = activity[:, :, k].T
        slope = float(plane.max()) / 32_000
        stored = np.round(plane / slope).astype("<i2")
        place = affine @ (0, 0, k, 1)
        path = folder / f"U{k + 1:03}"
        check_target(str(path), overwrite=overwrite)
        with written_whole(path, overwrite=overwrite) as file:
            file.write(dicom_file({
                **_image("1.2.840.10008.5.1.4.1.1.128", f"4.{k + 1}", "PT", 16, 15, 1),
                "SeriesInstanceUID": f"{_UID}.4", "SeriesNumber": "4",
                "InstanceNumber": str(k + 1), "FrameOfReferenceUID": "2.25.20260101.3",
                "AcquisitionDate": "20260302", "AcquisitionTime": "101500",
                "PatientWeight": f"{WEIGHT:g}", "Units": "BQML", "DecayCorrection": "START",
                "CorrectedImage": "DECY\\ATTN\\SCAT", "RadiopharmaceuticalInformationSequence": [{
                    "RadiopharmaceuticalStartTime": "091200",
                    "RadionuclideTotalDose": f"{DOSE:g}", "RadionuclideHalfLife": f"{HALF_LIFE:g}",
                }],
                "ImagePositionPatient": _text(place[:3] * (-1, -1, 1)),
                "ImageOrientationPatient": "1\\0\\0\\0\\1\\0", "SliceThickness": f"{gap:g}",
                "PixelSpacing": f"{side:g}\\{side:g}", "Rows": shape[1], "Columns": shape[0],
                "RescaleSlope": f"{slope:.9g}", "RescaleIntercept": "0",
                "PixelData": stored.tobytes(),
            }))  # fmt: skip
    return shape[2]


def segmentation() -> bytes:
    """Return a DICOM segmentation of two bones: binary frames of the planes that hold any."""
    shape, side, gap = (56, 60, 48), 1.4, 2.4
    affine = np.diag([-side, -side, gap, 1.0])
    affine[:3, 3] = (side * 27.5, side * 29.5 - 3, -gap * 23.5)
    x, y, z = voxel_positions(affine, shape)
    frames: list[NDArray[np.bool_]] = []
    groups: list[dict[str, Value]] = []
    segments: list[dict[str, Value]] = []
    lab = {1: [55000, 33500, 40500], 2: [42000, 36500, 26000]}
    for number, (name, bone) in BONES.items():
        inside, _ = bone(x, _straight(y, z), z)
        segments.append({"SegmentNumber": number, "SegmentLabel": name,
                         "RecommendedDisplayCIELabValue": lab[number]})  # fmt: skip
        for k in np.flatnonzero(inside.any(axis=(0, 1))).tolist():
            place = affine @ (0, 0, k, 1)
            frames.append(inside[:, :, k].T)
            groups.append({
                "SegmentIdentificationSequence": [{"ReferencedSegmentNumber": number}],
                "PlanePositionSequence": [{
                    "ImagePositionPatient": _text(place[:3] * (-1, -1, 1))}],
            })  # fmt: skip
    packed = np.packbits(np.stack(frames).ravel(), bitorder="little").tobytes()
    shared: dict[str, Value] = {
        "PixelMeasuresSequence": [{"PixelSpacing": f"{side:g}\\{side:g}",
                                   "SliceThickness": f"{gap:g}"}],
        "PlaneOrientationSequence": [{"ImageOrientationPatient": "1\\0\\0\\0\\1\\0"}],
    }  # fmt: skip
    return dicom_file({
        **_image("1.2.840.10008.5.1.4.1.1.66.4", "5.1", "SEG", 1, 0, 0),
        "SeriesInstanceUID": f"{_UID}.5", "SeriesNumber": "5", "InstanceNumber": "1",
        "FrameOfReferenceUID": "2.25.20260101.3", "SegmentationType": "BINARY",
        "SegmentSequence": segments, "SharedFunctionalGroupsSequence": [shared],
        "PerFrameFunctionalGroupsSequence": groups, "NumberOfFrames": str(len(frames)),
        "Rows": shape[1], "Columns": shape[0], "PixelData": packed + b"\0" * (len(packed) % 2),
    })  # fmt: skip


def structure_set() -> bytes:
    """Return a DICOM structure set of the same bones: their outlines every 2.4 mm."""
    from contourpy import contour_generator

    across, deep = np.arange(-40, 40.01, 0.4), np.arange(-42, 40.01, 0.4)
    colors = {1: "214\\160\\60", 2: "60\\130\\200"}
    contours: list[dict[str, Value]] = []
    named: list[dict[str, Value]] = []
    for number, (name, bone) in BONES.items():
        outlines: list[dict[str, Value]] = []
        for z in np.arange(-56.4, 56.5, 2.4):
            x, y = np.meshgrid(across, deep)
            _, depth = bone(x, _straight(y, np.full(x.shape, z)), np.full(x.shape, z))
            for line in contour_generator(across, deep, depth).lines(0.0):
                flat: Any = np.asarray(line)
                if len(flat) < 12 or not np.allclose(flat[0], flat[-1], atol=_OUTLINED):
                    continue
                points = np.column_stack([-flat[:-1:2, 0], -flat[:-1:2, 1],
                                          np.full(len(flat[:-1:2]), z)])  # fmt: skip
                outlines.append({
                    "ContourGeometricType": "CLOSED_PLANAR",
                    "NumberOfContourPoints": str(len(points)),
                    "ContourData": "\\".join(f"{value:.2f}" for value in points.ravel()),
                })  # fmt: skip
        named.append({"ROINumber": str(number), "ROIName": name})
        contours.append({"ReferencedROINumber": str(number), "ROIDisplayColor": colors[number],
                         "ContourSequence": outlines})  # fmt: skip
    return dicom_file({
        "SOPClassUID": "1.2.840.10008.5.1.4.1.1.481.3", "SOPInstanceUID": f"{_UID}.6.1",
        "SpecificCharacterSet": "ISO_IR 192", "Modality": "RTSTRUCT",
        "SeriesInstanceUID": f"{_UID}.6", "SeriesNumber": "6", "StructureSetLabel": "BONES",
        "StructureSetROISequence": named, "ROIContourSequence": contours,
    })  # fmt: skip


def cine(seed: int) -> bytes:
    """Return a short ultrasound of the tendons behind the bone, gliding; calibrated, over time."""
    from scipy.ndimage import gaussian_filter, shift

    rows, columns, frames = 96, 128, 16
    random = default_rng(seed + 7)
    speckle = gaussian_filter(random.rayleigh(1.0, (rows, columns * 2)), (0.8, 1.6))
    fibres = gaussian_filter(random.rayleigh(1.0, (rows, columns * 2)), (0.5, 9.0))
    depth = np.arange(rows)[:, np.newaxis]
    pictures = []
    for frame in range(frames):
        glide = 9 * np.sin(2 * np.pi * frame / frames)
        tendon = shift(fibres, (0, glide), order=1, mode="wrap")[:, columns // 2 : -columns // 2]
        tissue = speckle[:, columns // 2 : -columns // 2]
        edge = 1 / (1 + np.exp(-(depth - 26) / 1.5)) - 1 / (1 + np.exp(-(depth - 52) / 1.5))
        picture = (1 - edge) * tissue * 60 + edge * tendon * 130
        picture = picture * np.exp(-depth / 90) + 190 * np.exp(-(((depth - 74) / 2.2) ** 2))
        pictures.append(np.clip(picture, 0, 255).astype(np.uint8))
    region: dict[str, Value] = {
        "RegionSpatialFormat": 1, "RegionDataType": 1, "RegionLocationMinX0": 0,
        "RegionLocationMinY0": 0, "RegionLocationMaxX1": columns - 1,
        "RegionLocationMaxY1": rows - 1, "PhysicalUnitsXDirection": 3,
        "PhysicalUnitsYDirection": 3, "PhysicalDeltaX": 0.03, "PhysicalDeltaY": 0.03,
    }  # fmt: skip
    return dicom_file({
        **_image("1.2.840.10008.5.1.4.1.1.3.1", "7.1", "US", 8, 7, 0),
        "SeriesInstanceUID": f"{_UID}.7", "SeriesNumber": "7", "InstanceNumber": "1",
        "SequenceOfUltrasoundRegions": [region], "FrameTime": "40", "NumberOfFrames": str(frames),
        "Rows": rows, "Columns": columns, "PixelData": np.stack(pictures).tobytes(),
    })  # fmt: skip


def _image(kind: str, instance: str, modality: str, bits: int, high: int, signed: int) -> Any:
    return {
        "SOPClassUID": kind, "SOPInstanceUID": f"{_UID}.{instance}", "Modality": modality,
        "SpecificCharacterSet": "ISO_IR 192", "StudyInstanceUID": f"{_UID}.2",
        "StudyDate": "20260302", "PatientName": "Tern^of Halse", "PatientID": "HS-0417",
        "SamplesPerPixel": 1, "PhotometricInterpretation": "MONOCHROME2", "BitsAllocated": bits,
        "BitsStored": bits, "HighBit": high, "PixelRepresentation": signed,
    }  # fmt: skip


def _straight(y: F64, z: F64) -> F64:
    """Return the joint's own depth at places: the leg bends below the joint."""
    return np.asarray(y - 0.0016 * np.minimum(z, 0) ** 2 + 4)


def _text(numbers: Any) -> str:
    return "\\".join(f"{value:.9g}" for value in numbers)
