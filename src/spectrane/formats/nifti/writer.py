"""Writing NIfTI: one file, packed or not, in little-endian order."""

from __future__ import annotations

import json
import os
import struct
from collections.abc import Iterator
from typing import Any

import numpy as np
from isal import igzip

from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.nifti.header import STATISTICS, TYPES
from spectrane.formats.nifti.source import IDENTIFYING, LABELS
from spectrane.formats.validity import NIFTI, keeping
from spectrane.model.colors import classes_table
from spectrane.model.display_window import find_window
from spectrane.model.errors import FormatError
from spectrane.model.limits import CenterWidth, Fixed, NamedWindow
from spectrane.model.source import Source
from spectrane.model.statistic import statistic_of
from spectrane.model.telling import warn_caller
from spectrane.model.whole_files import written_whole
from spectrane.model.window import Window

_CODES = {code: number for number, (code, _) in TYPES.items() if not code.startswith("V")}
_LONGEST = 32767
_SCANNER = 1
_MILLIMETRES, _SECONDS = 2, 8
_COMMENT = 6
Intent = tuple[int, tuple[float, float, float]]


def write_nifti(
    source: Source, target: str | os.PathLike[str], *, version: int | None = None,
    overwrite: bool = False, progress: Progress = no_progress,
) -> None:  # fmt: skip
    """Write a volume; ``.nii.gz`` is packed. Version 2 where an axis is longer than 32 767.

    The place goes into sform and qform (where a rotation says it), scale and offset into slope and
    inter, frames into the fourth dimension, a look's fixed limits into cal_min and cal_max. Invalid
    voxels are NaN; integers with any are written as floats that hold them exactly, with a warning.
    Raises FormatError for what NIfTI cannot hold.
    """
    if len(source.shape) != 3:
        raise FormatError("NIfTI holds volumes; this raster has two dimensions")
    source = keeping(source, NIFTI)
    kind = source.dtype.newbyteorder("=")
    code = "u1" if kind.kind == "b" else f"{kind.kind}{kind.itemsize}"
    if code not in _CODES:
        raise FormatError(f"NIfTI holds {', '.join(n for _, n in TYPES.values())}, not {kind}")
    scales = {(band.scale, band.offset) for band in source.bands}
    if len(scales) > 1:
        raise FormatError("NIfTI has one scale for all frames, and these differ; write "
                          "physical values: volume.physical() (--physical)")  # fmt: skip
    chosen = version or (2 if max(source.shape) > _LONGEST else 1)
    if chosen not in (1, 2):
        raise FormatError(f"version {version}: expected 1 or 2")
    head = _head(source, _CODES[code], kind.itemsize * 8, chosen)
    name = os.fspath(target)
    with written_whole(name, overwrite=overwrite) as file:
        if name.lower().endswith(".gz"):
            # Level 3 of ISA-L: zlib's own 6 is a hundredth smaller and takes ten times as long.
            zipped: Any = igzip.IGzipFile
            with zipped(fileobj=file, mode="wb", mtime=0, compresslevel=3) as packed:
                _write(source, packed, head, code, progress)
        else:
            _write(source, file, head, code, progress)


