"""The head of a NIfTI file: sizes, type, place, units, extensions.

Cox et al., "A (sort of) new image data format standard: NIfTI-1" (nifti1.h, 2004) and NIfTI-2
(nifti2.h, 2011). Either byte order; the first four bytes tell which.
"""

from __future__ import annotations

import math
import struct
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.band import check_band_count
from spectrane.model.errors import FormatError
from spectrane.model.statistic import FREEDOM

_MOST_VALUES = 1 << 40

TYPES: dict[int, tuple[str, str]] = {
    2: ("u1", "uint8"), 4: ("i2", "int16"), 8: ("i4", "int32"), 16: ("f4", "float32"),
    32: ("c8", "complex64"), 64: ("f8", "float64"), 128: ("V3", "RGB24"), 256: ("i1", "int8"),
    512: ("u2", "uint16"), 768: ("u4", "uint32"), 1024: ("i8", "int64"), 1280: ("u8", "uint64"),
    1536: ("V16", "float128"), 1792: ("c16", "complex128"), 2048: ("V32", "complex256"),
    2304: ("V4", "RGBA32"),
}  # fmt: skip
"""Datatype code -> NumPy's code of one voxel, and the standard's name."""
SPACE = {0: ("", 1.0), 1: ("m", 1000.0), 2: ("mm", 1.0), 3: ("µm", 0.001)}
TIME = {0: ("", 1.0), 8: ("s", 1.0), 16: ("ms", 0.001), 24: ("µs", 1e-6)}
XFORMS = {0: "unknown", 1: "scanner", 2: "aligned", 3: "Talairach", 4: "MNI 152",
          5: "template"}  # fmt: skip
"""Codes of the space that a matrix leads to (nifti1.h, nifti2_io.h)."""
STATISTICS = {2: "correlation", 3: "t", 4: "F", 5: "z", 6: "chi2", 22: "p", 23: "ln p",
              24: "log10 p"}  # fmt: skip
"""Intent codes of statistics whose improbability is known; their parameters are freedoms."""
SLICE_ORDERS = {1: "upward", 2: "downward", 3: "every second one upward",
                4: "every second one downward", 5: "every second one upward, from the second",
                6: "every second one downward, from the last but one"}  # fmt: skip


@record(frozen=True)
class NiftiHead:
    """What the head says, with lengths in millimetres and times in seconds."""

    version: int
    order: str
    dims: tuple[int, ...]
    datatype: int
    offset: int
    slope: float
    inter: float
    window: tuple[float, float]
    affine: NDArray[np.float64]
    placed_by: str
    codes: tuple[int, int]
    pixdim: tuple[float, ...]
    space: str
    time: str
    time_step: float
    time_offset: float
    description: str
    intent: tuple[int, str]
    parameters: tuple[float, float, float] = (0.0, 0.0, 0.0)
    slices: tuple[int, int, int, float] = (0, 0, 0, 0.0)
    extensions: tuple[tuple[int, bytes], ...] = ()
    disagreement: float = 0.0

    @property
    def shape(self) -> tuple[int, int, int]:
        """Voxels along i, j and k."""
        first = (*self.dims[:3], 1, 1, 1)[:3]
        return first[0], first[1], first[2]

    @property
    def statistic(self) -> str | None:
        """The statistic of the intent, in a band's words: ``t(20)``; None of other intents."""
        kind = STATISTICS.get(self.intent[0])
        if kind is None:
            return None
        given = self.parameters[: FREEDOM[kind]]
        told = ",".join(f"{one:.9g}" for one in given)
        return f"{kind}({told})" if given and all(0 < n < math.inf for n in given) else kind

    @property
    def slice_timing(self) -> str | None:
        """In which order planes along k were acquired, and how long each took."""
        code, first, last, seconds = self.slices
        if code not in SLICE_ORDERS or not 0 <= first <= last < self.shape[2]:
            return None
        each = f", {seconds:.6g} s each" if 0 < seconds < math.inf else ""
        return f"planes {first} to {last} {SLICE_ORDERS[code]}{each}"

    @property
    def frames(self) -> int:
        """Volumes: the product of the fourth dimension and those after it."""
        return math.prod(self.dims[3:])


def byte_order(head: bytes) -> tuple[str, int] | None:
    r"""Return the byte order and version (1 or 2) that the first bytes tell; None for no NIfTI.

    >>> byte_order(struct.pack("<i", 348) + bytes(340) + b"n+1\0")
    ('<', 1)
    """
    if len(head) < 348:
        return None
    for order in "<>":
        size = struct.unpack(order + "i", head[:4])[0]
        if size == 348 and head[344:348] in (b"n+1\0", b"ni1\0"):
            return order, 1
        if size == 540 and head[4:8] in (b"n+2\0", b"ni2\0"):
            return order, 2
    return None


