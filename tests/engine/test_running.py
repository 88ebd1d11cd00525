"""Long jobs: taken up again after a kill, and made by a cluster with the same bytes out."""

from __future__ import annotations

import asyncio
import os
import pickle
import re
import signal
import subprocess
import sys
import threading
import warnings

import numpy as np
import pytest
from tests.conftest import natural

import spectrane as sp
from spectrane.display.layers import Layer, planned
from spectrane.engine import running
from spectrane.engine.memory import ArraySource
from spectrane.engine.resuming import fingerprint
from spectrane.engine.running import in_order
from spectrane.formats.registry import open_source
from spectrane.formats.tiff.writer import write_tiff
from spectrane.model.band import Band
from spectrane.model.errors import AccessError, LookError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.pages.tiles import tiles
from spectrane.spatial.mosaics.composing import CompositionRule
from spectrane.spatial.mosaics.joining import Mosaic


def kinds(rng):
    """Yield sources that are stored in every way a strip may be: fills, masks, alpha, classes."""
    grid = Grid.from_corner((1500, 700), x=0, y=0, pixel_size=10, crs="EPSG:32727")
    values = natural(rng, (2, 1500, 700), "u2")
    values[:, 200:500, 100:300] = 0
    filled = [Band("a", nodata=0), Band("b", nodata=0)]
    mask = rng.random((1, 1500, 700)) > 0.3
    yield "filled", ArraySource(values, grid=grid, bands=filled), {}
    yield "masked", ArraySource(values, grid=grid, mask=mask), {"compress": "zstd"}
    yield "floats", ArraySource(values.astype("f4"), grid=grid, mask=mask), {"compress": "lzw"}
    yield "alpha", ArraySource(values, grid=grid, alpha=values[0]), {"planes": "planar"}
    yield (
        "classes",
        ArraySource(
            (values[:1] % 5).astype("u1"), grid=grid, look=Look(classes={1: ("#000000", "x")})
        ),
        {},
    )


@pytest.mark.parametrize("which", range(5))
def test_a_job_goes_on_from_its_finished_rows(tmp_path, rng, which, monkeypatch):
    _, source, options = list(kinds(rng))[which]
    whole, again = tmp_path / "whole.tif", tmp_path / "again.tif"
    write_tiff(source, whole, **options)

    def interrupted(done, total):
        if done == 3:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        write_tiff(source, again, resume=True, progress=interrupted, **options)
    left = sorted(path.name for path in tmp_path.iterdir())
    assert left == [".again.tif.partial", ".again.tif.partial.parts", "whole.tif"]
    reads = []
    plain = ArraySource.read

    def watched(self, bands, window, size=None, resample="nearest"):
        reads.append(window[0][0])
        return plain(self, bands, window, size, resample)

    monkeypatch.setattr(ArraySource, "read", watched)
    write_tiff(source, again, resume=True, **options)
    assert min(reads) == 3 * 256
    assert again.read_bytes() == whole.read_bytes()
    assert sorted(path.name for path in tmp_path.iterdir()) == ["again.tif", "whole.tif"]


def test_another_job_starts_anew(tmp_path, rng):
    (_, first, _), (_, second, _) = list(kinds(rng))[:2]

    def interrupted(done, total):
        raise OSError(28, "No space left on device")

    with pytest.raises(AccessError, match="No space left .* the same command goes on from there"):
        write_tiff(first, tmp_path / "a.tif", resume=True, progress=interrupted)
    write_tiff(second, tmp_path / "a.tif", resume=True)
    write_tiff(second, tmp_path / "b.tif")
    assert (tmp_path / "a.tif").read_bytes() == (tmp_path / "b.tif").read_bytes()
    assert fingerprint(first) != fingerprint(second)
    assert fingerprint(first) == fingerprint(next(iter(kinds(np.random.default_rng(7))))[1])


KILLED = """
import os, signal, sys
from tests.engine.test_running import pieces
from spectrane.formats.tiff.writer import write_tiff
def killed(done, total):
    if done == 2:
        os.kill(os.getpid(), signal.SIGKILL)
write_tiff(pieces(sys.argv[1]), sys.argv[1] + "/out.tif", resume=True, progress=killed, tile=256)
"""


def pieces(folder):
    return Mosaic(
        [open_source(f"{folder}/{name}.tif") for name in ("one", "two")],
        CompositionRule("feather", 40, "gain"),
    )


@pytest.fixture
def two(tmp_path, rng):
    grid = Grid.from_corner((1100, 500), x=480000, y=7360000, pixel_size=10, crs="EPSG:32727")
    for name, column in (("one", 0), ("two", 300)):
        cut = grid.cropped(((0, 1100), (column, column + 500)))
        values = natural(rng, (2, 1100, 500), "u2") + np.uint16(5)
        write_tiff(ArraySource(values, grid=cut), tmp_path / f"{name}.tif")
    return tmp_path


def test_a_killed_process_leaves_what_it_finished(two):
    here = os.path.dirname(os.path.dirname(os.path.dirname(__file__)))
    done = subprocess.run([sys.executable, "-c", KILLED, str(two)], cwd=here, capture_output=True)
    assert done.returncode == -signal.SIGKILL, done.stderr
    assert (two / ".out.tif.partial.parts").read_text().count('"row"') == 2
    told = []
    write_tiff(
        pieces(two),
        two / "out.tif",
        resume=True,
        tile=256,
        progress=lambda done, total: told.append((done, total)),
    )
    assert told == [(k, 5) for k in range(1, 6)]
    write_tiff(pieces(two), two / "plain.tif", tile=256)
    assert (two / "out.tif").read_bytes() == (two / "plain.tif").read_bytes()


