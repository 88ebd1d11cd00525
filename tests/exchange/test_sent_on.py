"""What commands and writers send to addresses: all of it or nothing, told by its address."""

from __future__ import annotations

import json

import fsspec
import numpy as np
import pytest
from fsspec.implementations.memory import MemoryFileSystem

import spectrane as sp


class Frail(MemoryFileSystem):
    """A storage that takes ``left`` more files."""

    protocol = "frail"
    store, pseudo_dirs, left = {}, [""], 99

    @classmethod
    def _strip_protocol(cls, path):
        return super()._strip_protocol(path.removeprefix("frail://"))

    def put_file(self, lpath, rpath, **more):
        Frail.left -= 1
        if Frail.left < 0:
            raise OSError("the storage is full")
        super().put_file(lpath, rpath, **more)


@pytest.fixture
def kept():
    """What lies in the storage, by name."""
    fsspec.register_implementation("frail", Frail, clobber=True)
    Frail.store.clear()
    Frail.pseudo_dirs[:], Frail.left = [""], 99

    def names():
        return sorted(name.lstrip("/") for name in Frail.store)

    return names


@pytest.fixture
def scene(tmp_path, rng):
    grid = sp.Grid.from_corner((30, 40), x=10, y=30, pixel_size=0.1, crs="EPSG:4326")
    raster = sp.from_array(rng.integers(1, 99, (2, 30, 40)).astype("u2"), grid=grid)
    raster.save(tmp_path / "scene.tif")
    return tmp_path / "scene.tif"


COMMANDS = {  # command and options -> what is written, of which more than these in a folder
    "render": (["-o", "frail://out/a.png"], ["out/a.png"]),
    "export": (["-o", "frail://out/a.tif"], ["out/a.tif"]),
    "clip": (["--where", "band(1) < 50", "--out-dir", "frail://out"], ["out/scene.tif"]),
    "histogram": (["-o", "frail://out/h.png"], ["out/h.png"]),
    "page": (["-o", "frail://out/a.kml"], ["out/a.kml", "out/a_1.png"]),
    "tiles": (["-o", "frail://out/t", "--zooms", "4,5"], ["out/t/tiles.json", "out/t/wmts.xml"]),
}


@pytest.mark.parametrize("command", COMMANDS)
def test_commands_write_to_addresses(kept, scene, run, command):
    more, wanted = COMMANDS[command]
    status, out, err = run(command, scene, *more, "--dry-run", *(["--json"] * (command != "page")))
    assert (status, kept()) == (0, []), err
    status, out, err = run(command, scene, *more, "--json")
    assert status == 0, err
    assert set(wanted) <= set(kept())
    told = json.loads(out)["results"][0]
    assert told["output"] == f"frail://{wanted[0]}" if command != "tiles" else "frail://out/t"
    assert told["bytes"] == sum(len(Frail.store[f"/{name}"].getvalue()) for name in kept()
                                if command in ("tiles",) or name == wanted[0])  # fmt: skip
    before = {name: Frail.store[f"/{name}"].getvalue() for name in kept()}
    status, out, err = run(command, scene, *more)
    assert status == 1
    assert "frail://out" in err
    assert "exists already; overwrite" in err
    status, out, err = run(command, scene, *more, "--overwrite")
    assert status == 0, err
    assert "/tmp" not in out + err
    assert "frail://out/" in out
    assert {name: Frail.store[f"/{name}"].getvalue() for name in kept()} == before


@pytest.mark.parametrize("typed", [
    "render {scene} -o frail://a.png --legend frail://b.png --save-look frail://c.look.toml",
    "probe {scene} --at 12,29 --csv frail://a.csv --profile frail://b.svg "
    "--keep-spectra frail://c.toml",
    "clip {scene} -o frail://a.tif --preview frail://b.png --where band(1)<50",
])  # fmt: skip
def test_what_commands_write_beside_goes_there_too(kept, scene, run, typed):
    status, out, err = run(*typed.format(scene=scene).split())
    assert status == 0, err
    names = [word.removeprefix("frail://") for word in typed.split() if word.startswith("frail:")]
    assert kept() == names
    assert all(f"frail://{name}" in out for name in names), out
    before = dict(Frail.store)
    status, _, err = run(*typed.format(scene=scene).split())
    assert (status, "exists already" in err) == (1, True)
    assert Frail.store == before


def test_a_store_of_many_files_is_replaced_whole(kept, scene, run, rng):
    first = sp.from_array(np.ones((3, 4), "u1"))
    second = sp.from_array(rng.integers(0, 9, (40, 50)).astype("u2"))
    first.save("frail://a.zarr")
    second.save("frail://a.zarr", overwrite=True)
    assert sp.members("frail://a.zarr")["rows"].tolist() == [40]
    np.testing.assert_array_equal(sp.open("frail://a.zarr").pixels(), second.pixels())
    for name, there in (("a.zarr", kept()), ("b.zarr", kept())):
        Frail.left = 2
        with pytest.raises(sp.AccessError, match=rf"^frail://{name}: cannot be written: .* full"):
            first.save(f"frail://{name}", overwrite=True)
        assert kept() == there
    Frail.left = 2
    status, _, err = run("tiles", scene, "-o", "frail://t", "--zooms", "4,6")
    assert status == 1
    assert "frail://t: cannot be written: the storage is full" in err
    assert kept() == there


def test_nothing_is_told_before_it_has_arrived(kept, scene, run, tmp_path):
    """Neither a line nor a result says that a file is where it could not be sent."""
    other = tmp_path / "other.tif"
    other.write_bytes(scene.read_bytes())
    for files, where, left, arrived, failed in (
        ([other], ["-o", "frail://a.png"], 0, [], "frail://a.png"),
        ([other, scene], ["--out-dir", "frail://out"], 1, ["other"], "frail://out/scene.png"),
    ):
        Frail.left = left
        status, out, err = run("render", *files, *where)
        assert (status, kept()) == (1, [f"out/{name}.png" for name in arrived])
        assert [name for name in ("other", "scene") if f"{name}.png: " in out] == arrived
        assert f"{failed}: cannot be written: the storage is full" in err
        Frail.left = left
        status, out, err = run("render", *files, *where, "--overwrite", "--json")
        told = json.loads(out)["results"]
        assert status == 1
        assert [one["output"] for one in told[:-1]] == [f"frail://out/{n}.png" for n in arrived]
        assert "the storage is full" in told[-1]["error"]


def test_some_of_many_outputs_are_sent_where_others_cannot_be(kept, scene, run, tmp_path):
    other = tmp_path / "other.tif"
    other.write_bytes(scene.read_bytes())
    sp.open(scene).save("frail://out/other.tif")
    status, _, err = run("export", other, scene, tmp_path / "none.tif", "--out-dir", "frail://out")
    assert status == 1
    assert kept() == ["out/other.tif", "out/scene.tif"]
    assert "frail://out/other.tif: exists already" in err
    assert "none.tif: no such file" in err
    for given, match in (("--out-dir zip://in::frail://a.zip", "no archive"),
                         ("--join --linked -o frail://a.stack.toml", "a local one")):  # fmt: skip
        status, _, err = run("export", scene, other, *given.split())
        assert (status, match in err) == (2, True), err
