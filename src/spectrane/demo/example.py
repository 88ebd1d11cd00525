"""The whole example, on the demo data: from a folder of files to pictures to hand on."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import spectrane.raster as sp
from spectrane.model.look import Look

PICTURES = {
    "natural.png": Look(channels="natural", limits="percentile:2,98"),
    "infrared.png": Look(channels="infrared", limits="percentile:2,98"),
    "nir_negative.png": Look(channels=("nir",), limits="deviation:2", invert=True),
}
SIZE = (800, 1280)


def run_example(
    folder: Path, *, overwrite: bool = False,
    told: Callable[[Path, str], None] = lambda path, what: None,
) -> list[Path]:  # fmt: skip
    """Draw the demo's pictures beside its data; ``told`` hears of each."""
    written = []
    with sp.open(folder / "sound_8band.tif") as sound, sp.open(folder / "habitats.tif") as habitats:
        # The swath's edge is filled with 0, and the file does not say so: say it here.
        filled = sound.with_nodata(0)
        for name, look in PICTURES.items():
            picture = sp.render(filled, look, size=SIZE)
            picture.save(folder / name, overwrite=overwrite)
            shown = " ".join(scale.band for scale in picture.scales)
            told(folder / name, f"bands {shown}, limits {picture.scales[0].limits}")
            written.append(folder / name)
        picture = sp.render(habitats, size=SIZE)
        picture.save(folder / "habitats.png", overwrite=overwrite)
        told(folder / "habitats.png", "habitat classes in their own colours")
        written.append(folder / "habitats.png")
        written += _looked_closer(folder, filled, overwrite, told)
    return written


def _looked_closer(
    folder: Path, filled: sp.Raster, overwrite: bool, told: Callable[[Path, str], None]
) -> list[Path]:
    """Draw an index, a night sky, the histogram of a look, and two rasters at one place."""
    from spectrane import figures
    from spectrane.figures.paper import save

    index = filled.compute({"ndvi": "ndvi"})
    made: dict[str, tuple[Look, sp.Raster, str]] = {
        "ndvi.png": (index.propose_look(), index, "an index in the colour map that fits it"),
        "comet.png": (Look(limits="percentile:1,99.9", curve="log:3", colormap="kiln"),
                      sp.open(folder / "comet.fits"), "four decades under a log curve"),
    }  # fmt: skip
    for name, (look, raster, what) in made.items():
        sp.render(raster, look, size=SIZE).save(folder / name, overwrite=overwrite)
        told(folder / name, what)
    natural = PICTURES["natural.png"]
    save(figures.histogram(filled, natural), folder / "histogram.png", overwrite=overwrite)
    told(folder / "histogram.png", "the values, the limits on them, and what is shown")
    layers = [(filled, natural), (sp.open(folder / "sound_thermal.tif"), Look(colormap="auto"))]
    save(figures.compare(layers, size=(510, 1280)), folder / "compare.png", overwrite=overwrite)
    told(folder / "compare.png", "two sensors at the same place, each on its own grid")
    return [folder / name for name in (*made, "histogram.png", "compare.png")]
