"""The public face: one list of names, thin methods, and the whole round a user makes."""

from __future__ import annotations

import inspect
import pickle
import re
import warnings

import numpy as np
import pytest

import spectrane as sp


def test_every_public_name_is_there():
    assert sp.__all__ == sorted(sp.__all__)
    for name in sp.__all__:
        assert getattr(sp, name).__doc__, name
    assert set(sp.__all__) <= set(dir(sp))
    with pytest.raises(AttributeError, match=r"attribute.*nothing"):
        _ = sp.nothing


@pytest.fixture
def raster(rng):
    array = rng.integers(1, 4000, (4, 60, 80)).astype("u2")
    array[:, :, :5] = 0
    bands = [sp.Band(n, wavelength=w, scale=1e-4) for n, w in
             (("B1", 490), ("B2", 560), ("B3", 665), ("B4", 842))]  # fmt: skip
    grid = sp.Grid.from_corner((60, 80), x=480000, y=7360000, pixel_size=10, crs="EPSG:32727")
    return sp.from_array(array, grid=grid, bands=bands, nodata=0)


def test_from_array_to_file_and_back(tmp_path, raster):
    raster.save(tmp_path / "a.tif")
    with sp.open(tmp_path / "a.tif") as back:
        assert back.bands == raster.bands
        assert back.grid == raster.grid
        assert (back.shape, back.dtype) == (raster.shape, raster.dtype)
        assert (back.format, back.source) == ("TIFF", str(tmp_path / "a.tif"))
        assert back.metadata["compression"] == "DEFLATE"
        np.testing.assert_array_equal(back.pixels().filled(0), raster.pixels().filled(0))
        again = pickle.loads(pickle.dumps(back))
        np.testing.assert_array_equal(again.pixels("red").filled(0), back.pixels(3).filled(0))
        assert back.load().bands == back.bands
    assert back.pixels(1).shape == (1, 60, 80)  # closed files open again
    with pytest.raises(sp.FormatError, match="known endings: .tif, .tiff"):
        raster.save(tmp_path / "a.xyz")


def test_lazy_operations_chain(raster):
    part = raster.select(["nir", "red"]).crop(rows=(10, 50), columns=(5, 60)).crop(rows=(0, 10))
    assert part.shape == (2, 10, 55)
    np.testing.assert_array_equal(part.pixels()[0], raster.pixels("nir")[0, 10:20, 5:60])
    named = raster.with_bands({"nir": {"name": "near infrared"}}).with_nodata({1: None})
    assert named.bands[3].name == "near infrared"
    assert named.bands[0].nodata is None


def test_measures_are_tables(raster):
    table = raster.statistics(["red", "nir"])
    assert list(table.columns) == ["valid", "invalid", "min", "max", "mean", "std", "p1", "p50",
                                   "p99", "unit"]  # fmt: skip
    assert list(table.index) == ["B3", "B4"]
    red = raster.pixels("red", physical=True)
    assert table.loc["B3", "mean"] == pytest.approx(float(red.mean()), rel=1e-5)
    assert table.loc["B3", "invalid"] == 300
    region = raster.statistics("red", region=(480100, 7359800, 480200, 7359900))
    assert region.loc["B3", "valid"] == 100
    assert raster.histogram("red").counts[0].sum() == 60 * 75


def test_pictures_and_descriptions(tmp_path, raster):
    look = sp.Look(channels="natural", limits="percentile:2,98")
    picture = sp.render(raster, look, view=sp.View(rows=(0, 30)))
    assert picture.rgba.shape == (30, 80, 4)
    assert [scale.band for scale in picture.scales] == ["B3", "B2", "B1"]
    picture.save(tmp_path / "a.png")
    assert "80 columns x 60 rows" in str(raster.describe())
    assert "std" in raster.describe(statistics=True).to_dict()["statistics"][0]
    assert "<table>" in raster._repr_html_()
    assert repr(raster) == "<Raster memory: 4 bands, 60 rows x 80 columns, uint16>"


def test_masked_arrays_keep_their_mask():
    array = np.ma.MaskedArray(np.arange(4.0).reshape(2, 2), [[True, False], [False, False]])
    assert sp.from_array(array).pixels().tolist() == [[[None, 1.0], [2.0, 3.0]]]


