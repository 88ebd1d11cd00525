"""Files from anywhere and to anywhere: bytes, open files, addresses, standard input and output."""

from __future__ import annotations

import gzip
import io
import pickle
import re
import subprocess
import sys
import tarfile
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
    told = sp.open(data).describe().to_dict()
    assert not [one for one in told["warnings"] if one["fix"].startswith("spectrane amend")]
    for given in (data, bytearray(data), io.BytesIO(data), io.BufferedReader(io.BytesIO(data))):
        with sp.open(given) as raster:
            assert raster.shape == (3, 30, 40)
            if ending != ".jpg":
                np.testing.assert_array_equal(raster.pixels(), values)
            if isinstance(given, bytes):
                assert pickle.loads(pickle.dumps(raster)).shape == (3, 30, 40)
    with pytest.raises(sp.FormatError, match=r"ending='\.tif'"):
        sp.from_array(values).save(io.BytesIO())
    for target, name in ((io.BytesIO(), "an open file"), ("memory://a.gpkg", "memory://a.gpkg")):
        with pytest.raises(sp.FormatError, match=f"^{name}: cannot write .gpkg"):
            sp.from_array(values).save(target, ending=".gpkg")


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


@pytest.fixture
def word():
    """What opens a storage that lets in nobody without: ``guarded://``."""

    class Guarded(MemoryFileSystem):
        protocol = "guarded"
        cachable = False
        store, pseudo_dirs = {}, [""]

        def __init__(self, *, word=None, **rest):
            super().__init__(**rest)
            if word != "sesame":
                raise PermissionError("the word is wrong")

    fsspec.register_implementation("guarded", Guarded, clobber=True)
    return {"word": "sesame"}


def test_storage_options_reach_the_storage(held, word):
    sp.open(held[0]).save("guarded://a.tif", storage_options=word)
    raster = sp.open("guarded://a.tif", storage_options=word)
    np.testing.assert_array_equal(pickle.loads(pickle.dumps(raster)).pixels(), held[1])
    with pytest.raises(sp.AccessError, match="word is wrong|denied|cannot be read"):
        sp.open("guarded://a.tif")


def test_a_layer_file_names_what_lies_beside_it(held, word, tmp_path):
    grid = sp.Grid.from_corner((30, 40), x=0, y=30, pixel_size=1, crs="EPSG:4326")
    sea = {"type": "Polygon", "coordinates": [[[2, 28], [30, 28], [30, 4], [2, 28]]]}
    text = """
        [[layer]]
        file = "a.tif"
        look = "a.look.toml"
        clip = "sea.gpkg"
        [[layer]]
        outline = "sea.gpkg"
    """
    (tmp_path / "in").mkdir()
    for place, told in (("guarded://in/", {"storage_options": word}), (f"{tmp_path}/in/", {})):
        sp.from_array(held[1], grid=grid).save(f"{place}a.tif", **told)
        sp.Look(channels=(2,), limits="fixed:0,90").save(f"{place}a.look.toml", **told)
        sp.save_shapes(sea, f"{place}sea.gpkg", **told)
    fsspec.filesystem("guarded", **word).pipe("guarded://in/b.layers.toml", text.encode())
    (tmp_path / "in/b.layers.toml").write_text(text)
    pack = tmp_path / "pack.zip"
    with zipfile.ZipFile(pack, "w") as file:
        for one in (tmp_path / "in").iterdir():
            file.write(one, f"in/{one.name}")
    places = [(tmp_path / "in/b.layers.toml", None), ("guarded://in/b.layers.toml", word),
              (f"zip://in/b.layers.toml::{pack}", None)]  # fmt: skip
    drawn = [sp.overlay(sp.load_layers(place, storage_options=told).layers).rgba
             for place, told in places]  # fmt: skip
    assert (drawn[0][..., 3] == 0).any()
    for one in drawn[1:]:
        np.testing.assert_array_equal(one, drawn[0])
    with pytest.raises(sp.MissingFile, match=r"a\.look\.toml"):  # from the folder of work
        sp.load_layers(text.encode())


