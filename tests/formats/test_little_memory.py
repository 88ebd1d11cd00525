"""Under a limit of address space: nothing is mapped, and files larger than the limit are shown."""

from __future__ import annotations

import resource
import subprocess
import sys

import numpy as np
import pytest
from tests.formats.test_nifti import head

import spectrane as sp
from spectrane.engine import files
from spectrane.formats import flat
from spectrane.formats.nifti import source as nifti
from spectrane.formats.registry import open_source
from spectrane.kernels import address_space, choice, counting
from spectrane.model.window import whole

MB = 1 << 20


@pytest.mark.parametrize("run", [1, 300, 8 * MB])
def test_plain_reading_gives_what_mapping_gives(tmp_path, rng, monkeypatch, run):
    cube = rng.integers(0, 999, (4, 30, 20)).astype(">i2")
    np.save(tmp_path / "rows.npy", cube)
    np.save(tmp_path / "columns.npy", np.asfortranarray(cube[0]))
    np.save(tmp_path / "pixels.npy", np.ascontiguousarray(cube.transpose(1, 2, 0)))
    (tmp_path / "volume.nii").write_bytes(head(dims=(20, 30, 4)) + cube.astype("<i2").tobytes())
    for interleave in ("bsq", "bil", "bip"):
        sp.from_array(cube.astype("i2")).save(tmp_path / f"{interleave}.raw", interleave=interleave)
    names = sorted(
        str(path) for path in tmp_path.iterdir() if path.suffix in (".npy", ".nii", ".raw")
    )

    def answers():
        for name in names:
            source = open_source(name)
            every = list(range(len(source.bands)))
            yield source.read(every, whole(source.shape)).values
            for bands in ([0], every[::-1], every[-1:] * 2):
                part = tuple((side // 4, side // 2 + 1) for side in source.shape)
                yield source.read(bands, part).values

    mapped = list(answers())
    monkeypatch.setattr(files, "limited_space", lambda: 1 << 40)
    monkeypatch.setattr(flat, "_RUN", run)
    monkeypatch.setattr(nifti, "_RUN", run)
    for one, other in zip(answers(), mapped, strict=True):
        np.testing.assert_array_equal(one, other)


SHOWN = {
    "a.npy": ["render", "a.npy", "-o", "a.png"],
    "a.nii": ["slices", "a.nii", "-o", "a.png"],
}


@pytest.mark.parametrize("name", SHOWN)
def test_what_is_larger_than_the_space_is_shown(tmp_path, name):
    with open(tmp_path / name, "wb") as file:
        if name == "a.npy":
            np.lib.format.write_array_header_1_0(
                file, {"descr": "<u2", "fortran_order": False, "shape": (15_000, 16_000)}
            )
        else:
            file.write(head(dims=(1000, 800, 300)))
        file.write(np.arange(30_000, dtype="<u2").tobytes())
        file.truncate(file.tell() + 485 * MB)
    done = subprocess.run(
        [sys.executable, "-m", "spectrane", *SHOWN[name]], cwd=tmp_path, capture_output=True,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_AS, (450 * MB, 450 * MB)), text=True,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert (tmp_path / "a.png").exists()


def test_scarce_space_is_left_to_the_work(monkeypatch):
    monkeypatch.setattr(address_space, "limited_space", lambda: 600 * MB)
    assert counting.count_indices.choose(10**12) is counting.count_indices_reference
    assert address_space.share_of_space(256 * MB, 8) == 75 * MB
    monkeypatch.setattr(address_space, "limited_space", lambda: None)
    monkeypatch.setattr(choice, "_forced", "loop")
    assert counting.count_indices.choose(1) is not counting.count_indices_reference
    assert address_space.share_of_space(256 * MB, 8) == 256 * MB
