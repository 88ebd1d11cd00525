"""Every kind of file that is read: what a good one is, how it is spoiled, how it is used."""

from __future__ import annotations

import functools
import gzip
import io
import struct
import tempfile
import warnings
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import h5py
import imagecodecs
import numpy as np
import shapely
from tests.formats import dicom_builder, fits_builder
from tests.formats.hdf5_builder import PACKED, add_packed
from tests.formats.test_nifti import head
from tests.spatial.test_shapes import blob, write_geopackage
from tests.tiff_builder import DEFLATE, LZW, PACKBITS, ZSTD, image, tiff

import spectrane as sp
from fuzzing import mutating
from fuzzing.mutating import Mutator

ARRAY = (np.arange(3 * 24 * 20).reshape(3, 24, 20) * 7 % 251).astype("u1")
GRID = sp.Grid.from_corner((24, 20), x=480000, y=7360000, pixel_size=10, crs="EPSG:32727")
BANDS = (sp.Band("red", role="red", wavelength=665), sp.Band("green", nodata=0), sp.Band("blue"))
Files = Mapping[str, bytes]


@dataclass(frozen=True)
class Kind:
    """``seeds`` are folders of files, of which the first is spoiled by ``mutate`` and then used."""

    seeds: Callable[[], list[Files]]
    mutate: Mutator
    use: Callable[[Path], object]
    share: float = 1.0
    """How many cases it gets for one of another kind; less where each takes long."""


def raster(path: Path) -> None:
    """Do what anybody does first with a file."""
    with sp.open(path) as opened:
        str(opened.describe())
        repr(opened)
        if isinstance(opened, sp.Volume):
            if np.prod(opened.shape, dtype=float) < 1e6:
                opened.voxels(1)
            opened.slice("axial").pixels()
            return
        bands, rows, columns = opened.shape
        opened.pixels([1, bands], rows=(0, min(rows, 64)), columns=(0, min(columns, 64)))
        sp.render(opened, size=(30, 40))


def listed(path: Path) -> None:
    """List what is in a file, and read each."""
    for member in sp.member_rows(path)[:4]:
        with sp.open(path, member=member["member"], damaged="keep") as opened:
            if np.prod(opened.shape, dtype=float) < 1e6:  # what is left out may be large
                opened.to_numpy(fill=0)


def either(path: Path) -> None:
    """Do the one or the other, as the bytes fall."""
    (listed if path.read_bytes()[-1:] < b"\x30" else raster)(path)


def _folder(name: str, save: Callable[[Path], object]) -> Files:
    """Return what is written, the file of this name first."""
    with tempfile.TemporaryDirectory() as folder, warnings.catch_warnings():
        warnings.simplefilter("ignore")
        save(Path(folder, name))
        files = sorted(Path(folder).rglob("*"), key=lambda path: path.name != name)
        return {str(path.relative_to(folder)): path.read_bytes()
                for path in files if path.is_file()}  # fmt: skip


def _saved(ending: str, save: Callable[[Path], object]) -> Files:
    return _folder(f"a{ending}", save)


def _ours(ending: str, **options: Any) -> Files:
    raster = sp.from_array(ARRAY, grid=GRID, bands=BANDS)
    return _saved(ending, lambda path: raster.save(path, **options))


def _tiffs() -> list[Files]:
    small = ARRAY[:2]
    tie = [(33550, "d", [10.0, 10.0, 0.0]), (33922, "d", [0.0, 0, 0, 5, 6, 0]),
           (34735, "H", [1, 1, 1, 2, 1024, 0, 1, 1, 3072, 0, 1, 32727])]  # fmt: skip
    jpeg = imagecodecs.jpeg8_encode(np.ascontiguousarray(ARRAY[:, :16, :16].transpose(1, 2, 0)))
    fields, _ = image(ARRAY[:, :16, :16], tile=(16, 16), photometric=2, extra=[(259, "H", [7])])
    made = [
        tiff(image(small, strip_rows=6, compression=DEFLATE, extra=[(42113, "s", b"0\0")])),
        tiff(image(small, tile=(16, 16), compression=LZW, predictor=2, separate=True)),
        tiff(image(small.astype("f4"), tile=(16, 16), compression=ZSTD, predictor=3, order=">"),
             order=">", big=True),
        tiff(image(small, extra=tie), image(small[:, ::2, ::2], kind=1),
             image(small[0] % 2, kind=4, bits=1, photometric=4)),
        tiff(image(small, compression=PACKBITS), subs=[image(small[:, ::2, ::2], kind=1)]),
        tiff((fields, [jpeg])),
    ]  # fmt: skip
    return [{"a.tif": data} for data in made] + [_ours(".tif")]


