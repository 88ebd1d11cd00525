"""Slices of volumes: an oblique one against SciPy, and the times a person waits."""

from __future__ import annotations

import gzip
import shutil
import warnings
from collections.abc import Iterator
from pathlib import Path

import numpy as np

import spectrane as sp
from benchmarks.contest import Row, contest, waited
from spectrane.demo.series import dicom_file
from spectrane.kernels import choice

SHAPE = (512, 512, 600)
FILES = 300


def rows(folder: Path) -> Iterator[Row]:
    """Measure every row; a volume, a packed one, and a series are made once in ``folder``."""
    plain, packed = _volumes(folder)
    yield from _oblique(plain)
    yield from _slices(plain, packed)
    yield from _series(folder / "series")
    yield from _slabs()
    yield from _pictures(folder)
    yield _groups()


def _slabs() -> Iterator[Row]:
    """Project slabs of a volume in memory, against NumPy's own reduction and a slice."""
    from scipy.ndimage import map_coordinates

    shape = (512, 512, 220)
    values = np.random.default_rng(0).integers(-1000, 2000, shape).astype(np.int16)
    volume = sp.volume_from_array(values, affine=np.diag([0.7, 0.7, 0.8, 1.0]))
    for plane, at, thick, project, part in (
        ("coronal", 179.0, 20.0, "maximum", np.s_[:, 242:270, :]),
        ("axial", 88.0, 100.0, "mean", np.s_[:, :, 48:173]),
    ):
        axis = 1 if plane == "coronal" else 2
        reduced = values[part]

        def by_numpy(plane: str = plane, at: float = at, axis: int = axis,
                     held: np.ndarray = reduced, project: str = project) -> None:  # fmt: skip
            for _ in range(5):
                held.max(axis=axis) if project == "maximum" else held.mean(axis=axis)
            volume.slice(plane, at=at).pixels()

        yield contest(
            f"{plane} {project} of {thick:g} mm, 512 x 512 x 220 int16 in memory",
            lambda plane=plane, at=at, thick=thick, project=project: volume.slice(
                plane, at=at, slab=thick, project=project).pixels(),
            by_numpy, 1.0, "five reductions by NumPy and a slice",
        )  # fmt: skip
    about = sp.Oblique((179.0, 179.0, 88.0), (0.2, 0.3, 0.9))
    side = 29  # planes of a slab of 20 mm at 0.7 mm
    rows = columns = 300
    r, c = np.mgrid[:rows, :columns]
    points = np.stack([120 + 0.9 * r + 0.1 * c, 130 + 0.9 * c - 0.1 * r, 60 + 0.2 * r + 0.1 * c])
    slab = volume.slice("oblique", oblique=about, slab=20.0)._source
    choice.force("loop")

    def by_scipy() -> None:
        for plane in range(side):
            map_coordinates(values, points + plane * 0.3, order=1, output=np.float32)

    yield contest("oblique slab of 20 mm of it, 300 x 300 pixels (at most 1/6)",
                  lambda: slab.read([0], ((150, 450), (150, 450))), by_scipy, 1 / 6,
                  "map_coordinates of order 1")  # fmt: skip
    choice.force(None)
    look = [(volume, sp.Look(limits=(-1000, 2000)))]
    yield contest("montage of 12 without a span", lambda: sp.montage(look, count=12),
                  lambda: sp.montage(look, count=12, span=(5, 170)), 1.2,
                  "that with a span")  # fmt: skip


def _pictures(folder: Path) -> Iterator[Row]:
    """Write a picture of every frame of a series through the command."""
    from click.testing import CliRunner

    from spectrane.cli.entry import commands

    series, out = folder / "frames.nii", folder / "frames"
    out.mkdir(exist_ok=True)
    values = np.random.default_rng(0).normal(size=(50, 64, 64, 36)).astype(np.float32)
    sp.volume_from_array(values, affine=np.diag([3, 3, 3.5, 1])).save(series, overwrite=True)
    words = ["slices", str(series), "-o", str(out / "f.png"), "--plane", "axial", "--frames",
             "numbered", "--overwrite"]  # fmt: skip
    yield waited("50 numbered pictures of 64 x 64 x 36 x 50",
                  lambda: CliRunner().invoke(commands, words), 1.5)  # fmt: skip


def _groups() -> Row:
    """Find the groups of a map of t, against labelling it alone."""
    from scipy.ndimage import gaussian_filter, label

    smooth = gaussian_filter(np.random.default_rng(1).normal(size=(91, 109, 91)), 4)
    t = (smooth / smooth.std()).astype(np.float32)
    volume = sp.volume_from_array(t, affine=np.diag([2.0, 2, 2, 1]))
    layer = sp.VolumeLayer(volume, threshold=sp.Threshold(1, at=2.5))
    return contest("groups of a map of t, 91 x 109 x 91", lambda: sp.cluster_rows(layer),
                   lambda: label(np.abs(t) >= 2.5, np.ones((3, 3, 3))), 2.0,
                   "SciPy's labelling")  # fmt: skip


