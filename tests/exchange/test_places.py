"""Files from anywhere and to anywhere: bytes, open files, addresses, standard input and output."""

from __future__ import annotations

import io
import pickle
import subprocess
import sys
import zipfile

import fsspec
import numpy as np
import pytest
from fsspec.implementations.memory import MemoryFileSystem

import spectrane as sp


@pytest.fixture
def held(rng, tmp_path):
    values = rng.integers(1, 99, (2, 30, 40)).astype("u2")
    sp.from_array(values).save(tmp_path / "a.tif")
    return (tmp_path / "a.tif").read_bytes(), values


@pytest.mark.parametrize("ending", [".tif", ".png", ".npy", ".fits", ".jpg", ".nc"])
@pytest.mark.filterwarnings("ignore")
def test_bytes_and_open_files_are_read_and_written(ending, rng):
    values = rng.integers(0, 255, (3, 30, 40)).astype("u1")
    target = io.BytesIO()
    sp.from_array(values).save(target, ending=ending)
    data = target.getvalue()
    for given in (data, bytearray(data), io.BytesIO(data), io.BufferedReader(io.BytesIO(data))):
        with sp.open(given) as raster:
            assert raster.shape == (3, 30, 40)
            if ending != ".jpg":
                np.testing.assert_array_equal(raster.pixels(), values)
            if isinstance(given, bytes):
                assert pickle.loads(pickle.dumps(raster)).shape == (3, 30, 40)
    with pytest.raises(sp.FormatError, match=r"ending='\.tif'"):
        sp.from_array(values).save(io.BytesIO())


def test_open_files_stay_open_and_are_where_they_were(held, tmp_path):
    data, values = held
    with (tmp_path / "a.tif").open("rb") as file:
        raster = sp.open(file)
        np.testing.assert_array_equal(raster.pixels(rows=(3, 9)), values[:, 3:9])
        assert raster.source == str(tmp_path / "a.tif")
        with pytest.raises(TypeError, match="another process"):
            pickle.dumps(raster)
        raster.close()
        assert not file.closed
    with pytest.raises(sp.AccessError, match="closed"):
        sp.open(file)
    with pytest.raises(sp.AccessError, match="not list"):
        sp.open([1])
    with pytest.raises(sp.AccessError, match="rb"), (tmp_path / "t").open("w+") as text:
        text.seekable = lambda: False
        sp.open(text)
    with pytest.raises(sp.FormatError, match="bytes in memory: begins with"):
        sp.open(b"nothing of ours")
    assert sp.members(data)["bands"].tolist() == [2]


GRID = sp.Grid.from_corner((4, 4), x=10, y=4, pixel_size=1, crs="EPSG:4326")
PLACED = sp.from_array(np.arange(16.0).reshape(4, 4), grid=GRID)


@pytest.mark.parametrize(
    ("name", "write", "read"),
    [
        ("a.look.toml", sp.Look(curve="sqrt").save, lambda given, **how: sp.Look.load(
            given, **how) == sp.Look(curve="sqrt")),
        ("kiln.toml", sp.colormaps["kiln"].save, lambda given, **how: sp.Colormap.load(
            given, **how) == sp.colormaps["kiln"]),
        ("kiln.csv", sp.colormaps["kiln"].save, lambda given, **how: np.array_equal(
            sp.Colormap.load(given, **how).entries, sp.colormaps["kiln"].entries)),
        ("a.toml", sp.Spectra([490.0], {"water": [0.05]}).save, lambda given, **how:
            sp.Spectra.load(given, **how).known == {"water": [0.05]}),
        ("a.gpkg", lambda to, **how: sp.save_shapes(GRID, to, **how), lambda given, **how:
            sp.read_shapes(given, **how).crs == "EPSG:4326"),
        ("a.geojson", lambda to, **how: sp.save_shapes(GRID, to, **how), lambda given, **how:
            sp.read_shapes(given, **how).crs and PLACED.clip(given).shape == (1, 4, 4)),
        ("a.kmz", lambda to, **how: sp.pages.kmz([PLACED], to, **how), None),
        ("a.html", lambda to, **how: sp.pages.overlay_page([PLACED], to, **how), None),
    ],
)  # fmt: skip
@pytest.mark.filterwarnings("ignore")
def test_small_files_go_anywhere_and_come_from_anywhere(name, write, read):
    held = io.BytesIO()
    ending = (
        {"ending": name[name.rindex(".") :]} if name in ("kiln.csv", "a.gpkg", "a.geojson") else {}
    )
    write(held, **ending)
    assert len(held.getvalue()) > 10
    MemoryFileSystem.store.pop(f"/small/{name}", None)
    write(f"memory://small/{name}", storage_options={})
    assert len(MemoryFileSystem.store[f"/small/{name}"].getvalue()) > 10
    with pytest.raises(sp.ExistingFile, match="memory://small"):
        write(f"memory://small/{name}")
    if read is not None:
        for given in (f"memory://small/{name}", held.getvalue(), io.BytesIO(held.getvalue())):
            assert read(given)
        with pytest.raises(sp.MissingFile, match="memory://small/none"):
            read(f"memory://small/none{name}")
        held.close()
        with pytest.raises(sp.AccessError, match="closed"):
            read(held)
        with pytest.raises(sp.AccessError, match="are for addresses"):
            read(name, storage_options={"anon": True})


