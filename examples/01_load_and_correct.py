"""Load, look, correct once: the first half of an analyst's hour, on the demo data.

Run it after ``make demo``: ``python examples/01_load_and_correct.py [DEMO_FOLDER] [OUT_FOLDER]``.
"""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

import spectrane as sp
from spectrane.formats import raw
from spectrane.formats.keeping import write_sidecar


def main(demo: Path, out: Path) -> None:
    """Go through the steps and write what they give into ``out``."""
    out.mkdir(parents=True, exist_ok=True)
    work = out / "files"
    shutil.copytree(demo, work, dirs_exist_ok=True, ignore=shutil.ignore_patterns("*.toml"))

    # 1. What is there, whatever the files are called?
    print(sp.survey(work)[["path", "format", "bands", "type", "crs"]].to_string(index=False))

    # 2. What is this one, and what looks wrong with it?
    scene = work / "sound_8band.tif"
    with sp.open_raster(scene) as sound:
        print(sound.describe())

    # 3. Correct it once: the swath's edge is fill, and how it is to be shown.
    look = sp.Look(channels="natural", limits="percentile:2,98")
    sp.amend(scene, nodata=0, look=look, notes="0 is the swath's edge")

    # 4. From now on it comes right with no option given.
    with sp.open_raster(scene) as sound:
        sp.render(sound, size=(800, 1280)).save(out / "natural.png", overwrite=True)
        print(sound.statistics(["red", "nir"]))

    # 5. A headerless file whose note swaps rows and columns: let the picture tell.
    pan = work / "sound_pan.bin"
    note = pan.with_suffix(".txt").read_text().split()
    rows, columns = (int(note[note.index(word) + 1]) for word in ("rows", "columns"))
    best = raw.guesses(raw.file_of(pan), rows=rows, columns=columns, type="uint8")[0][1]
    print("the note says", rows, "x", columns, "and the picture:", raw.format_layout(best))
    write_sidecar(str(pan), {"raw": best.model_dump()}, None)
    sp.render(sp.open_raster(pan)).save(out / "pan.png", overwrite=True)

    # 6. Kelvin to degrees, without touching a pixel; and data handed on in display order.
    with sp.open_raster(work / "sound_thermal.tif") as thermal:
        print(thermal.convert("celsius").statistics())
    with sp.open_raster(scene) as sound:
        sound.select(["red", "green", "blue"]).save(out / "colours.tif", overwrite=True)
    print("written:", ", ".join(sorted(p.name for p in out.iterdir() if p.is_file())))


if __name__ == "__main__":
    folders = [Path(name) for name in sys.argv[1:]]
    main(folders[0] if folders else Path("demo"), folders[1] if len(folders) > 1 else Path("out"))
