"""Files of every kind, spoiled: an answer or one error of ours, within time and memory.

``make fuzz`` tries hundreds of thousands; here are a few of each kind, and what was found once.
"""

from __future__ import annotations

import io
import json
import struct
import zipfile
import zlib

import numpy as np
import pytest
from fuzzing import kinds
from fuzzing.__main__ import made, warmed
from fuzzing.children import minimised, outcomes
from fuzzing.kinds import KINDS

import spectrane as sp


@pytest.mark.parametrize("name", KINDS)
def test_spoiled_files_are_read_or_refused(name):
    kind = KINDS[name]
    seeds = kind.seeds()
    warmed(seeds, kind)
    good = [outcome.what for _, outcome in outcomes(iter(map(dict, seeds)), kind.use)]
    assert good == ["answered"] * len(seeds)
    cases = made(name, seeds, int(40 * kind.share), seed=0)
    faults = [outcome for _, outcome in outcomes(cases, kind.use) if outcome.fault]
    assert faults == []


def crash(path):
    if b"!" in path.read_bytes():
        struct.unpack_from("<L", b"", 0)


def test_what_is_found_is_made_small():
    seed = {"a.txt": b"0" * 500}
    case = {"a.txt": b"0" * 250 + b"!" + b"0" * 90 + b"?" + b"0" * 158}
    [(_, outcome)] = outcomes(iter([case]), crash)
    assert (outcome.what, outcome.fault) == ("error", True)
    assert len(minimised(case, seed, outcome, crash)["a.txt"]) < 20


def png(kind, bits, body, *, interlaced=0, size=(20, 24)):
    def chunk(name, data):
        return (
            struct.pack(">L", len(data)) + name + data + struct.pack(">L", zlib.crc32(name + data))
        )

    head = struct.pack(">LLBBBBB", *size, bits, kind, 0, 0, interlaced)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", body) + chunk(b"IEND", b"")


ROWS = b"".join(b"\0" + row.tobytes() for row in kinds.ARRAY[0])


@pytest.mark.parametrize(
    ("body", "well"),
    [
        (zlib.compress(ROWS) + b"more", True),
        (zlib.compress(ROWS + b"more" * 9), True),
        (zlib.compress(ROWS[:-9]), False),
        (zlib.compress(ROWS[:-9]) + b"more", False),
        (zlib.compress(ROWS)[:-9], False),
    ],
)
def test_png_data_of_another_length(tmp_path, capfd, body, well):
    path = tmp_path / "a.png"
    path.write_bytes(png(0, 8, body))
    if well:
        np.testing.assert_array_equal(sp.open(path).pixels()[0], kinds.ARRAY[0])
    else:
        with pytest.raises(sp.FormatError, match="a.png: PNG image data: "):
            sp.open(path).pixels()
    assert capfd.readouterr().err == ""


PASSES = [(0, 0, 8, 8), (0, 4, 8, 8), (4, 0, 8, 4), (0, 2, 4, 4), (2, 0, 4, 2), (0, 1, 2, 2),
          (1, 0, 2, 1)]  # fmt: skip


@pytest.mark.parametrize(
    ("kind", "bits", "shape"),
    [(0, 1, (9, 13)), (0, 4, (7, 5)), (0, 8, (1, 1)), (0, 16, (24, 20)), (2, 8, (9, 3, 3)),
     (2, 16, (9, 13, 3)), (3, 2, (5, 5)), (4, 8, (8, 8, 2)), (6, 16, (3, 17, 4))],
)  # fmt: skip
def test_interlaced_png(tmp_path, rng, capfd, kind, bits, shape):
    """By PNG's own table of passes (section 8.2), each of its rows behind a filter of 0."""
    pixels = rng.integers(0, 1 << bits, shape).astype("u2" if bits == 16 else "u1")
    raw = b""
    for top, left, down, across in PASSES:
        for row in pixels[top::down, left::across]:
            if row.size:
                small = np.unpackbits(row.reshape(-1, 1), axis=1)[:, -bits:] if bits < 8 else None
                packed = row.astype(">u2").tobytes() if bits == 16 else row.tobytes()
                raw += b"\0" + (packed if small is None else np.packbits(small.ravel()).tobytes())
    data = png(kind, bits, zlib.compress(raw), interlaced=1, size=(shape[1], shape[0]))
    if kind == 3:
        data = data[:33] + png_palette() + data[33:]
    (tmp_path / "a.png").write_bytes(data)
    read = sp.open(tmp_path / "a.png").pixels().data
    np.testing.assert_array_equal(read, np.atleast_3d(pixels).transpose(2, 0, 1)[: len(read)])
    assert capfd.readouterr().err == ""