def test_a_cluster_writes_the_same_bytes_even_when_a_worker_dies(two):
    from distributed import LocalCluster

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with LocalCluster(
            n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50
        ) as cluster:
            address = cluster.scheduler_address
            told = []

            def progress(done, total):
                told.append(done)
                if done == 1:
                    os.kill(next(iter(cluster.workers.values())).process.pid, signal.SIGKILL)

            write_tiff(
                pieces(two), two / "cluster.tif", tile=256, engine=address, progress=progress
            )
            assert told == [1, 2, 3, 4, 5]
            assert list(in_order(abs, [-1, -2, -3], address)) == [1, 2, 3]
            layers = [Layer(pieces(two), Look(limits=(0, 60000)))]
            tiles(layers, two / "far", zooms=(11, 13), engine=address)
            tiles(layers, two / "near", zooms=(11, 13))
    write_tiff(pieces(two), two / "plain.tif", tile=256)
    assert (two / "cluster.tif").read_bytes() == (two / "plain.tif").read_bytes()
    far, near = (
        {path.relative_to(two / name): path.read_bytes() for path in (two / name).rglob("*.*")}
        for name in ("far", "near")
    )
    assert far == near


def kill_workers(cluster):
    for nanny in cluster.workers.values():
        nanny.instantiate = lambda: asyncio.sleep(0)  # it would start another
        os.kill(nanny.process.pid, signal.SIGKILL)


@pytest.mark.parametrize(
    ("part", "spoil", "words"),
    [
        (1, kill_workers, "no part was finished or worked on for 2 seconds: it"),
        (0, lambda cluster: cluster.scale(0), "it has no workers; start some"),
        (0, lambda _: os.rename("one.tif", "gone.tif"), "does not see .*one.tif: no such"),
        (0, lambda _: os.truncate("one.tif", 9), "does not see .*one.tif: changed"),
    ],
    ids=["killed", "none", "moved", "changed"],
)  # fmt: skip
def test_a_cluster_that_fails_is_one_error(two, tmp_path, monkeypatch, capfd, part, spoil, words):
    """At a part, or (0) before the first."""
    from distributed import LocalCluster

    monkeypatch.setattr(running, "STALLED", 1.5)
    monkeypatch.chdir(two)
    source = open_source("one.tif")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with LocalCluster(
            n_workers=1, threads_per_worker=1, dashboard_address=None, silence_logs=50,
            processes=spoil is kill_workers,
        ) as cluster:  # fmt: skip
            capfd.readouterr()
            if not part:
                spoil(cluster)
            with pytest.raises(AccessError, match=f"engine .*://.*{words}"):
                write_tiff(
                    source, tmp_path / "out.tif", tile=256, engine=cluster.scheduler_address,
                    progress=lambda done, _: spoil(cluster) if done == part else None,
                )  # fmt: skip
            assert "Traceback" not in capfd.readouterr().err
    assert not (tmp_path / "out.tif").exists()


def test_a_scheduler_that_dies_is_one_error(capfd):
    command = [sys.executable, "-m", "dask", "scheduler", "--port", "0", "--no-dashboard"]
    with subprocess.Popen(command, stderr=subprocess.PIPE, text=True) as scheduler:
        said = iter(scheduler.stderr.readline, "")
        address = next(re.search(r"tcp://\S+", line)[0] for line in said if "Scheduler at" in line)
        threading.Timer(1, scheduler.kill).start()
        with pytest.raises(AccessError, match=f"engine {address}: lost its scheduler"):
            list(in_order(abs, [1, 2], address))
    assert capfd.readouterr().err == ""


def test_what_is_opened_by_a_relative_path_goes_everywhere(two, tmp_path, monkeypatch):
    monkeypatch.chdir(two)
    numbers = open_source("one.tif").read([0], ((0, 9), (0, 9)))
    for ending in (".nc", ".zarr", ".npy"):
        sp.open("one.tif").save(f"one{ending}", overwrite=True)
    np.savez("one.npz", numbers.values)
    (two / "shape.geojson").write_text('{"type": "Point", "coordinates": [480000, 7360000]}')
    outline = sp.Outline("shape.geojson", crs="EPSG:32727")
    opened = [open_source(f"one{ending}") for ending in (".tif", ".nc", ".zarr", ".npy", ".npz")]
    layers = pickle.dumps(planned([opened[0], outline]))
    monkeypatch.chdir("/")
    for source in opened:
        for there in (source, pickle.loads(pickle.dumps(source))):
            there.close()
            there_read = there.read([0], ((0, 9), (0, 9)))
            np.testing.assert_array_equal(there_read.values, numbers.values)
    assert pickle.loads(layers)[1].shape.features[0].geometry["coordinates"] == [480000, 7360000]


def test_an_engine_that_is_not_there_is_told(monkeypatch, tmp_path, utm):
    monkeypatch.setattr(running, "PATIENCE", 0.5)
    with pytest.raises(LookError, match="expected threads, or the address"):
        in_order(abs, [1], "gpu")
    with pytest.raises(AccessError, match="no scheduler answers"), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        list(in_order(abs, [1], "tcp://127.0.0.1:9"))
    with pytest.raises(AccessError, match="no scheduler answers"):
        raster = sp.from_array(np.ones(utm.shape, "u1"), grid=utm)
        tiles([raster], tmp_path / "tiles", zooms=(9, 9), engine="tcp://127.0.0.1:9")
    assert not (tmp_path / "tiles").exists()