def parse_head(head: bytes, name: str, choose: str | None = None) -> NiftiHead:
    """Read a head; ``choose`` names the matrix that places it, ``sform`` before ``qform``.

    Raises FormatError for what contradicts the standard or itself, or for a matrix it has not.
    """
    told = byte_order(head)
    if told is None:
        raise FormatError(f"{name}: does not begin like NIfTI-1 or NIfTI-2")
    order, version = told
    if len(head) < (348 if version == 1 else 540):
        raise FormatError(f"{name}: the head ends after {len(head)} bytes")
    fields = _fields_of_one(head, order) if version == 1 else _fields_of_two(head, order)
    return _checked(fields, order, version, name, choose)


def _fields_of_one(head: bytes, order: str) -> dict[str, Any]:
    def at(code: str, place: int) -> Any:
        values = struct.unpack_from(order + code, head, place)
        return values if len(values) > 1 else values[0]

    return {
        "dim": at("8h", 40), "parameters": at("3f", 56), "intent": at("h", 68),
        "datatype": at("h", 70), "bitpix": at("h", 72),
        "pixdim": at("8f", 76), "offset": at("f", 108), "slope": at("f", 112),
        "inter": at("f", 116), "units": head[123], "max": at("f", 124), "min": at("f", 128),
        "toffset": at("f", 136), "text": head[148:228], "qcode": at("h", 252),
        "scode": at("h", 254), "quatern": at("3f", 256), "qoffset": at("3f", 268),
        "rows": (at("4f", 280), at("4f", 296), at("4f", 312)), "intent_name": head[328:344],
        "slices": (head[122], at("h", 74), at("h", 120), at("f", 132)),
    }  # fmt: skip


def _fields_of_two(head: bytes, order: str) -> dict[str, Any]:
    def at(code: str, place: int) -> Any:
        values = struct.unpack_from(order + code, head, place)
        return values if len(values) > 1 else values[0]

    return {
        "dim": at("8q", 16), "parameters": at("3d", 80), "intent": at("i", 504),
        "datatype": at("h", 12), "bitpix": at("h", 14),
        "pixdim": at("8d", 104), "offset": at("q", 168), "slope": at("d", 176),
        "inter": at("d", 184), "units": at("i", 500), "max": at("d", 192), "min": at("d", 200),
        "toffset": at("d", 216), "text": head[240:320], "qcode": at("i", 344),
        "scode": at("i", 348), "quatern": at("3d", 352), "qoffset": at("3d", 376),
        "rows": (at("4d", 400), at("4d", 432), at("4d", 464)), "intent_name": head[508:524],
        "slices": (at("i", 496), at("q", 224), at("q", 232), at("d", 208)),
    }  # fmt: skip


def _checked(
    fields: dict[str, Any], order: str, version: int, name: str, choose: str | None
) -> NiftiHead:
    count = fields["dim"][0]
    if not 1 <= count <= 7:
        raise FormatError(f"{name}: field dim[0] is {count}; expected 1 to 7 dimensions")
    dims = tuple(int(n) for n in fields["dim"][1 : count + 1])
    if min(dims) < 1 or int(np.prod(dims, dtype=object)) > _MOST_VALUES:
        raise FormatError(f"{name}: field dim is {dims}; expected positive sizes")
    check_band_count(name, math.prod(dims[3:]), "frames")
    if fields["datatype"] not in TYPES:
        raise FormatError(
            f"{name}: field datatype is {fields['datatype']}; known are "
            f"{', '.join(map(str, TYPES))}"
        )
    factor = SPACE.get(fields["units"] & 7, ("", 1.0))
    time = TIME.get(fields["units"] & 56, ("", 1.0))
    offset = fields["offset"]
    if not np.isfinite(offset) or not 0 <= offset < 1 << 60:
        raise FormatError(f"{name}: field vox_offset is {offset}; expected a place in the file")
    pixdim = tuple(float(v) for v in fields["pixdim"])
    affine, by, apart = _affine(fields, pixdim, factor[1], name, choose)
    slope, inter = float(fields["slope"]), float(fields["inter"])
    if slope == 0 or not np.isfinite([slope, inter]).all():
        slope, inter = 1.0, 0.0
    return NiftiHead(
        version, order, dims, int(fields["datatype"]), int(offset), slope, inter,
        (float(fields["min"]), float(fields["max"])), affine, by,
        (int(fields["qcode"]), int(fields["scode"])), pixdim, factor[0], time[0],
        abs(pixdim[4]) * time[1], float(fields["toffset"]) * time[1], _text(fields["text"]),
        (int(fields["intent"]), _text(fields["intent_name"])),
        tuple(map(float, fields["parameters"])),  # type: ignore[arg-type]
        _slices(fields["slices"], time[1]), disagreement=apart,
    )  # fmt: skip