def _parts(source: Source) -> Iterator[tuple[int, Window]]:
    """Yield each frame in parts of whole planes, as they lie in the file."""
    i, j, k = source.shape
    step = max(1, (8 << 20) // (i * j * source.dtype.itemsize))
    for band in range(len(source.bands)):
        for first in range(0, k, step):
            yield band, ((0, i), (0, j), (first, min(first + step, k)))


def _write(source: Source, file: Any, head: bytes, code: str, progress: Progress) -> None:
    file.write(head)
    planes = source.shape[2]
    for band, window in _parts(source):
        pixels = source.read([band], window)
        values = pixels.values[0].astype(f"<{code}", copy=False)
        file.write(np.ascontiguousarray(values.T).tobytes())
        progress(band * planes + window[2][1], len(source.bands) * planes)


def _head(source: Source, datatype: int, bits: int, version: int) -> bytes:
    frames = len(source.bands)
    dims = [4 if frames > 1 else 3, *source.shape, frames, 1, 1, 1]
    affine = np.asarray(source.grid.affine, np.float64)
    sizes = np.linalg.norm(affine[:3, :3], axis=0)
    quatern, qfac, rigid = quaternion(affine[:3, :3] / sizes)
    start, step = _times(source)
    pixdim = [qfac, *sizes.tolist(), step or 1.0, 1.0, 1.0, 1.0]
    times = (_MILLIMETRES | (_SECONDS if step else 0), start)
    band = source.bands[0]
    low, high = _shown_range(source)
    codes = (_SCANNER if rigid else 0, _SCANNER)
    rows = affine[:3].tolist()
    name = band.name.encode()[:15] if frames == 1 else b""
    text = b"written by Spectrane"
    extra = _frame_notes(source)
    pack = _packed_one if version == 1 else _packed_two
    return pack(_intent(source), times, dims, datatype, bits, pixdim, band, (low, high), codes,
                quatern, affine[:3, 3].tolist(), rows, name, text, extra)  # fmt: skip


def _intent(source: Source) -> Intent:
    """Return the code of what the numbers are, and its parameters: one for all frames."""
    if source.categories:
        return LABELS, (0.0, 0.0, 0.0)
    said = {band.statistic for band in source.bands}
    if said == {None} or len(said) > 1:
        if len(said) > 1:
            warn_caller("NIfTI has one intent for all frames; the frames' different statistics are "
                        "not written; write them one by one")  # fmt: skip
        return 0, (0.0, 0.0, 0.0)
    told = statistic_of(str(said.pop()))
    code = next(code for code, kind in STATISTICS.items() if kind == told.kind)
    first, second, third = (*told.freedom, 0.0, 0.0, 0.0)[:3]
    return code, (first, second, third)


def _packed_one(
    intent: Intent, times: tuple[int, float], dims: Any, datatype: int, bits: int, pixdim: Any,
    band: Any, shown: Any, codes: Any, quatern: Any, offset: Any, rows: Any, name: bytes,
    text: bytes, extra: bytes,
) -> bytes:  # fmt: skip
    out = bytearray(348)
    struct.pack_into("<i", out, 0, 348)
    struct.pack_into("<8h", out, 40, *dims)
    struct.pack_into("<3f3h", out, 56, *intent[1], intent[0], datatype, bits)
    struct.pack_into("<8f", out, 76, *pixdim)
    struct.pack_into("<3f", out, 108, 352.0 + len(extra), band.scale, band.offset)
    out[123] = times[0]
    struct.pack_into("<f", out, 136, times[1])
    struct.pack_into("<2f", out, 124, shown[1], shown[0])
    out[148 : 148 + len(text)] = text
    struct.pack_into("<2h6f", out, 252, *codes, *quatern, *offset)
    for k, row in enumerate(rows):
        struct.pack_into("<4f", out, 280 + 16 * k, *row)
    out[328 : 328 + len(name)] = name
    out[344:348] = b"n+1\0"
    return bytes(out) + bytes([bool(extra), 0, 0, 0]) + extra


def _packed_two(
    intent: Intent, times: tuple[int, float], dims: Any, datatype: int, bits: int, pixdim: Any,
    band: Any, shown: Any, codes: Any, quatern: Any, offset: Any, rows: Any, name: bytes,
    text: bytes, extra: bytes,
) -> bytes:  # fmt: skip
    out = bytearray(540)
    struct.pack_into("<i8s2h", out, 0, 540, b"n+2\0\r\n\x1a\n", datatype, bits)
    struct.pack_into("<8q", out, 16, *dims)
    struct.pack_into("<3d8d", out, 80, *intent[1], *pixdim)
    struct.pack_into(
        "<q2d2d", out, 168, 544 + len(extra), band.scale, band.offset, shown[1], shown[0]
    )
    out[240 : 240 + len(text)] = text
    struct.pack_into("<2i6d", out, 344, *codes, *quatern, *offset)
    for k, row in enumerate(rows):
        struct.pack_into("<4d", out, 400 + 32 * k, *row)
    struct.pack_into("<2i", out, 500, times[0], intent[0])
    struct.pack_into("<d", out, 216, times[1])
    out[508 : 508 + len(name)] = name
    return bytes(out) + bytes([bool(extra), 0, 0, 0]) + extra


def _frame_notes(source: Source) -> bytes:
    """Return extensions: a comment with what there is no field for; and what was there before."""
    noted: dict[str, Any] = {}
    if len(source.bands) > 1 or source.bands[0].unit is not None:
        noted["frames"] = [{"name": band.name, "unit": band.unit} for band in source.bands]
    if source.categories and source.look is not None:
        noted["classes"] = classes_table(source.look.classes)
    text = [(_COMMENT, json.dumps(noted).encode())] if noted else []
    return b"".join(_extension(code, data) for code, data in [*text, *_kept_extensions(source)])


def _kept_extensions(source: Source) -> list[tuple[int, bytes]]:
    """Return the extensions that came with the volume; a comment of ours is written anew.

    DICOM attributes (code 2) may say who a patient is and are left out, which is warned of.
    """
    extensions = source.metadata.get("extensions", ())
    given = [(one.get("code"), one.get("data")) for one in extensions if isinstance(one, dict)]
    whole = [(c, data) for c, data in given if isinstance(c, int) and isinstance(data, bytes)]
    kept = [(c, data) for c, data in whole if not (c == _COMMENT and data[:1] == b"{")]
    if any(code == IDENTIFYING for code, _ in kept):
        warn_caller(
            "the extension with DICOM attributes may say who the patient is and is not written"
        )
    return [(code, data) for code, data in kept if code != IDENTIFYING]


def _extension(code: int, data: bytes) -> bytes:
    """Return an extension: size (a multiple of 16), code, data, zeros."""
    size = -(-(len(data) + 8) // 16) * 16
    return struct.pack("<ii", size, code) + data.ljust(size - 8, b"\0")


def _times(source: Source) -> tuple[float, float]:
    """Return the first frame's time and the step (s); a step of 0 where they are not even."""
    times = [band.time for band in source.bands if band.time is not None]
    if len(times) < 2 or len(times) < len(source.bands):
        return 0.0, 0.0
    steps = np.diff(times)
    even = bool(np.allclose(steps, steps[0], rtol=1e-4)) and steps[0] > 0
    return (times[0], float(steps.mean())) if even else (0.0, 0.0)


def _shown_range(source: Source) -> tuple[float, float]:
    """Return cal_min and cal_max: the display range kept with a source; 0, 0 says none."""
    rule = None if source.look is None else source.look.limits[0]
    if isinstance(rule, Fixed):
        return rule.low, rule.high
    if isinstance(rule, NamedWindow):
        index = find_window(source.windows, rule.called)
        if index is None:
            return 0.0, 0.0
        own = source.windows[index]
        rule = CenterWidth(own.center, own.width)
    if isinstance(rule, CenterWidth):
        return rule.centre - rule.width / 2, rule.centre + rule.width / 2
    return 0.0, 0.0


def quaternion(turn: Any) -> tuple[tuple[float, float, float], float, bool]:
    """Return (b, c, d) of a rotation, qfac, and whether the matrix is one (within 1e-4).

    >>> quaternion(np.diag([1.0, 1.0, -1.0]))
    ((0.0, 0.0, 0.0), -1.0, True)
    """
    qfac = -1.0 if np.linalg.det(turn) < 0 else 1.0
    proper = np.array(turn, np.float64)
    proper[:, 2] *= qfac
    rigid = bool(np.allclose(proper.T @ proper, np.eye(3), atol=1e-4))
    u, _, v = np.linalg.svd(proper)
    r = u @ v
    squares = np.array([
        1 + r[0, 0] + r[1, 1] + r[2, 2], 1 + r[0, 0] - r[1, 1] - r[2, 2],
        1 - r[0, 0] + r[1, 1] - r[2, 2], 1 - r[0, 0] - r[1, 1] + r[2, 2],
    ])  # fmt: skip
    _a, b, c, d = np.sqrt(np.maximum(squares, 0)) / 2
    # Signs from the largest, which is never 0.
    largest = int(np.argmax(squares))
    products = {
        0: (1.0, r[2, 1] - r[1, 2], r[0, 2] - r[2, 0], r[1, 0] - r[0, 1]),
        1: (r[2, 1] - r[1, 2], 1.0, r[0, 1] + r[1, 0], r[0, 2] + r[2, 0]),
        2: (r[0, 2] - r[2, 0], r[0, 1] + r[1, 0], 1.0, r[1, 2] + r[2, 1]),
        3: (r[1, 0] - r[0, 1], r[0, 2] + r[2, 0], r[1, 2] + r[2, 1], 1.0),
    }[largest]
    signs = [-1.0 if value < 0 else 1.0 for value in products]
    turned = signs[0]
    parts = [float(value * sign * turned) + 0.0 for value, sign in
             zip((b, c, d), signs[1:], strict=True)]  # fmt: skip
    return (parts[0], parts[1], parts[2]), qfac, rigid