def _fits() -> list[Files]:
    cells = [bytes(imagecodecs.rcomp_encode(row, nblock=32)) for row in ARRAY[0]]
    plain = fits_builder.image(ARRAY, extra=[("BLANK", 0), ("CTYPE3", "WAVE"), ("CRVAL3", 5.0)])
    packed = fits_builder.empty() + fits_builder.table(
        cells, (24, 20), 8,
        extra=[("ZCMPTYPE", "RICE_1"), ("ZNAME1", "BYTEPIX"), ("ZVAL1", 1)],
    )  # fmt: skip
    return [{"a.fits": plain}, {"a.fits": packed}, {"a.fits": plain + fits_builder.image(
        ARRAY.astype("f4"), first=False)}]  # fmt: skip


def _numpys(save: Callable[..., None]) -> list[Files]:
    def made(*arrays: Any, **named: Any) -> Files:
        file = io.BytesIO()
        save(file, *arrays, **named)
        return {"a.npy" if save is np.save else "a.npz": file.getvalue()}

    if save is np.save:
        return [made(ARRAY), made(np.asfortranarray(ARRAY[0].astype(">f4"))), made(ARRAY > 9)]
    return [made(a=ARRAY, b=ARRAY[0].astype("f8"))]


def _hdf5s() -> list[Files]:
    file = io.BytesIO()
    with h5py.File(file, "w") as root:
        made = root.create_dataset("d", data=ARRAY, chunks=(1, 8, 8), compression="gzip")
        made.attrs.update({
            "_FillValue": np.uint8(0), "units": "m", "flag_values": [1, 2], "scale_factor": 0.5,
            "flag_meanings": "a b", "coordinates": "x y",
        })  # fmt: skip
        root["x"], root["y"] = np.arange(20.0), np.arange(24.0)
        root.create_group("g").create_dataset("e", data=ARRAY[0] * 1.0)
    return [{"a.h5": file.getvalue()}, _ours(".nc"), *map(_packed, PACKED)]


def _packed(number: int) -> Files:
    file = io.BytesIO()
    with h5py.File(file, "w") as root:
        add_packed(root, "d", ARRAY.astype("<i2"), (1, 8, 8), number, shuffled=number == 307)
    return {"a.h5": file.getvalue()}


def _zarrs() -> list[Files]:
    files = _folder("a.zarr", sp.from_array(ARRAY, grid=GRID, bands=BANDS).save)
    heads = [name for name in files if name.endswith((".json", ".zarray", ".zattrs"))]
    return [{name: files[name], **files} for name in (*heads, list(files)[-1])]


def _niftis() -> list[Files]:
    single = head(2, dims=(5, 4, 3, 2), extension=struct.pack("<ii", 16, 6) + bytes(8)) + bytes(240)
    first = head(dims=(6, 5, 4), slope=0.5, window=(0, 9)) + ARRAY.tobytes()[:240]
    return [{"a.nii": single}, {"a.nii": first}]


def _dicoms() -> list[Files]:
    planes = [
        {f"{k}.dcm": dicom_builder.image(ARRAY[k], more=dicom_builder.plane(k))} for k in range(3)
    ]
    packed = dicom_builder.image(
        ARRAY[0], syntax="1.2.840.10008.1.2.4.80",
        packed=dicom_builder.encapsulated([imagecodecs.jpegls_encode(ARRAY[0])]))  # fmt: skip
    frames = dicom_builder.image(
        ARRAY, frames=3, more=[*dicom_builder.plane(0), (0x00180088, "DS", "2")])  # fmt: skip
    return [{"a.dcm": frames}, {"a.dcm": packed}, planes[0] | planes[1] | planes[2],
            {"a.dcm": dicom_builder.image(ARRAY[0], syntax=dicom_builder.IMPLICIT)}]  # fmt: skip


def _jpegs() -> list[Files]:
    cube = np.ascontiguousarray(ARRAY.transpose(1, 2, 0))
    return [{"a.jpg": imagecodecs.jpeg8_encode(cube)}, _ours(".jpg"),
            {"a.jpg": imagecodecs.jpeg8_encode(ARRAY[0])}]  # fmt: skip


def _jpegs2000() -> list[Files]:
    return [{"a.jp2": imagecodecs.jpeg2k_encode(ARRAY[0], codecformat=kind, level=0)}
            for kind in ("jp2", "j2k")]  # fmt: skip