def _oblique(plain: Path) -> Iterator[Row]:
    """Cut a plane askew through the file, against the same points of the array in memory."""
    from scipy.ndimage import map_coordinates

    with sp.open(plain) as straight:
        values = np.asarray(straight.voxels(physical=False))
    first, second = 0.4, 0.5
    about = np.array([[1, 0, 0], [0, np.cos(second), -np.sin(second)],
                      [0, np.sin(second), np.cos(second)]])  # fmt: skip
    turn = np.array([[np.cos(first), -np.sin(first), 0], [np.sin(first), np.cos(first), 0],
                     [0, 0, 1]]) @ about  # fmt: skip
    affine = np.eye(4)
    affine[:3, :3] = turn * [0.7, 0.7, 0.5]
    affine[:3, 3] = -affine[:3, :3] @ (np.array(SHAPE) / 2)
    askew = sp.volume_from_array(values, affine=affine)
    side = slice(200, 600)  # where the plane lies inside the volume
    source = askew.slice("axial", at=3.0)._source
    origin, down, across = source.steps()
    r, c = np.mgrid[side, side]
    points = [o + r * d + c * a for o, d, a in zip(origin, down, across, strict=True)]
    choice.force("loop")
    yield contest(
        "oblique slice, trilinear, 2 threads (at most 1/6)",
        lambda: source.read([0], ((200, 600), (200, 600))),
        lambda: map_coordinates(values, points, order=1, output=np.float32),
        1 / 6, "map_coordinates of order 1",
    )  # fmt: skip
    choice.force(None)


def _volumes(folder: Path) -> tuple[Path, Path]:
    plain, packed = folder / "large.nii", folder / "large.nii.gz"
    if not packed.exists():
        i, j, k = (np.arange(n, dtype=np.float32) for n in SHAPE)
        plane = 600 * np.sin(i / 40)[:, None] + 500 * np.cos(j / 50)[None, :]
        values = np.empty(SHAPE, np.int16)
        for number, depth in enumerate(k):
            values[..., number] = plane * np.cos(depth / 60)
        volume = sp.volume_from_array(values, affine=np.diag([0.7, 0.7, 0.5, 1]))
        volume.save(plain, overwrite=True)
        with plain.open("rb") as whole, gzip.open(packed, "wb", compresslevel=1) as out:
            shutil.copyfileobj(whole, out, 1 << 20)
    return plain, packed


def plain_volume(folder: Path) -> Path:
    """Write (once) a volume of 512 x 512 x 600 int16, not packed, and return its path."""
    return _volumes(folder)[0]


def _slices(plain: Path, packed: Path) -> Iterator[Row]:
    places = iter(np.linspace(60.0, 240.0, 200).tolist())
    with sp.open(plain) as volume:
        for plane in ("axial", "coronal", "sagittal"):
            yield waited(
                f"{plane} slice of 512 x 512 x 600, uncompressed, each at another place",
                lambda plane=plane: volume.slice(plane, at=next(places)).pixels(), 0.05,
            )  # fmt: skip
        noise = np.random.default_rng(3).normal(0, 3, (2, 60, 60, 60)).astype(np.float32)
        spread = np.diag([6.0, 6.0, 5.0, 1.0])
        effect = sp.volume_from_array(noise, affine=spread, frames=["change", "t"])
        layers = [
            sp.VolumeLayer(volume, sp.Look(limits=(-800, 800))),
            sp.VolumeLayer(effect, sp.Look(colormap="ebbflow", limits=(-9, 9)),
                           threshold="abs(t) >= 5"),
        ]  # fmt: skip
        yield waited("three planes of it with a thresholded map, 1280 x 800",
                      lambda: sp.three_planes(layers), 1.0)  # fmt: skip
    with sp.open(packed) as volume:
        volume.slice("axial", at=290.0).pixels()  # the one pass
        yield waited("an axial slice from .nii.gz after one pass",
                      lambda: volume.slice("axial", at=next(places)).pixels(), 0.2)  # fmt: skip


def _series(folder: Path) -> Iterator[Row]:
    if not folder.is_dir():
        folder.mkdir()
        rng = np.random.default_rng(1)
        pixels = rng.integers(0, 4000, (512, 512)).astype("<i2").tobytes()
        for k in range(FILES):
            (folder / f"{k * 7919 % 9973:05d}").write_bytes(dicom_file({
                "SOPClassUID": "1.2.840.10008.5.1.4.1.1.2", "SOPInstanceUID": f"2.25.7.{k + 1}",
                "Modality": "CT", "SeriesInstanceUID": "2.25.7", "SamplesPerPixel": 1,
                "PhotometricInterpretation": "MONOCHROME2", "Rows": 512, "Columns": 512,
                "BitsAllocated": 16, "BitsStored": 16, "HighBit": 15, "PixelRepresentation": 1,
                "ImagePositionPatient": f"0\\0\\{k}", "ImageOrientationPatient": "1\\0\\0\\0\\1\\0",
                "PixelSpacing": "0.7\\0.7", "RescaleSlope": "1", "RescaleIntercept": "-1024",
                "PixelData": pixels,
            }))  # fmt: skip

    def opened() -> None:
        with warnings.catch_warnings(), sp.open(folder):
            warnings.simplefilter("ignore")

    yield waited(f"a series of {FILES} files opened", opened, 0.4e-3 * FILES)
