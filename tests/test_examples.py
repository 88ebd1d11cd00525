"""The examples run on the demo data as they stand, and leave the files they speak of."""

from __future__ import annotations

import runpy
import shutil
import warnings
from pathlib import Path

import pytest

EXAMPLES = Path(__file__).resolve().parents[1] / "examples"


@pytest.mark.parametrize(
    ("name", "left"),
    [
        ("02_looking.py", ["*.png"]),
        ("03_mosaic_and_clip.py", ["*.tif"]),
        ("04_overlay_page.py", ["overlay.png", "sound.html", "sound.kmz", "tiles/**/*.png"]),
        ("06_scenes_and_sheet.py", ["pair.png", "bed.pdf", "bed.png", "found/**/*.tif"]),
        ("05_volume_study.py", ["planes.png", "sheet.png", "slab.png", "joint_coarse.nii.gz"]),
    ],
)
def test_an_example(name, left, demo, tmp_path, monkeypatch):
    shutil.copytree(demo, tmp_path / "demo")
    main = runpy.run_path(str(EXAMPLES / name))["main"]
    monkeypatch.chdir(tmp_path)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # an example may show data that is worth a second look
        main(Path("demo"), Path("out"))
    for pattern in left:
        assert all(path.stat().st_size for path in Path("out").glob(pattern))
        assert list(Path("out").glob(pattern)), pattern


def test_the_notebook(demo, tmp_path):
    client, forms = pytest.importorskip("nbclient"), pytest.importorskip("nbformat")
    shutil.copytree(demo, tmp_path / "demo")
    book = forms.read(EXAMPLES / "07_among_libraries.ipynb", 4)
    where = {"metadata": {"path": str(tmp_path)}}
    client.NotebookClient(book, timeout=120, resources=where).execute()
    assert (tmp_path / "green.gpkg").stat().st_size
    shown = [kind for cell in book.cells for one in cell.get("outputs", ())
             for kind in one.get("data", {}) if kind != "text/plain"]  # fmt: skip
    assert (shown.count("image/png"), shown.count("text/html")) == (5, 4)
    assert not [one for cell in book.cells for one in cell.get("outputs", ())
                if one.output_type in ("stream", "error")]  # fmt: skip
