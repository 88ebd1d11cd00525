"""Overlaying: layers, relief, outlines, one page to hand on, KML and map tiles, on the demo data.

Run it after ``make demo``: ``python examples/04_overlay_page.py [DEMO_FOLDER] [OUT_FOLDER]``.
"""

from __future__ import annotations

import sys
from pathlib import Path

import spectrane as sp
from spectrane import pages


def main(demo: Path, out: Path) -> None:
    """Go through the steps and write what they give into ``out``."""
    out.mkdir(parents=True, exist_ok=True)
    scene = sp.open_raster(demo / "sound_8band.tif").with_nodata(0)
    depth = sp.open_raster(demo / "sound_depth.tif").with_look(sp.Look())

    # 1. Layers bottom to top, each on its own grid and in its own system.
    natural = sp.Look(channels="natural", limits="percentile:2,98")
    infrared = sp.Look(channels="infrared", limits="percentile:2,98")
    # Depth grows downward: heights are its negative, and a sea-bed needs exaggeration.
    bed = depth.compute({"height": "-depth"}, unit="m").relief(exaggeration=12)
    warmth = sp.open_raster(demo / "sound_thermal.tif").convert("celsius")
    layers = [
        sp.Layer(scene, natural, name="natural colour", base=True),
        sp.Layer(scene, infrared, name="near infrared", base=True),
        sp.Layer(depth, sp.Look(colormap="auto"), opacity=0.55, name="depth"),
        sp.Layer(bed, mode="multiply", opacity=0.8, name="sea-bed relief"),
        sp.Layer(warmth, sp.Look(colormap="auto"), opacity=0.6, visible=False, name="temperature"),
        sp.Outline(demo / "lease.geojson", label="name", width=3, name="mussel leases"),
    ]  # fmt: skip
    picture = sp.overlay(layers, view=sp.View(bounds=(486000, 7353500, 495000, 7359500)))
    picture.save(out / "overlay.png", overwrite=True)

    # 2. One page: tick, fade, swipe, read values; it needs no network.
    pages.overlay_page(layers, out / "sound.html", title="Halse Sound", overwrite=True)

    # 3. For viewers of maps and globes.
    pages.kmz(layers[:1] + layers[-1:], out / "sound.kmz", overwrite=True)
    done = pages.tiles(layers[:1], out / "tiles", title="Halse Sound", overwrite=True)
    print(f"{done.count} tiles, zooms {done.zooms[0]} to {done.zooms[1]}")


if __name__ == "__main__":
    given = [Path(argument) for argument in sys.argv[1:]]
    main(given[0] if given else Path("demo"), given[1] if len(given) > 1 else Path("overlaid"))