def test_folders_of_a_storage_are_surveyed_and_zarr_is_read_there(held, word, tmp_path):
    raster = sp.from_array(held[1], bands=["one", "two"], nodata=7)
    (tmp_path / "in/deep").mkdir(parents=True)
    raster.save(tmp_path / "in/deep/b.zarr")
    raster.save(tmp_path / "in/a.tif")
    (tmp_path / "in/bad.png").write_bytes(b"\x89PNG\r\n\x1a\n")
    (tmp_path / "in/readme.txt").write_text("nothing")
    with zipfile.ZipFile(tmp_path / "pack.zip", "w") as file:
        for one in (tmp_path / "in").rglob("*"):
            if one.is_file():
                file.write(one, one.relative_to(tmp_path))
    storage = fsspec.filesystem("guarded", **word)
    for one in (tmp_path / "in").rglob("*"):
        if one.is_file():
            storage.pipe(f"guarded://{one.relative_to(tmp_path)}", one.read_bytes())
    wanted = sp.survey(tmp_path / "in")
    assert wanted["format"].tolist() == ["TIFF", "PNG", "Zarr"]
    for place, options in ((f"zip://in::{tmp_path}/pack.zip", None), ("guarded://in", word),
                           (f"zip://::{tmp_path}/pack.zip", None)):  # fmt: skip
        found, kept = sp.survey(place, storage_options=options), ["format", "rows", "bands", "type"]
        assert found[kept].equals(wanted[kept])
        for row in found[found.problem == ""].itertuples():
            opened = sp.open(row.path, storage_options=options)
            for one in (opened, pickle.loads(pickle.dumps(opened))):
                np.testing.assert_array_equal(one.pixels().data, held[1])
            assert opened.title in ("a.tif", "b.zarr")
            assert len(sp.members(row.path, storage_options=options)) >= 1
    with zipfile.ZipFile(tmp_path / "less.zip", "w") as less:
        for one in (tmp_path / "in/deep").rglob("*"):
            if one.is_file() and "c" not in one.parts:  # a chunk left out holds the fill value
                less.write(one, one.relative_to(tmp_path / "in/deep"))
    sparse = sp.open(f"zip://b.zarr::{tmp_path}/less.zip").pixels().data
    assert (sparse == sparse[0, 0, 0]).all()
    for name in (f"zip://in/a.tif::{tmp_path}/pack.zip", "memory://nowhere"):
        with pytest.raises(sp.FormatError, match="is not a folder"):
            sp.survey(name)
    with pytest.raises(sp.FormatError, match=f"spectrane survey zip://in::{tmp_path}"):
        sp.open(f"zip://in::{tmp_path}/pack.zip")


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
def test_buckets_are_read_by_ranges_and_written(held, bucket, demo):
    data, values = held
    sp.open(data).save("s3://scenes/deep/a.tif", storage_options=bucket)
    with sp.open("s3://scenes/deep/a.tif", storage_options=bucket) as raster:
        np.testing.assert_array_equal(raster.pixels(rows=(2, 9)), values[:, 2:9])
    with pytest.raises(sp.MissingFile, match="no such file"):
        sp.open("s3://scenes/deep/b.tif", storage_options=bucket)
    with pytest.raises(sp.ExistingFile):
        sp.open(data).save("s3://scenes/deep/a.tif", storage_options=bucket)
    b, large = "s3://scenes/deep/b.zarr", sp.from_array(np.zeros((700, 800), "u1"))
    large.save(b, storage_options=bucket)
    sp.open(data).save(b, storage_options=bucket, overwrite=True)  # which is smaller
    storage = fsspec.filesystem("s3", **bucket)
    assert not [name for name in storage.find("scenes") if "partial" in name or "c/1/1" in name]
    folder = demo / "fetlock_ct"
    for one in folder.iterdir():
        storage.put_file(str(one), f"scenes/scan/{one.name}")
    found = sp.survey("s3://scenes", storage_options=bucket)
    assert found["path"].tolist() == ["s3://scenes/deep/a.tif", b, "s3://scenes/scan"]
    with pytest.warns(sp.DataWarning, match="1 duplicate left out"):
        scan, same = sp.open_volume("s3://scenes/scan", storage_options=bucket), sp.open(folder)
    np.testing.assert_array_equal(scan.voxels(k=(5, 9)), same.voxels(k=(5, 9)))
    tiles = {"folder": "s3://scenes/tiles", "zooms": (9, 10), "storage_options": bucket}
    layer = sp.open(demo / "habitats.tif")
    done = sp.pages.tiles([layer], **tiles)
    sent = [name for name in storage.find("scenes/tiles") if name.endswith(".png")]
    assert len(sent) == done.count
    with pytest.raises(sp.ExistingFile, match="s3://scenes/tiles: exists already"):
        sp.pages.tiles([layer], **tiles)
    for path in found["path"][:2]:
        with sp.open(path, storage_options=bucket) as raster:
            np.testing.assert_array_equal(raster.pixels(rows=(2, 9)), values[:, 2:9])


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