def png_palette():
    body = bytes(range(12))
    return struct.pack(">L", 12) + b"PLTE" + body + struct.pack(">L", zlib.crc32(b"PLTE" + body))


def changed(seed, name, old, new):
    files = dict(seed)
    assert old in files[name]
    return {**files, name: files[name].replace(old, new)}


def of_zarr(text):
    files = KINDS["zarr"].seeds()[-1]
    return {"a.zarr/zarr.json": text, **{k: v for k, v in files.items() if k != "a.zarr/zarr.json"}}


def bomb():
    """An archive of 60 kB that claims, and holds, what no memory holds."""
    head, archive = io.BytesIO(), io.BytesIO()
    np.lib.format.write_array_header_1_0(
        head, {"descr": "|u1", "fortran_order": False, "shape": (9000, 90000)}
    )
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED) as members:
        members.writestr("a.npy", head.getvalue() + bytes(60_000_000))
    return {"a.npz": archive.getvalue()}


FOUND = {
    "npz, a bomb": ("npz", bomb),
    "layers, channels nested": ("layers", lambda: changed(
        kinds._layer_files()[0], "a.layers.toml", b"[3, 2, 1]", b"[3, 2, [[]]]")),
    "zarr, a head that is true": ("zarr", lambda: of_zarr(b"true")),
    "zarr, a head that is text": ("zarr", lambda: of_zarr(b"no JSON")),
    "zarr, attributes are a list": ("zarr", lambda: of_zarr(json.dumps(
        {"zarr_format": 3, "node_type": "array", "attributes": [1]}).encode())),
    "nifti, frames without end": ("nifti", lambda: {"a.nii": kinds.head(
        dims=(1, 1, 1, 900, 900)) + bytes(900)}),
    "nifti, more than is there": ("nifti", lambda: {"a.nii": kinds.head(
        dims=(5, 4, 30000, 30000)) + b"\0" * 350}),
    "fits, more than is there": ("fits", lambda: changed(
        kinds._fits()[0], "a.fits", b"NAXIS3  =                    3",
        b"NAXIS3  =                65535")),
    "look, a region that is a number": ("look", lambda: {
        "a.look.toml": b"limits_from = {rows = 3.5}"}),
    "look, a region without end": ("look", lambda: {
        "a.look.toml": b"limits_from = {rows = [0, inf]}"}),
    "nifti, a slice of a line": ("nifti", lambda: {"a.nii": kinds.head(
        dims=(6, 5, 4), sform=np.diag([1e9, 1, 1e-3, 1])) + bytes(240)}),
    "look, a wide blur": ("look", lambda: {"a.look.toml": b"sharpen = [4000000.0, 0.5]"}),
    "geopackage, a system by words": ("geopackage", lambda: changed(
        kinds._packages()[0], "a.gpkg", b"EPSG", b"\xe3PSG")),
}  # fmt: skip


@pytest.mark.parametrize("name", FOUND)
def test_what_was_found_once(name):
    kind, files = FOUND[name]
    [(_, outcome)] = outcomes(iter([files()]), KINDS[kind].use)
    assert not outcome.fault, outcome
