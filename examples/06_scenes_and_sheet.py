"""From forty scenes to one page: find, compare, hand on, on the demo data.

Run it after ``make demo``: ``python examples/06_scenes_and_sheet.py [DEMO_FOLDER] [OUT_FOLDER]``.
"""

from __future__ import annotations

import sys
from pathlib import Path

import spectrane as sp
from spectrane.figures import save_figure

SHOWN = (488800, 7353600, 492400, 7355800)
"""About the eelgrass bed, in the scenes' own system."""


def main(demo: Path, out: Path) -> None:
    """Go through the steps and write what they give into ``out``."""
    out.mkdir(parents=True, exist_ok=True)
    bed = demo / "eelgrass.geojson"

    # 1. Which scenes of spring and summer show the bed under little cloud, and why not the others?
    table = sp.scenes(demo / "acquisitions", over=bed, start="2026-04", end="2026-08", cloud=20)
    print(table[["rank", "id", "date", "share", "cloud", "cloud_over", "left_out"]].to_string())
    best = list(table["item"][table["left_out"] == ""])[:2]

    # 2. The two best side by side, between limits of both.
    pair = [sp.open_raster(item) for item in best]
    look = sp.Look(channels="natural", limits="percentile:2,98")
    shared = sp.limits_like(pair, look)
    figure = sp.figures.compare([(one, shared) for one in pair], view=sp.View(bounds=SHOWN))
    save_figure(figure, out / "pair.png", overwrite=True)

    # 3. The better one as a finished map, one to twenty-five thousand.
    outline = sp.Outline(bed, "#ffe066", name="eelgrass bed")
    sheet = sp.figures.sheet(
        [(pair[0], shared), outline],
        title="Eelgrass bed of Halse Sound", subtitle=str(best[0].date), scale="1:25000",
        center=(490600, 7354700), lines=True,
        notes="The bed was mapped by divers; its edge is good to 10 m.",
    )  # fmt: skip
    save_figure(sheet, out / "bed.pdf", overwrite=True)
    save_figure(sheet, out / "bed.png", overwrite=True)

    # 4. Only what is needed comes home, and opens there.
    paths = sp.fetch(best[0], out / "found", assets=["red", "green", "blue"], overwrite=True)
    print(sp.open_raster(paths[0]))


if __name__ == "__main__":
    folders = [Path(one) for one in sys.argv[1:3]]
    main(*(folders + [Path("demo"), Path("out")][len(folders) :]))
