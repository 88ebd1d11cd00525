"""Bringing together: place, regrid, align, balance, mosaic, mask and clip, on the demo data.

Run it after ``make demo``: ``python examples/03_mosaic_and_clip.py [DEMO_FOLDER] [OUT_FOLDER]``.
"""

from __future__ import annotations

import sys
from pathlib import Path

import spectrane as sp


def main(demo: Path, out: Path) -> None:
    """Go through the steps and write what they give into ``out``."""
    out.mkdir(parents=True, exist_ok=True)

    # 1. A drawing without a place gets one by tie points; one of them was read off badly.
    drawing = sp.open_raster(demo / "barrage_plan.png")
    plan = sp.place(drawing, points=demo / "barrage_points.csv", crs="EPSG:32727")
    print(sp.residuals(plan)[["point", "miss", "miss_pixels", "miss_alone"]].round(2))
    print(f"worst: point {plan.metadata['placement']['worst']}\n")
    plan.save(out / "plan.tif", overwrite=True)

    # 2. Two photographs: black borders, other light, and one a pixel off.
    north, south = (
        sp.open_raster(demo / f"sound_{name}.tif").with_nodata(0, when="all")
        for name in ("north", "south")
    )
    print(f"the southern one lies off by {sp.align(south, north)}")
    joined = sp.mosaic([north, south], trim=1, align="shift", balance="gain", rule="seam")
    print(sp.overlaps(joined)[["band", "pixels", "before", "after"]].round(3), "\n")
    joined.save(out / "photos.tif", overwrite=True, resume=True)
    sp.render(joined, size=(800, 1280)).save(out / "photos.png", overwrite=True)

    # 3. Another sensor, another zone, six times as coarse: onto the scene's own pixels.
    scene = sp.open_raster(demo / "sound_8band.tif").with_nodata(0)
    thermal = sp.open_raster(demo / "sound_thermal.tif").convert("celsius").regrid(scene)
    thermal.save(out / "thermal_10m.tif", overwrite=True)

    # 4. The eelgrass bed, and what in it is really green.
    bed = scene.clip(demo / "eelgrass.geojson")
    green = sp.mask(bed, where="ndvi > 0.05").areas(least=20).grow(1)
    bed.masked(green).save(out / "bed.tif", overwrite=True)
    print(f"{bed.shape[1]} x {bed.shape[2]} pixels, {int(green.pixels().sum())} of them green")
    look = sp.Look(channels="natural", limits="percentile:2,98")
    sp.render(scene.clip(demo / "lease.geojson", soft=12), look).save(
        out / "leases.png", overwrite=True
    )


if __name__ == "__main__":
    given = [Path(argument) for argument in sys.argv[1:]]
    main(given[0] if given else Path("demo"), given[1] if len(given) > 1 else Path("brought"))
