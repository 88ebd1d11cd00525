"""Small inputs that several test modules share."""

from __future__ import annotations

import fcntl
import os
import tempfile

import numpy as np
import pytest
from tests.browsing import CHROMIUM, FLAGS

from spectrane.engine import cache
from spectrane.kernels import choice
from spectrane.model.grid import Grid

# Matplotlib lists the machine's fonts once (some seconds), not once for each process of a test.
os.environ.setdefault("MPLCONFIGDIR", os.path.join(tempfile.gettempdir(), "spectrane-test-fonts"))

DTYPES = ["u1", "u2", "u4", "u8", "i1", "i2", "i4", "i8", "f2", "f4", "f8"]


@pytest.fixture(autouse=True)
def quick_disk(monkeypatch):
    """Thousands of small files need not reach the disk; what is promised has a test of its own."""
    monkeypatch.setattr("os.fsync", lambda number: None)


@pytest.fixture(autouse=True)
def _fresh(tmp_path_factory, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path_factory.getbasetemp() / "cache"))
    cache.blocks.clear()
    yield
    choice.force(None)


@pytest.fixture(scope="session")
def browser():
    """One Chromium for all pages; tests that need it are skipped where there is none."""
    if CHROMIUM is None:
        pytest.skip("no Chromium to see pages in")
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        opened = play.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield opened
        opened.close()


@pytest.fixture(params=["numpy", "loop"])
def form(request):
    """Run a test with each form of the kernels."""
    choice.force(request.param)
    return request.param


@pytest.fixture
def rng():
    return np.random.default_rng(7)


@pytest.fixture
def utm():
    """An upright grid of 10 m pixels."""
    return Grid.from_corner((70, 90), x=480000, y=7360000, pixel_size=10, crs="EPSG:32727")


def natural(rng, shape, dtype):
    """Numbers that vary smoothly, as pictures do, and fill a good part of their type."""
    dtype = np.dtype(dtype)
    walk = np.cumsum(rng.integers(-3, 4, shape), axis=-1) + rng.integers(0, 5, shape)
    if dtype.kind == "f":
        return (walk * 0.37 - 5).astype(dtype)
    span = np.iinfo(dtype)
    middle = span.max // 2 if dtype.kind == "u" else 0
    factor = 1 if dtype.itemsize == 1 else 57
    return (walk * factor % min(span.max, 10**9) + middle // 2).astype(dtype)


def values_of(source):
    """Return all stored numbers of a source, (bands, rows, columns)."""
    return source.read(range(len(source.bands)), tuple((0, n) for n in source.shape)).values


def made_once(tmp_path_factory, name, make):
    """Return a folder that the first worker that needs it fills; the others wait for it."""
    base = tmp_path_factory.getbasetemp()
    folder = (base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / name
    with open(f"{folder}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not folder.exists():
            making = folder.with_name(f"{name}.making")
            make(making)
            making.rename(folder)
    return folder


@pytest.fixture(scope="session")
def made(tmp_path_factory):
    """The demo data, made once for all tests of commands."""
    from spectrane.demo.files import write_demo

    return made_once(tmp_path_factory, "demo", lambda folder: write_demo(folder, scale=0.25))


@pytest.fixture
def demo(made):
    """The demo data, for tests that only read it."""
    return made


@pytest.fixture
def run(capsys):
    """Run a command line in this process: exit status, stdout, stderr."""

    from spectrane.cli import entry

    def running(*arguments):
        capsys.readouterr()
        with pytest.raises(SystemExit) as stopped:
            entry.run([str(one) for one in arguments])
        found = capsys.readouterr()
        return stopped.value.code, found.out, found.err

    return running


@pytest.fixture(scope="session")
def acquisitions(tmp_path_factory):
    """The demo's fourteen scenes at a quarter of their size."""
    from spectrane.demo.acquisitions import write_acquisitions

    return made_once(
        tmp_path_factory, "acquisitions",
        lambda folder: write_acquisitions(folder, 486000, 7351000, 2709, scale=0.25),
    )  # fmt: skip
