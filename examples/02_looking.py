"""Looking: channels, contrast, colour, comparison, read-out, on the demo data.

Run it after ``make demo``: ``python examples/02_looking.py [DEMO_FOLDER] [OUT_FOLDER]``.
"""

from __future__ import annotations

import sys
from pathlib import Path

import spectrane as sp
from spectrane import figures


def main(demo: Path, out: Path) -> None:
    """Go through the steps and write what they give into ``out``."""
    out.mkdir(parents=True, exist_ok=True)
    sound = sp.open_raster(demo / "sound_8band.tif").with_nodata(0)

    # 1. A look is small, kept in a file, and fits as many scenes as you like.
    natural = sp.Look(channels="natural", limits="percentile:2,98", curve="gamma:1.3")
    natural.save(out / "natural.look.toml", overwrite=True)
    figures.save_figure(figures.histogram(sound, natural), out / "histogram.png", overwrite=True)

    # 2. The same place in several looks, and in another file on another grid.
    infrared = sp.Look(channels="infrared", limits="percentile:2,98")
    thermal = sp.open_raster(demo / "sound_thermal.tif").convert("celsius")
    area = sp.View(bounds=(488000, 7353000, 497000, 7360000))
    layers = [(sound, natural), (sound, infrared), (thermal, sp.Look(colormap="auto"))]
    figure = figures.compare(layers, view=area, histograms=True)
    figures.save_figure(figure, out / "compare.png", overwrite=True)

    # 3. An index by name, with the colour map that fits it, and its legend.
    index = sound.compute({"ndvi": "ndvi"})
    look = index.propose_look()
    picture = sp.render(index, look, size=(800, 1280))
    picture.save(out / "ndvi.png", overwrite=True)
    figures.save_figure(figures.colorbar(picture), out / "ndvi_legend.png", overwrite=True)

    # 4. Four decades of brightness: nothing to see without a log curve.
    comet = sp.open_raster(demo / "comet.fits")
    look = sp.Look(limits="percentile:1,99.9", curve="log:3", colormap="kiln")
    sp.render(comet, look).save(out / "comet.png", overwrite=True)

    # 5. What stands under a point, through every layer; and spectra of places.
    print(sp.probe([(sound, natural), thermal], x=490000, y=7357000).to_string(index=False))
    profile = sp.profile(sound, demo / "stations.csv")
    figures.save_figure(figures.profile(profile), out / "profile.png", overwrite=True)
    known = sp.Spectra([band.wavelength or 0.0 for band in sound.bands])
    for name, zone in profile.groupby("zone"):
        known.add(str(name), zone["mean"].tolist())
    spectrum = sound.pixels(rows=(262, 263), columns=(236, 237), physical=True).ravel()
    for name, angle in known.ranked(spectrum.tolist())[:2]:
        print(f"like {name}: spectral angle {angle:.3f}")
    print("written:", ", ".join(sorted(p.name for p in out.iterdir())))


if __name__ == "__main__":
    folders = [Path(name) for name in sys.argv[1:]]
    main(folders[0] if folders else Path("demo"), folders[1] if len(folders) > 1 else Path("out"))
