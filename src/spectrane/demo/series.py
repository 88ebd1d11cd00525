"""The joint as a scanner leaves it: one file per slice, in no order, one twice, the gantry leaning.

The same voxels as ``fetlock.nii.gz`` where both have some, so that the two agree at every
millimetre. A small encoder by PS3.5 serves this folder alone.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, TypeAlias, cast

import numpy as np
from numpy.random import default_rng
from numpy.typing import NDArray

from spectrane.demo.fetlock import joint, voxel_positions
from spectrane.formats.dicom.dictionary import ELEMENTS, TAGS
from spectrane.formats.dicom.elements import LONG
from spectrane.model.whole_files import check_target, written_whole
from spectrane.volume import Volume

PADDING = -2000
"""What a stored number is where the leaning gantry saw beyond the scanned volume."""
_UID = "2.25.20260101"


Value: TypeAlias = "bytes | str | int | float | Sequence[int] | Sequence[Mapping[str, Value]]"


def dicom_element(keyword: str, value: Value) -> bytes:
    r"""Return one element in explicit VR, little-endian (PS3.5 section 7.1.2).

    >>> dicom_element("Rows", 120).hex(" ")
    '28 00 10 00 55 53 02 00 78 00'
    """
    tag = TAGS[keyword]
    representation = ELEMENTS[tag][0].replace("XS", "SS")
    if representation == "SQ":
        value = b"".join(map(_item, cast(Any, value)))
    elif isinstance(value, str):
        value = value.encode()
    elif not isinstance(value, bytes):
        numbers = cast(Any, value if isinstance(value, Sequence) else [value])
        code = {"US": "H", "SS": "h", "UL": "I", "FD": "d"}[representation]
        value = struct.pack(f"<{len(numbers)}{code}", *numbers)
    if len(value) % 2:
        value += b"\0" if representation in ("UI", "OB") else b" "
    head = struct.pack("<HH", tag >> 16, tag & 0xFFFF) + representation.encode()
    if representation in LONG:
        return head + struct.pack("<HI", 0, len(value)) + value
    return head + struct.pack("<H", len(value)) + value


def _item(elements: Mapping[str, Value]) -> bytes:
    """Return an item of a sequence (PS3.5 section 7.5)."""
    body = _body(elements)
    return struct.pack("<HHI", 0xFFFE, 0xE000, len(body)) + body


def _body(elements: Mapping[str, Value]) -> bytes:
    ordered = sorted(elements.items(), key=lambda one: TAGS[one[0]])
    return b"".join(dicom_element(keyword, value) for keyword, value in ordered)


def dicom_file(elements: Mapping[str, Value]) -> bytes:
    """Return a whole file (PS3.10 section 7.1): preamble, meta information, elements by tag."""
    meta = dicom_element("FileMetaInformationVersion", b"\0\1")
    meta += dicom_element("MediaStorageSOPClassUID", str(elements["SOPClassUID"]))
    meta += dicom_element("MediaStorageSOPInstanceUID", str(elements["SOPInstanceUID"]))
    meta += dicom_element("TransferSyntaxUID", "1.2.840.10008.1.2.1")
    meta += dicom_element("ImplementationClassUID", _UID)
    body = _body(elements)
    group = dicom_element("FileMetaInformationGroupLength", len(meta))
    return bytes(128) + b"DICM" + group + meta + body


def write_series(folder: Path, volume: Volume, seed: int, overwrite: bool) -> int:
    """Write every other plane of a volume as a leaning series; return how many files.

    From slice to slice the scanned field moves one pixel along the patient's y, as a leaning
    gantry's does; rows run to the back, columns to the patient's left.
    """
    folder.mkdir(parents=True, exist_ok=True)
    held = _wider(volume, seed)
    count = volume.shape[3] // 2
    names = default_rng(seed + 3).permutation(9000) + 1000
    paths = [folder / f"F{number}" for number in names]
    for path in paths[count + 1 :] if overwrite else []:
        path.unlink(missing_ok=True)  # those of a larger series, written before
    paths = paths[: count + 1]
    for path in paths:
        check_target(str(path), overwrite=overwrite)
    for k in [*range(count), count // 3]:  # one slice lies there twice
        path = paths.pop()
        with written_whole(path, overwrite=overwrite) as file:
            file.write(dicom_file(_slice(volume, held, k, count)))
    return count + 1


def _wider(volume: Volume, seed: int) -> NDArray[np.int16]:
    """Return the volume's numbers (i, j, k) with as much beside it as the gantry's way needs."""
    margin = volume.shape[3] // 4 + 1
    values = np.asarray(volume.voxels(physical=False))
    i, j, k = values.shape
    affine = volume.affine
    affine[:3, 3] -= margin * affine[:3, 1]
    wide = joint(*voxel_positions(affine, (i, j + 2 * margin, k)))
    wide += default_rng(seed + 2).normal(0, 26, wide.shape)
    stored = np.clip(np.round(wide), -1024, 3071).astype(np.int16)
    stored[:, margin : margin + j] = values
    return stored


def _slice(volume: Volume, held: NDArray[np.int16], k: int, count: int) -> dict[str, Value]:
    """Return the elements of one slice: 12 bits, signed, HU less 1024."""
    columns, rows = volume.shape[1:3]
    margin = (held.shape[1] - rows) // 2
    start = margin + k - count // 2
    plane = held[:, start : start + rows, 2 * k].T[::-1].astype(np.int32) - 1024
    outside = np.hypot(*np.meshgrid(np.linspace(-1, 1, columns), np.linspace(-1, 1, rows))) > 1.36
    plane[outside] = PADDING
    side, _, gap = volume.spacing
    j_first = start - margin + rows - 1
    x, y, z = (volume.affine @ (0, j_first, 2 * k, 1))[:3]
    return {
        "SpecificCharacterSet": "ISO_IR 192", "ImageType": "ORIGINAL\\PRIMARY\\AXIAL",
        "SOPClassUID": "1.2.840.10008.5.1.4.1.1.2", "SOPInstanceUID": f"{_UID}.1.{k + 1}",
        "StudyDate": "20260302", "Modality": "CT", "Manufacturer": "invented",
        "InstitutionName": "Halse Sound Equine Clinic", "SeriesDescription": "fetlock, bone",
        "PatientName": "Tern^of Halse", "PatientID": "HS-0417", "PatientBirthDate": "20180504",
        "PatientSex": "F", "ResponsiblePerson": "Vane^Oda", "BodyPartExamined": "JOINT",
        "PatientSpeciesDescription": "horse", "KVP": "120", "SliceThickness": f"{2 * gap:.6g}",
        "GantryDetectorTilt": f"{np.degrees(np.arctan2(side, 2 * gap)):.4g}",
        "ConvolutionKernel": "BONE", "StudyInstanceUID": f"{_UID}.2",
        "SeriesInstanceUID": f"{_UID}.1", "SeriesNumber": "2", "InstanceNumber": str(k + 1),
        "ImagePositionPatient": f"{-x:.9g}\\{-y:.9g}\\{z:.9g}",
        "ImageOrientationPatient": "1\\0\\0\\0\\1\\0", "FrameOfReferenceUID": f"{_UID}.3",
        "SamplesPerPixel": 1, "PhotometricInterpretation": "MONOCHROME2", "Rows": rows,
        "Columns": columns, "PixelSpacing": f"{side:.9g}\\{side:.9g}", "BitsAllocated": 16,
        "BitsStored": 12, "HighBit": 11, "PixelRepresentation": 1, "PixelPaddingValue": PADDING,
        "WindowCenter": "480\\50", "WindowWidth": "2500\\400",
        "WindowCenterWidthExplanation": "BONE\\SOFT TISSUE", "RescaleIntercept": "1024",
        "RescaleSlope": "1", "RescaleType": "HU", "PixelData": plane.astype("<i2").tobytes(),
    }  # fmt: skip