def test_a_moving_picture_goes_forwards(tmp_path):
    dated = []
    for day in (1, 2):
        PLACED.save(tmp_path / f"{day}.tif")
        sp.amend(tmp_path / f"{day}.tif", metadata={"date": f"2026-04-0{day}"})
        dated.append(sp.open_raster(tmp_path / f"{day}.tif"))
    held = io.BytesIO()
    sp.moving_picture(dated, held, size=(40, 40))
    assert b"acTL" in held.getvalue()


def test_pictures_figures_and_shapes_go_forwards_too(held, rng):
    picture = sp.render(sp.from_array(held[1][0]))
    for write, start in (
        (lambda target: picture.save(target), b"\x89PNG"),
        (lambda target: sp.figures.save_figure(sp.figures.swatches(), target, ending=".pdf"),
         b"%PDF"),
        (lambda target: sp.save_shapes(sp.Grid((2, 2)), target, ending=".gpkg"), b"SQLite"),
        (lambda target: sp.volume_from_array(np.ones((2, 2, 2)), affine=np.eye(4)).save(
            target, ending=".nii.gz"), b"\x1f\x8b"),
    ):  # fmt: skip
        target = io.BytesIO(b"")
        write(target)
        assert target.getvalue().startswith(start)


def test_addresses_are_written_read_and_not_overwritten(held, tmp_path):
    data, values = held
    address = "memory://kept/deep/b.tif"
    raster = sp.open(data)
    raster.save(address)
    np.testing.assert_array_equal(sp.open(address).pixels(), values)
    with pytest.raises(sp.ExistingFile):
        raster.save(address)
    raster.crop(rows=(0, 5)).save(address, overwrite=True)
    assert sp.open(address).shape == (2, 5, 40)
    raster.save("memory://kept/store.zarr")
    assert fsspec.filesystem("memory").exists("/kept/store.zarr/zarr.json")
    with zipfile.ZipFile(tmp_path / "pack.zip", "w") as pack:
        pack.writestr("in/a.tif", data)
    inside = f"zip://in/a.tif::{tmp_path}/pack.zip"
    np.testing.assert_array_equal(sp.open(inside).pixels(), values)
    with pytest.raises(sp.AccessError, match="storage options"):
        sp.open(tmp_path / "a.tif", storage_options={"anon": True})


def test_storage_options_reach_the_storage(held):
    class Guarded(MemoryFileSystem):
        protocol = "guarded"
        cachable = False
        store, pseudo_dirs = {}, [""]

        def __init__(self, *, word=None, **rest):
            super().__init__(**rest)
            if word != "sesame":
                raise PermissionError("the word is wrong")

    fsspec.register_implementation("guarded", Guarded, clobber=True)
    word = {"word": "sesame"}
    sp.open(held[0]).save("guarded://a.tif", storage_options=word)
    raster = sp.open("guarded://a.tif", storage_options=word)
    np.testing.assert_array_equal(pickle.loads(pickle.dumps(raster)).pixels(), held[1])
    with pytest.raises(sp.AccessError, match="word is wrong|denied|cannot be read"):
        sp.open("guarded://a.tif")


@pytest.fixture
def bucket(monkeypatch):
    """An S3 server of this machine alone, and how to reach it."""
    from moto.server import ThreadedMotoServer

    for name, value in (("AWS_ACCESS_KEY_ID", "a"), ("AWS_SECRET_ACCESS_KEY", "b"),
                        ("AWS_DEFAULT_REGION", "us-east-1")):  # fmt: skip
        monkeypatch.setenv(name, value)
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    options = {
        "client_kwargs": {"endpoint_url": f"http://{host}:{port}"},
        "key": "a",
        "secret": "b",
    }
    fsspec.filesystem("s3", **options).mkdir("scenes")
    yield options
    server.stop()


@pytest.mark.filterwarnings("ignore")
def test_buckets_are_read_by_ranges_and_written(held, bucket):
    data, values = held
    sp.open(data).save("s3://scenes/deep/a.tif", storage_options=bucket)
    with sp.open("s3://scenes/deep/a.tif", storage_options=bucket) as raster:
        np.testing.assert_array_equal(raster.pixels(rows=(2, 9)), values[:, 2:9])
    with pytest.raises(sp.MissingFile, match="no such file"):
        sp.open("s3://scenes/deep/b.tif", storage_options=bucket)
    with pytest.raises(sp.ExistingFile):
        sp.open(data).save("s3://scenes/deep/a.tif", storage_options=bucket)


def piped(data, *words):
    done = subprocess.run([sys.executable, "-m", "spectrane", *map(str, words)], input=data,
                          capture_output=True, timeout=60)  # fmt: skip
    return done.returncode, done.stdout, done.stderr.decode()


def test_commands_pass_on_what_comes_in(held, tmp_path):
    data, values = held
    status, said, _ = piped(data, "describe", "-")
    assert (status, b"40 columns x 30 rows" in said) == (0, True)
    status, picture, told = piped(data, "render", "-", "--channels", "2", "-o", "-")
    assert (status, picture[:4]) == (0, b"\x89PNG")
    assert "40 x 30" in told
    status, out, _ = piped(data, "export", "-", "-o", "-", "--bands", "2")
    assert status == 0
    np.testing.assert_array_equal(sp.open(out).pixels()[0], values[1])
    status, out, told = piped(data, "render", "-", "-o", "-", "--json")
    assert (status, out, "both want" in told) == (2, b"", True)
    status, out, told = piped(b"nothing", "render", "-", "-o", "-")
    assert (status, out, "error: -: begins with" in told) == (1, b"", True)