def test_a_catalogue_is_read_where_it_lies(acquisitions, word, tmp_path):
    storage = fsspec.filesystem("guarded", **word)
    for one in acquisitions.rglob("*"):
        if one.is_file():
            storage.pipe(f"guarded://cat/{one.relative_to(acquisitions)}", one.read_bytes())
    here = sp.scenes(acquisitions)
    for place in ("guarded://cat", "guarded://cat/catalog.json"):
        found = sp.scenes(place, storage_options=word)
        assert found["id"].tolist() == here["id"].tolist()
    with pytest.raises(sp.FormatError, match="holds no catalogue"):
        sp.scenes("guarded://cat/halse_20260412", storage_options=word)
    with pytest.raises(sp.AccessError, match="word is wrong|cannot be read"):
        sp.scenes(place)
    first, same = found["item"][0], here["item"][0]
    np.testing.assert_array_equal(sp.open(first).pixels(), sp.open(same).pixels())
    paths = sp.fetch(first, tmp_path)
    assert any(str(path).endswith("_red.tif") for path in paths)


def test_what_lies_beside_a_file_is_found_in_its_storage(tmp_path, word):
    volume = sp.volume_from_array(np.arange(24, dtype="i2").reshape(2, 3, 4), affine=np.eye(4))
    volume.save(tmp_path / "a.nii")
    single = (tmp_path / "a.nii").read_bytes()
    head = single[:108] + bytes(4) + single[112:344] + b"ni1\0" + single[348:352]
    grid = sp.Grid.from_corner((4, 4), x=10, y=4, pixel_size=1, crs="EPSG:4326")
    sp.pages.write_kml([sp.from_array(np.arange(16.0).reshape(4, 4), grid=grid)],
                       tmp_path / "a.kml")  # fmt: skip
    (tmp_path / "p.hdr").write_bytes(head)
    (tmp_path / "p.img").write_bytes(single[352:])
    names = ("p.hdr", "p.img", "a.kml", "a_1.png")
    with zipfile.ZipFile(tmp_path / "pack.zip", "w") as pack:
        for name in names:
            pack.write(tmp_path / name, name)
            data = (tmp_path / name).read_bytes()
            fsspec.filesystem("guarded", **word).pipe(f"guarded://deep/{name}", data)
    for place, told in ((f"zip://{{}}::{tmp_path}/pack.zip", None), ("guarded://deep/{}", word)):
        opened = sp.open_volume(place.format("p.hdr"), storage_options=told)
        np.testing.assert_array_equal(opened.voxels(), volume.voxels())
        with pytest.raises(sp.FormatError, match=f"open its head: {place.format('p.hdr')}$"):
            sp.open(place.format("p.img"), storage_options=told)
        (layer,) = sp.pages.read_kml(place.format("a.kml"), storage_options=told)
        assert layer.source.shape == (2048, 2048)


