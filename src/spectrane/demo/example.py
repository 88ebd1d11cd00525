"""The whole example, on the demo data: from a folder of files to pictures to hand on."""

from __future__ import annotations

import warnings
from collections.abc import Callable
from pathlib import Path

import spectrane as sp

PICTURES = {
    "natural.png": sp.Look(channels="natural", limits="percentile:2,98"),
    "infrared.png": sp.Look(channels="infrared", limits="percentile:2,98"),
    "nir_negative.png": sp.Look(channels=("nir",), limits="deviation:2", invert=True),
}
SIZE = (800, 1280)


def run_example(
    folder: Path, *, overwrite: bool = False,
    told: Callable[[Path, str], None] = lambda path, what: None,
) -> list[Path]:  # fmt: skip
    """Draw the demo's pictures beside its data; ``told`` hears of each."""
    written = []
    habitats = sp.open_raster(folder / "habitats.tif")
    with sp.open_raster(folder / "sound_8band.tif") as sound, habitats:
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
        written += _brought_together(folder, filled, overwrite, told)
    return [*written, _study(folder, overwrite, told)]


def _study(folder: Path, overwrite: bool, told: Callable[[Path, str], None]) -> Path:
    """Draw three planes of the joint, from the scanner's files, with the trial's map."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # one slice lies there twice, on purpose
        series = sp.open_volume(folder / "fetlock_ct")
    with series, sp.open_volume(folder / "fetlock_effect.nii.gz") as effect:
        look = sp.Look(colormap="ebbflow", limits="symmetric:99")
        change = sp.VolumeLayer(effect, look, frame="change", threshold="abs(t) >= 5", faded=0.3)
        picture = sp.three_planes([sp.VolumeLayer(series), change], (12, 0, 9))
        picture.save(folder / "fetlock.png", overwrite=overwrite)
    told(folder / "fetlock.png", "three planes of the joint, a map where it is significant")
    return folder / "fetlock.png"


def _looked_closer(
    folder: Path, filled: sp.Raster, overwrite: bool, told: Callable[[Path, str], None]
) -> list[Path]:
    """Draw an index, a night sky, the histogram of a look, and two rasters at one place."""
    from spectrane.figures import save_figure

    index = filled.compute({"ndvi": "ndvi"})
    made: dict[str, tuple[sp.Look, sp.Raster, str]] = {
        "ndvi.png": (index.propose_look(), index, "an index in the colour map that fits it"),
        "comet.png": (sp.Look(limits="percentile:1,99.9", curve="log:3", colormap="kiln"),
                      sp.open_raster(folder / "comet.fits"), "four decades under a log curve"),
    }  # fmt: skip
    for name, (look, raster, what) in made.items():
        sp.render(raster, look, size=SIZE).save(folder / name, overwrite=overwrite)
        told(folder / name, what)
    natural = PICTURES["natural.png"]
    save_figure(
        sp.figures.histogram(filled, natural), folder / "histogram.png", overwrite=overwrite
    )
    told(folder / "histogram.png", "the values, the limits on them, and what is shown")
    layers = [
        (filled, natural),
        (sp.open_raster(folder / "sound_thermal.tif"), sp.Look(colormap="auto")),
    ]
    save_figure(
        sp.figures.compare(layers, size=(510, 1280)), folder / "compare.png", overwrite=overwrite
    )
    told(folder / "compare.png", "two sensors at the same place, each on its own grid")
    return [folder / name for name in (*made, "histogram.png", "compare.png")]


def _brought_together(
    folder: Path, filled: sp.Raster, overwrite: bool, told: Callable[[Path, str], None]
) -> list[Path]:
    """Join the photographs, give the drawing its place, and lay all on one page."""
    photographs = [sp.open_raster(folder / f"sound_{name}.tif") for name in ("north", "south")]
    joined = sp.mosaic(
        photographs, nodata=0, nodata_when="all", trim=1, align="shift", balance="gain",
        rule="seam",
    )  # fmt: skip
    joined.save(folder / "sound_mosaic.tif", overwrite=overwrite)
    told(folder / "sound_mosaic.tif", "two photographs, moved and evened out, joined at a seam")
    joined = sp.open_raster(folder / "sound_mosaic.tif")  # from now on read, not made anew
    sp.render(joined, size=SIZE).save(folder / "mosaic.png", overwrite=overwrite)
    told(folder / "mosaic.png", "and as a picture")
    plan = sp.place(
        sp.open_raster(folder / "barrage_plan.png"), points=folder / "barrage_points.csv",
        crs="EPSG:32727",
    )  # fmt: skip
    depth = sp.open_raster(folder / "sound_depth.tif")
    bed = depth.compute({"height": "-depth"}, unit="m").relief(exaggeration=12)
    layers: list[sp.Layer | sp.Outline] = [
        sp.Layer(filled, PICTURES["natural.png"], name="natural colour"),
        sp.Layer(
            depth, sp.Look(colormap="auto", limits="percentile:1,99"), opacity=0.55, name="depth"
        ),
        sp.Layer(bed, mode="multiply", opacity=0.8, name="sea-bed relief"),
        sp.Layer(joined, name="photographs"),
        sp.Layer(plan, mode="multiply", opacity=0.8, name="barrage, plan"),
        sp.Outline(folder / "lease.geojson", label="name", width=3, name="mussel leases"),
        sp.Outline(folder / "eelgrass.geojson", "#66ffcc", name="eelgrass bed"),
    ]
    sp.overlay(layers, size=SIZE).save(folder / "overlay.png", overwrite=overwrite)
    told(folder / "overlay.png", "seven layers on one another")
    sp.pages.overlay_page(layers, folder / "sound.html", title="Halse Sound", overwrite=overwrite)
    told(folder / "sound.html", "the same as one page: tick, fade, swipe, read values")
    return [folder / n for n in ("sound_mosaic.tif", "mosaic.png", "overlay.png", "sound.html")]