LOOK = """channels = [1, 2, 3]
limits = [[0, 9], "percentile:1,99", "minmax"]
curve = "gamma:2"
local_contrast = 2.0
sharpen = [2.0, 0.5]
saturation = 1.2
limits_from = {rows = [0, 9], columns = [2, 9]}
nodata_color = "#ff00ff"
"""
MAPPED = """channels = [1]
colormap = {name = "own", colors = ["#000000", "#808080", "#ffffff"], under = "#ff0000"}
limits = "deviation:2"
invert = true
resample = "cubic"
"""
CLASSES = """channels = [1]
classes = {1 = ["#ff0000", "one"], 2 = ["#00ff00", "two"]}
"""
SIDECAR = """version = 1
notes = "x"
coded = false
nodata = {value = [0, [250, 255]], when = "any"}
bands = [{number = 1, name = "a", role = "red", wavelength = 665.0, scale = 0.5, offset = 1.0}]
grid = {crs = "EPSG:32727", corner = [480000.0, 7360000.0], pixel_size = [10.0, -10.0]}
look = {channels = [1], limits = [0, 9], curve = "sqrt"}
"""
RAW = """version = 1
raw = {rows = 24, columns = 20, bands = 3, type = "uint8", order = "little", header = 0}
grid = {bounds = [0.0, 0.0, 20.0, 24.0], crs = "EPSG:32727"}
"""
SHAPES = b"""{"type": "FeatureCollection",
"crs": {"type": "name", "properties": {"name": "EPSG:32727"}},
"features": [{"type": "Feature", "id": 1, "properties": {"name": "bed", "depth": 4.5},
"geometry": {"type": "Polygon", "coordinates": [[[480020, 7359900], [480120, 7359900],
[480120, 7359990], [480020, 7359900]]]}}, {"type": "Feature", "properties": {"name": "line"},
"geometry": {"type": "GeometryCollection", "geometries": [
{"type": "LineString", "coordinates": [[480020, 7359900], [480120, 7359990]]},
{"type": "MultiPoint", "coordinates": [[480050, 7359950]]}]}}]}"""
LAYERS = (
    'layer = [{file = "b.tif", nodata = 0, opacity = 1, '
    'look = {channels = [3, 2, 1], limits = "percentile:2,98"}}, '
    '{file = "b.tif", compute = {height = "-band(1)"}, '
    'relief = {azimuth = 315, altitude = 45}, mode = "multiply"}, '
    '{outline = "c.geojson", label = "name", width = 3, color = "#ff0000", crs = "EPSG:32727"}]'
)
TIES = b"name,row,column,x,y\na,0,0,0,0\nb,0,20,20,0\nc,24,20,20,24\nd,24,0,0,24\ne,12,10,10,12\n"
POINTS = b"name;x;y;crs\na;480010,5;7359990;\nb;480110;7359900;EPSG:32727\n"
SPECTRA = b"wavelengths = [490.0, 665.0]\nunit = 'reflectance'\nspectra = {water = [0.05, 0.02]}\n"
COLORS = b"red,green,blue,alpha\n0,0,0,255\n120,30,40,255\n255,255,255,255\n"


@functools.cache
def base() -> sp.Raster:
    """Return the raster that texts are used on."""
    return sp.from_array(ARRAY, grid=GRID, bands=BANDS)


def look(path: Path) -> None:
    """Draw with a look."""
    sp.render(base(), sp.Look.load(path))


def shapes(path: Path) -> None:
    """Use shapes for all that they are good for."""
    shape = sp.read_shapes(path)
    base().clip(shape, extent="full").pixels()
    base().statistics(region=shape)
    sp.overlay([base(), sp.Outline(shape, label=True, fill="#ffffff")])


def colors(path: Path) -> None:
    """Draw with a colour map."""
    sp.render(base().select([1]), sp.Look(colormap=sp.Colormap.load(path)))


def layers(path: Path) -> None:
    """Draw the layers of a file of them."""
    loaded = sp.load_layers(path)
    sp.overlay([base(), *loaded.layers])


def kml(path: Path) -> None:
    """Read the layers of a KML or KMZ file, and their pixels."""
    from spectrane.pages import read_kml

    for layer in read_kml(path):
        if isinstance(layer, sp.Layer):
            sp.Raster(layer.source).pixels(rows=(0, 2), columns=(0, 2))


def ties(path: Path) -> None:
    """Give a picture a place by tie points."""
    sp.place(sp.from_array(ARRAY), points=path, crs="EPSG:32727").pixels([1])


def points(path: Path) -> None:
    """Tell what stands under points, and along them."""
    sp.probe_rows(base(), points=path)


def spectra(path: Path) -> None:
    """Compare pixels with spectra."""
    known = sp.Spectra.load(path)
    for name in list(known.known)[:3]:
        str(known[name])


