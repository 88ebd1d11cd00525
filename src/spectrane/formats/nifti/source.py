"""The voxels of a NIfTI file, read where they are asked for."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Sequence
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.damage import Damaged
from spectrane.engine.inflating import GREATEST_RATIO, InflatedFile
from spectrane.engine.volumes import VolumeSource
from spectrane.formats.nifti.header import TYPES, XFORMS, NiftiHead
from spectrane.model.band import Band
from spectrane.model.colors import parse_color
from spectrane.model.errors import FormatError, LookError
from spectrane.model.grid import Grid
from spectrane.model.labels import label_classes
from spectrane.model.look import Class, Look
from spectrane.model.pixels import Pixels
from spectrane.model.window import Window, extent

ComplexPart = Literal["magnitude", "phase", "real", "imaginary"]
PARTS: tuple[ComplexPart, ...] = get_args(ComplexPart)
IDENTIFYING = 2
"""The code of extensions that hold DICOM attributes, which may say who a patient is."""
LABELS = 1002
"""The intent code of labels (nifti1.h)."""
_BLOCK_BYTES = 4 << 20
_RUN = 8 << 20
"""Bytes fetched at a time from a file that is not mapped."""
_COLORS = {"V3": ("red", "green", "blue"), "V4": ("red", "green", "blue", "alpha")}


class NiftiSource(VolumeSource):
    """One NIfTI volume; frames are bands. Colours are three bands, complex numbers one part."""

    of_file = True

    format = "NIfTI-1"

    def __init__(self, head: NiftiHead, head_file: ByteFile, data: ByteFile, part: str) -> None:
        if part not in PARTS:
            raise LookError(f"complex {part!r}: expected {', '.join(PARTS)}")
        self.head, self.head_file, self.data, self.part = head, head_file, data, part
        self.name = head_file.name
        self.format = f"NIfTI-{head.version}"
        self.code = TYPES[head.datatype][0]
        affine = tuple(map(tuple, head.affine.tolist()))
        self.grid = Grid(head.shape, affine, placed=True)
        self.stored = np.dtype(f"{head.order}{self.code}")
        self.colors = _COLORS.get(self.code, ())
        self.dtype = self._type()
        self.bands = tuple(self._bands())
        i, j, k = head.shape
        self.block_shape = (
            i,
            j,
            max(1, min(k, _BLOCK_BYTES // max(1, i * j * self.stored.itemsize))),
        )
        low, high = head.window
        classes = _noted_classes(head)
        if classes:
            self.look = Look(classes=classes)
        elif np.isfinite([low, high]).all() and high > low:
            self.look = Look(limits=(low, high))
        self.damaged = Damaged(self.name, head.frames * k, "planes")
        self.metadata = _metadata(head) | ({"complex": f"{part} is read"} if self.complex else {})
        if any(code == IDENTIFYING for code, _ in head.extensions):
            self.identity = ("extensions",)

    @property
    def complex(self) -> bool:
        """Whether the file's numbers are complex, and ``part`` of them is read."""
        return self.code in ("c8", "c16", "V32")

    def _type(self) -> np.dtype[Any]:
        if self.colors:
            return np.dtype(np.uint8)
        if self.code == "V16" or self.code in ("c16", "V32"):
            return np.dtype(np.float64)
        return np.dtype(np.float32) if self.code == "c8" else np.dtype(self.code)

    def _bands(self) -> list[Band]:
        head = self.head
        if self.colors:
            return [Band(color, None if color == "alpha" else color) for color in self.colors]
        plain = self.code not in ("c8", "c16", "V32")
        scale, offset = (head.slope, head.inter) if plain else (1.0, 0.0)
        noted = _noted_frames(head)
        if noted is not None:
            return [Band(name, unit=unit, scale=scale, offset=offset, time=_time(head, k),
                         statistic=head.statistic)
                    for k, (name, unit) in enumerate(noted)]  # fmt: skip
        names = [head.intent[1]] if head.frames == 1 and head.intent[1] else [
            _frame_name(head, k) for k in range(head.frames)]  # fmt: skip
        return [Band(name, scale=scale, offset=offset, time=_time(head, k),
                     statistic=head.statistic)
                for k, name in enumerate(names)]  # fmt: skip

    def in_memory(self, band: int) -> NDArray[Any] | None:
        """Return a frame as it lies in a mapped file; None for colours, parts, and other orders."""
        plain = self.stored == self.dtype and not self.head_file.keeps_damaged
        return self._cube(band) if plain else None

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window of some frames; views of the file's order, never transposed in memory."""
        if not self.head_file.keeps_damaged:
            return self._answer(bands, window)
        across, down, (first, last) = window
        values = np.zeros((len(bands), *extent(window)), self.dtype)
        mask = np.zeros(values.shape, bool)
        for number, band in enumerate(bands):
            for k in range(first, last):
                part = (across, down, (k, k + 1))
                which = (0 if self.colors else band, k)
                pixels = self.damaged.attempt(which, self._answer, [band], part)
                if pixels is not None:
                    values[number, ..., k - first] = pixels.values[0, ..., 0]
                    mask[number, ..., k - first] = True
        self.damaged.tell()
        return Pixels(values, mask=mask)

    def _answer(self, bands: Sequence[int], window: Window) -> Pixels:
        if self.colors:
            raw = self.voxels(0, window).view(np.uint8)
            cube = raw.reshape(*raw.shape[:-1], -1, len(self.colors))
            return Pixels(np.stack([cube[..., band].T for band in bands]))
        planes = [self._numbers(self.voxels(band, window)).T for band in bands]
        out = planes[0][np.newaxis] if len(planes) == 1 else np.stack(planes)
        return Pixels(out)

    def _numbers(self, raw: NDArray[Any]) -> NDArray[Any]:
        """Return stored numbers in native order, or the part of complex ones that is asked for."""
        if self.code == "V16":
            return from_quad(raw, self.head.order)
        if self.code == "V32":
            pair = raw.view("V16").reshape(*raw.shape, 2)
            raw = from_quad(pair[..., 0], self.head.order) + 1j * from_quad(
                pair[..., 1], self.head.order)  # fmt: skip
        if raw.dtype.kind != "c":
            return raw.astype(self.dtype, copy=False)
        value = raw.astype(np.complex128) * self.head.slope + self.head.inter
        pick: dict[str, Any] = {
            "magnitude": np.abs, "phase": np.angle, "real": np.real, "imaginary": np.imag,
        }  # fmt: skip
        return np.asarray(pick[self.part](value), self.dtype)

    def voxels(self, frame: int, window: Window) -> NDArray[Any]:
        """Return (k, j, i) of one frame as they lie in the file."""
        ni, nj, nk = self.shape
        (i0, i1), (j0, j1), (k0, k1) = window
        size = self.stored.itemsize
        mapped = self._cube(frame)
        if mapped is not None:
            return np.ascontiguousarray(mapped[k0:k1, j0:j1, i0:i1])
        start = self.head.offset + frame * ni * nj * nk * size
        line = ni * size
        out = np.empty((k1 - k0, j1 - j0, i1 - i0), self.stored)
        count = max(1, _RUN // ((j1 - j0) * line))  # of planes at a time
        for k in range(k0, k1, count):
            until = min(k1, k + count)
            if (j0, j1) == (0, nj):  # planes together are one run of bytes
                ranges = [(start + k * nj * line, (until - k) * nj * line)]
            else:
                ranges = [(start + (n * nj + j0) * line, (j1 - j0) * line)
                          for n in range(k, until)]  # fmt: skip
            at = k - k0
            for piece in self.data.read_ranges(ranges):
                cube = np.frombuffer(piece, self.stored).reshape(-1, j1 - j0, ni)
                out[at : at + len(cube)] = cube[:, :, i0:i1]
                at += len(cube)
        return out

    def _cube(self, frame: int) -> NDArray[Any] | None:
        """Return a frame (k, j, i) of a mapped file, not read yet; None of others."""
        packed = isinstance(self.data, InflatedFile) or self.head_file.keeps_damaged
        memory = None if packed else self.data.mapped()
        if memory is None:
            return None
        ni, nj, nk = self.shape
        size = ni * nj * nk * self.stored.itemsize
        start = self.head.offset + frame * size
        if start + size > len(memory):
            raise FormatError(
                f"{self.name}: voxels reach to byte {start + size}, the file to {len(memory)}"
            )
        return np.frombuffer(memory, self.stored, ni * nj * nk, start).reshape(nk, nj, ni)

    def close(self) -> None:
        """Let go of the files."""
        self.head_file.close()
        self.data.close()


def _notes(head: NiftiHead) -> Iterator[dict[str, Any]]:
    """Yield what comment extensions of ours say; other comments are passed over."""
    for code, data in head.extensions:
        try:
            noted = json.loads(data.rstrip(b"\0")) if code == 6 else None
        except ValueError:
            continue
        if isinstance(noted, dict):
            yield noted


def _noted_classes(head: NiftiHead) -> dict[float, Class]:
    """Return the classes of labels: as noted, or any 255 where the intent alone says labels."""
    for noted in _notes(head):
        try:
            classes = {float(v): (str(c), str(n)) for v, (c, n) in noted["classes"].items()}
            for color, _ in classes.values():
                parse_color(color)
        except (ValueError, KeyError, TypeError, AttributeError):
            continue
        return classes
    whole = TYPES[head.datatype][0][0] in "iu" and (head.slope, head.inter) == (1.0, 0.0)
    return label_classes(range(256)) if head.intent[0] == LABELS and whole else {}


def _noted_frames(head: NiftiHead) -> list[tuple[str, str | None]] | None:
    """Return names and units of frames from a comment extension of ours; None without one."""
    for noted in _notes(head):
        try:
            found = [(str(one["name"]), one.get("unit")) for one in noted["frames"]]
        except (ValueError, KeyError, TypeError, AttributeError):
            continue
        if len(found) == head.frames:
            return [(name, None if unit is None else str(unit)) for name, unit in found]
    return None


def _time(head: NiftiHead, frame: int) -> float | None:
    """Return a frame's time in seconds, where the fourth axis is one."""
    if head.frames > 1 and len(head.dims) == 4 and head.time and head.time_step > 0:
        return head.time_offset + frame * head.time_step
    return None


def _frame_name(head: NiftiHead, frame: int) -> str:
    """Name a frame by its time where there is one, else by its number."""
    time = _time(head, frame)
    return f"frame {frame + 1}" if time is None else f"{time:g} s"


def _metadata(head: NiftiHead) -> dict[str, Any]:
    metadata: dict[str, Any] = {
        "datatype": TYPES[head.datatype][1], "dimensions": list(head.dims),
        "byte order": "little" if head.order == "<" else "big", "placed by": head.placed_by,
        "qform code": head.codes[0], "sform code": head.codes[1],
        "units": [head.space or "unknown", head.time or "unknown"],
        "scale": [head.slope, head.inter], "description": head.description,
        "intent": list(head.intent),
    }  # fmt: skip
    metadata["space"] = _space(head)
    if any(head.parameters):
        metadata["intent parameters"] = list(head.parameters)
    if head.slice_timing is not None:
        metadata["slice timing"] = head.slice_timing
    if head.extensions:
        metadata["extensions"] = [
            {"code": code, "bytes": len(data), "data": data} for code, data in head.extensions
        ]
    return metadata


def _space(head: NiftiHead) -> str:
    """Return what space the matrix that is used leads to."""
    if head.placed_by == "voxel sizes":
        return XFORMS[0]
    code = head.codes[1 if head.placed_by == "sform" else 0]
    return XFORMS.get(code, f"code {code}")


def from_quad(raw: NDArray[Any], order: str) -> NDArray[np.float64]:
    r"""Return IEEE 754 quadruple precision (16 bytes) as float64, rounded to nearest.

    >>> from_quad(np.array([bytes(14) + b"\xff\x3f"], "V16"), "<").tolist()
    [1.0]
    """
    words = np.ascontiguousarray(raw).view(f"{order}u8").reshape(*raw.shape, 2)
    high, low = (words[..., 1], words[..., 0]) if order == "<" else (words[..., 0], words[..., 1])
    high, low = high.astype(np.uint64), low.astype(np.uint64)
    exponent = ((high >> np.uint64(48)) & np.uint64(0x7FFF)).astype(np.int64)
    top = (high & np.uint64((1 << 48) - 1)).astype(np.float64) * 2.0**-48
    share = 1.0 + top + low.astype(np.float64) * 2.0**-112
    with np.errstate(over="ignore", under="ignore"):
        value = np.ldexp(share, np.clip(exponent - 16383, -1100, 1100))
    value = np.where(exponent == 0, 0.0, value)
    nothing = (high & np.uint64((1 << 48) - 1) != 0) | (low != 0)
    value = np.where(exponent == 0x7FFF, np.where(nothing, np.nan, np.inf), value)
    return np.where(high >> np.uint64(63) != 0, -value, value)


def check_bytes(head: NiftiHead, name: str, data: ByteFile, *, cut_short: bool) -> None:
    """Raise FormatError where a file is shorter than its head claims.

    A packed file, or one that may be ``cut_short``, can hold so much more at most as DEFLATE packs.
    """
    code, said = TYPES[head.datatype]
    wanted = head.offset + math.prod(head.dims) * np.dtype(code).itemsize
    packed = isinstance(data, InflatedFile)
    size = data.packed.size if isinstance(data, InflatedFile) else data.size
    most = GREATEST_RATIO * size + (1 << 20) if packed or cut_short else size
    if most < wanted:
        raise FormatError(
            f"{name}: field dim {head.dims} of {said} needs {wanted} bytes; {data.name} has {size}"
            + (" packed ones" if packed else "")
        )