R = sp.from_array(np.arange(12, dtype="u2").reshape(3, 4))
V = sp.volume_from_array(np.arange(60, dtype="f4").reshape(5, 4, 3), affine=np.eye(4))
MISTAKES = [
    (lambda: sp.from_array(np.zeros((60, 80, 3), "u1")), sp.MetadataError, "say band_axis=2"),
    (lambda: sp.from_array(np.zeros((6, 8, 3)), band_axis=3), sp.MetadataError, "has 3 axes"),
    (
        lambda: sp.volume_from_array(np.zeros((20, 20, 20, 4)), affine=np.eye(4)),
        sp.MetadataError,
        "say frame_axis=3",
    ),
    (
        lambda: sp.from_array(np.zeros((2, 3, 4)), bands=["red", 3]),
        sp.BandError,
        "a Band or a name",
    ),
    (lambda: R.masked(np.ones((3, 3), bool)), sp.GridMismatch, "3"),
    (lambda: R.masked("cloud.tif"), sp.ArgumentError, "becomes one by spectrane.open"),
    (lambda: V.masked(np.ones((3, 3, 3))), sp.GridMismatch, "an array of"),
    (lambda: V.profile([(1, 2)]), sp.LookError, "does not say which number is which"),
    (lambda: sp.probe(R, points=[(1, 2)]), sp.LookError, "does not say which number is which"),
    (lambda: R.select(1.5), sp.BandError, "expected a number"),
    (lambda: R.crop(rows=3), sp.LookError, "expected a pair"),
    (lambda: V.crop(i=3), sp.LookError, "expected a pair"),
    (lambda: R.pixels(size=3), sp.LookError, r"expected \(rows, columns\)"),
    (lambda: sp.render(R, size=300), sp.LookError, r"expected \(rows, columns\)"),
    (lambda: sp.render(R, view=(0, 0, 1, 1)), sp.LookError, "expected a View"),
    (lambda: sp.View(bounds=3), sp.LookError, "expected .x min"),
    (lambda: R.compute("band 1"), sp.LookError, "name: expression"),
    (lambda: R.with_bands({1: "red"}), sp.MetadataError, "expected such as"),
    (lambda: R.with_look("natural"), sp.LookError, "expected a Look"),
    (lambda: sp.Band("a", scale="2"), sp.MetadataError, "expected a number"),
    (lambda: sp.VolumeLayer(V, threshold=3), sp.LookError, "or a Threshold"),
    (lambda: sp.Layer(R, threshold=3), sp.LookError, "threshold 3: expected"),
    (lambda: sp.figures.compare(R), sp.LookError, "a list of 2 to 6"),
    (lambda: sp.figures.histogram([R]), sp.ArgumentError, "one by one"),
]


@pytest.mark.parametrize(("call", "kind", "match"), MISTAKES)
def test_a_mistaken_call_gets_one_clear_error(call, kind, match):
    with pytest.raises(kind, match=match) as caught:
        call()
    assert isinstance(caught.value, sp.SpectraneError)


def test_what_is_meant_is_taken(tmp_path):
    """NumPy's numbers, names for bands, arrays as masks, no progress, colours alone."""
    colours = sp.from_array(np.zeros((60, 80, 3), "u1"), band_axis=-1, bands=["red", "green", "b"])
    assert (colours.shape, colours.bands[0].role) == ((3, 60, 80), "red")
    chosen = np.arange(12).reshape(3, 4) > 5
    assert R.masked(chosen).pixels().mask.tolist() == [(~chosen).tolist()]
    assert (sp.mask(R, range=(0, 8)) & chosen).pixels().sum() == 3
    assert V.masked(np.ones(V.shape[1:], bool)).voxels().mask.sum() == 0
    scaled = R.with_bands({1: {"scale": np.float64(0.25), "nodata": np.uint16(3)}})
    for name in ("a.tif", "b.npy"):
        scaled.save(tmp_path / name, progress=None)
        back = sp.open(tmp_path / name).bands[0]
        assert (back.scale, back.nodata) == (0.25, 3)
    sp.amend(tmp_path / "a.tif", nodata=np.int16(7))
    with pytest.raises(sp.MetadataError, match="leave out nodata"):
        sp.amend(tmp_path / "a.tif", undo=True, nodata=9)
    assert sp.open(tmp_path / "a.tif").bands[0].nodata == 7
    frames = [sp.Frame("a", scale=np.float64(0.01))]
    volume = sp.volume_from_array(np.arange(60).reshape(5, 4, 3), affine=np.eye(4), frames=frames)
    assert sp.montage(volume, count=2).rgba.any()
    assert len(R.statistics(progress=None)) == 1
    assert sp.slice_picture((V, sp.Look(colormap="auto"))).rgba.any()


def public():
    """Return every public class, function and method with its name."""
    for name in sp.__all__:
        held = getattr(sp, name)
        if inspect.ismodule(held):
            yield from ((f"{name}.{one}", getattr(held, one)) for one in held.__all__)
            continue
        if callable(held):
            yield name, held
        if inspect.isclass(held):
            for inner, found in inspect.getmembers(held, inspect.isroutine):
                function = getattr(found, "__func__", found)
                if not inner.startswith("_") and getattr(function, "__module__", "").startswith(
                    "spectrane"
                ):
                    yield f"{name}.{inner}", function


def test_every_call_says_what_it_takes_and_shows_it():
    bare, vague = [], []
    for name, found in public():
        if inspect.isclass(found) and issubclass(found, Exception):
            continue
        if name == "Look.curve":  # the default of a field
            continue
        if ">>>" not in found.__doc__ or re.search(r"see ``[a-z_]+\.", found.__doc__):
            bare.append(name)
        if inspect.isfunction(found):
            # Arrays of any type, and tables of metadata, are what they say.
            plain = re.sub(r"(NDArray|dtype|MaskedArray|dict|Mapping)\[[^]]*\bAny\b[^]]*]", "",
                           str(inspect.signature(found)))  # fmt: skip
            vague += [name] if re.search(r"\bAny\b", plain) else []
    assert (bare, vague) == ([], [])


def test_a_users_script_runs():
    import user_script

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # random numbers are no picture that tells much
        user_script.main()