def _texts(
    name: str, *texts: bytes | str, beside: Files | None = None
) -> Callable[[], list[Files]]:
    return lambda: [{name: text.encode() if isinstance(text, str) else text, **(beside or {})}
                    for text in texts]  # fmt: skip


def _sidecars() -> list[Files]:
    beside = {"a.tif": _tiffs()[0]["a.tif"]}
    return [{"a.tif.spectrane.toml": SIDECAR.encode(), **beside},
            {"a.tif.spectrane.toml": RAW.encode(), "a.tif": ARRAY.tobytes()}]  # fmt: skip


def _maps(ending: str) -> Callable[[], list[Files]]:
    def made() -> list[Files]:
        from spectrane.pages import write_kml

        layers = [sp.Layer(base()), sp.Layer(base(), opacity=0.5)]
        writers = [functools.partial(write_kml, layers, quad=quad, size=(40, 50))
                   for quad in (True, False)]  # fmt: skip
        return [_folder(f"a{ending}", write) for write in writers]

    return made


def _packages() -> list[Files]:
    square = shapely.Polygon([(480020, 7359900), (480120, 7359900), (480120, 7359990)])
    rows = [(blob(square), "x"), (blob(square, envelope=0, order=">"), None)]
    return [_saved(".gpkg", lambda path: write_geopackage(path, [("beds", 32727, rows)]))]


def _layer_files() -> list[Files]:
    return [
        {"a.layers.toml": LAYERS.encode(), "b.tif": _ours(".tif")["a.tif"], "c.geojson": SHAPES}
    ]


def beside(path: Path) -> None:
    """Open the file that a sidecar lies beside."""
    raster(path.with_name("a.tif"))


def folder(path: Path) -> None:
    """Open the folder that a file lies in."""
    top = next((one for one in path.parents if one.suffix == ".zarr"), path.parent)
    raster(top)


_NIFTI = mutating.fields((40, 56, "h"), (70, 74, "h"), (76, 132, "f"), (252, 256, "h"),
                         (256, 328, "f"), (16, 80, "q"), (104, 200, "d"), (0, 4, "i"))  # fmt: skip
KINDS: dict[str, Kind] = {
    "tiff": Kind(_tiffs, mutating.tiff, either),
    "tiff bytes": Kind(_tiffs, mutating.any_bytes, either),
    "fits": Kind(_fits, mutating.cards, either),
    "png": Kind(lambda: [_ours(".png"), {"a.png": imagecodecs.png_encode(ARRAY[0])}],
                mutating.chunks, either),
    "jpeg": Kind(_jpegs, mutating.segments, either),
    "jpeg 2000": Kind(_jpegs2000, mutating.segments, either),
    "npy": Kind(functools.partial(_numpys, np.save), mutating.text, either),
    "npz": Kind(functools.partial(_numpys, np.savez_compressed),
                mutating.archived({".npy": mutating.text}), either),
    "hdf5": Kind(_hdf5s, mutating.any_bytes, either, 0.25),
    "zarr": Kind(_zarrs, mutating.tree, folder, 0.25),
    "nifti": Kind(_niftis, _NIFTI, either),
    "nifti gzip": Kind(lambda: [{"a.nii.gz": gzip.compress(one["a.nii"])} for one in _niftis()],
                       mutating.packed(_NIFTI), either),
    "dicom": Kind(_dicoms, mutating.elements, either),
    "dicom folder": Kind(lambda: _dicoms()[2:3], mutating.elements, folder),
    "sidecar": Kind(_sidecars, mutating.toml, beside),
    "look": Kind(_texts("a.look.toml", LOOK, MAPPED, CLASSES), mutating.toml, look),
    "layers": Kind(_layer_files, mutating.toml, layers, 0.25),
    "geojson": Kind(_texts("a.geojson", SHAPES), mutating.tree, shapes),
    "geopackage": Kind(_packages, mutating.database, shapes),
    "kml": Kind(_maps(".kml"), mutating.markup, kml, 0.25),
    "kmz": Kind(_maps(".kmz"), mutating.archived({".kml": mutating.markup, ".png": mutating.chunks,
                                                  ".jpg": mutating.segments}), kml, 0.25),
    "colour map": Kind(_texts("a.csv", COLORS), mutating.text, colors),
    "colour map toml": Kind(lambda: [_saved(".toml", sp.colormaps["kiln"].save)],
                            mutating.toml, colors),
    "tie points": Kind(_texts("a.csv", TIES), mutating.text, ties),
    "points": Kind(_texts("a.csv", POINTS), mutating.text, points),
    "spectra": Kind(_texts("a.toml", SPECTRA), mutating.toml, spectra),
}  # fmt: skip