def _slices(given: tuple[Any, ...], unit: float) -> tuple[int, int, int, float]:
    """Return the order's code, the first and last plane, and the seconds of each."""
    code, first, last, duration = given
    return int(code), int(first), int(last), float(duration) * unit


def _text(raw: bytes) -> str:
    return raw.split(b"\0")[0].decode("utf-8", "replace").strip()


def _affine(
    fields: dict[str, Any],
    pixdim: tuple[float, ...],
    factor: float,
    name: str,
    choose: str | None = None,
) -> tuple[NDArray[np.float64], str, float]:
    """Return voxel index to patient millimetres, by which way, and how far two ways disagree."""
    spacing = np.abs(np.array(pixdim[1:4]))
    qform = sform = None
    if fields["qcode"] > 0:
        qform = _from_quaternion(fields, pixdim, name)
    if fields["scode"] > 0:
        sform = np.vstack([np.array(fields["rows"], np.float64), (0, 0, 0, 1)])
    there = {"sform": sform, "qform": qform}
    if choose is not None and there[choose] is None:
        raise FormatError(f"{name}: {choose} is asked for, and the file has none (field "
                          f"{choose}_code is {fields[choose[0] + 'code']})")  # fmt: skip
    if sform is not None and choose != "qform":
        affine, by = sform, "sform"
    elif qform is not None:
        affine, by = qform, "qform"
    else:
        if not (spacing > 0).all():
            raise FormatError(f"{name}: field pixdim is {pixdim[1:4]}, and nothing else says where "
                              "voxels lie; expected spacings above 0")  # fmt: skip
        affine, by = np.diag([*spacing, 1.0]), "voxel sizes"
    if not np.isfinite(affine).all() or abs(np.linalg.det(affine[:3, :3])) < 1e-12:
        raise FormatError(
            f"{name}: the {by} makes voxels without volume: {affine[:3].round(6).tolist()}; "
            "a spacing of zero or a singular matrix"
        )
    apart = 0.0
    if sform is not None and qform is not None:
        shape = np.array([*fields["dim"][1:4], 0])[:3]
        corners = np.array([[0, 0, 0, 1], [*np.maximum(shape - 1, 0), 1]], float).T
        apart = float(np.abs(((sform - qform) @ corners)[:3]).max()) * factor
    scaled = affine.copy()
    scaled[:3] *= factor
    return scaled, by, apart


def _from_quaternion(
    fields: dict[str, Any], pixdim: tuple[float, ...], name: str
) -> NDArray[np.float64]:
    """Return method 2's matrix: a rotation by a unit quaternion, qfac turning the third axis."""
    b, c, d = (float(v) for v in fields["quatern"])
    rest = 1.0 - (b * b + c * c + d * d)
    if not np.isfinite(rest) or rest < -1e-3:
        raise FormatError(f"{name}: quatern {(b, c, d)}: is longer than 1, so no rotation")
    if rest < 1e-7:  # rounding: brought back to length 1
        length = np.sqrt(b * b + c * c + d * d)
        b, c, d, a = b / length, c / length, d / length, 0.0
    else:
        a = np.sqrt(rest)
    turn = np.array([
        [a * a + b * b - c * c - d * d, 2 * (b * c - a * d), 2 * (b * d + a * c)],
        [2 * (b * c + a * d), a * a + c * c - b * b - d * d, 2 * (c * d - a * b)],
        [2 * (b * d - a * c), 2 * (c * d + a * b), a * a + d * d - b * b - c * c],
    ])  # fmt: skip
    sizes = np.abs(np.array(pixdim[1:4], np.float64))
    if not (sizes > 0).all():
        raise FormatError(f"{name}: field pixdim is {pixdim[1:4]}; expected spacings above 0")
    sizes[2] *= -1.0 if pixdim[0] < 0 else 1.0
    out = np.eye(4)
    out[:3, :3] = turn * sizes
    out[:3, 3] = fields["qoffset"]
    return out