def test_commands_take_every_file_from_a_storage(demo, tmp_path, run, monkeypatch):
    names = ("sound_8band.tif", "sound_thermal.tif", "eelgrass.geojson", "stations.csv",
             "barrage_plan.png", "barrage_points.csv", "lease.geojson")  # fmt: skip
    with zipfile.ZipFile(tmp_path / "pack.zip", "w") as pack:
        for name in names:
            pack.write(demo / name, name)
        pack.writestr("a.look.toml", 'limits = "fixed:0,0.3"')
        pack.writestr("kiln.csv", "0,0,0,0\n1,255,0,0")

    def there(typed):
        return re.sub(r"@(\S+)", rf"zip://\1::{tmp_path}/pack.zip", typed).split()

    monkeypatch.chdir(tmp_path)
    for typed, told in (
        ("clip @sound_8band.tif -o clip.tif --shape @eelgrass.geojson", "clip.tif"),
        ("probe @sound_8band.tif --points @stations.csv", "beach sound_8band.tif"),
        ("place @barrage_plan.png -o p.tif --points @barrage_points.csv --crs EPSG:32727", "p.tif"),
        ("render @sound_8band.tif -o n.png --limits-without @lease.geojson", "n.png"),
        ("render @sound_8band.tif @sound_thermal.tif --out-dir many", "many/sound_thermal.png"),
        ("render @sound_thermal.tif -o l.png --look @a.look.toml", "0 to 0.3"),
        ("describe @sound_8band.tif", "fetch it, then spectrane amend sound_8band.tif --channels"),
    ):
        status, out, err = run(*there(typed))
        assert status == 0, (typed, err)
        assert told in out
        assert "spectrane amend zip" not in out + err
    for typed in ("render @sound_8band.tif -o x.png --look @none.look.toml", "describe @none.tif",
                  "probe @sound_8band.tif --points @none.csv", "scenes @none.json",
                  "overlay --layers @none.layers.toml -o x.png"):  # fmt: skip
        status, _, err = run(*there(typed))
        assert (status, "pack.zip: no such " in err) == (1, True), (typed, err)


def test_archives_are_told_and_looked_into(demo, tmp_path, run):
    with (
        zipfile.ZipFile(tmp_path / "a.zip", "w") as pack,
        tarfile.open(tmp_path / "a.tar", "w") as tape,
    ):
        for one in [*sorted((demo / "fetlock_ct").iterdir()), demo / "sound_thermal.tif"]:
            pack.write(one, one.relative_to(demo))
            tape.add(one, one.relative_to(demo))
    (tmp_path / "a.tif.gz").write_bytes(gzip.compress((demo / "sound_thermal.tif").read_bytes()))
    for kind in ("zip", "tar"):
        place = tmp_path / f"a.{kind}"
        with pytest.raises(sp.FormatError, match=f"spectrane survey {kind}://::{place}"):
            sp.open(place)
        listed = sp.survey(place)
        assert listed["format"].tolist() == ["DICOM", "TIFF"]
        assert listed["path"].tolist() == [f"{kind}://{name}::{place}" for name in
                                           ("fetlock_ct", "sound_thermal.tif")]  # fmt: skip
        status, out, _ = run("survey", place)
        assert status == 0
        assert [line.split()[0] for line in out.splitlines()[1:3]] == [
            "fetlock_ct", "sound_thermal.tif"]  # fmt: skip
    with pytest.raises(sp.FormatError, match=r"packed by gzip as a whole; unpack it first"):
        sp.open(tmp_path / "a.tif.gz")
