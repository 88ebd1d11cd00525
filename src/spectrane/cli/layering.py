"""Options that make layers, shared by overlay, page and tiles."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.common_limits import CommonLimitsOptions
from spectrane.cli.files import OpeningOptions
from spectrane.cli.looks import AREA_NAMES, AreaOptions
from spectrane.cli.options import argument, option
from spectrane.cli.values import NoData, Numbers, each, with_fields
from spectrane.display.layers import StackArea
from spectrane.kernels.blending import MODES
from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.grid import Bounds
from spectrane.model.look import Look
from spectrane.model.view import View


@record(frozen=True)
class LayerOptions(CommonLimitsOptions, AreaOptions, OpeningOptions):
    """Rasters and outlines laid on one another, and which part of them is shown."""

    files: tuple[str, ...] = argument("[FILE[,KEY=VALUE,…]]...", many=True)
    layers: str | None = option("--layers", group="Layers", type=click.Path(),
                                help="A layer file (.toml) instead of files.")  # fmt: skip
    opacity: str | None = words.opacity()
    blend: str | None = option(
        "--blend", group="Layers", metavar="MODE,…",
        help=f"How each file is mixed with those below, with commas: {', '.join(MODES)}.",
    )  # fmt: skip
    name: tuple[str, ...] = option("--name", group="Layers", multiple=True,
                                   help="A name for each file, in order.")  # fmt: skip
    with_look: tuple[str, ...] = words.with_look()
    base: bool = option("--base", group="Layers", is_flag=True,
                        help="All files are base layers, of which one is shown.")  # fmt: skip
    relief: tuple[str, ...] = option(
        "--relief", group="Layers", multiple=True, metavar="FILE[,EXAGGERATION]",
        help="Relief shading of these heights, multiplied in.",
    )  # fmt: skip
    sun: tuple[tuple[float, float], ...] = option(
        "--sun", group="Layers", multiple=True, type=Numbers(2, "AZIMUTH,ALTITUDE"),
        help="Where light comes from, in degrees; may be said again.",
    )  # fmt: skip
    outline: tuple[str, ...] = option(
        "--outline", group="Layers", multiple=True, type=click.Path(),
        help="Shapes drawn on top: GeoJSON, or a GeoPackage.",
    )  # fmt: skip
    outline_crs: str | None = option(
        "--outline-crs", group="Layers", help="Their system, where the file does not say it."
    )
    layer: str | None = words.layer("Layers")
    outline_color: str = option("--outline-color", group="Layers", default="#ffd23f",
                                metavar="#RRGGBB", help="Their colour.")  # fmt: skip
    outline_width: float = option("--outline-width", group="Layers", type=float, default=2.0,
                                  help="Their width in picture pixels.")  # fmt: skip
    label: str | None = option("--label", group="Layers",
                               help="The property that is written at each outline.")  # fmt: skip

    def bounds(self) -> Bounds | None:
        """Return the map bounds that are said."""
        return None if isinstance(self.area, str) else self.area

    @property
    def covered(self) -> StackArea:
        """What a stack of layers covers where no bounds are given."""
        return "union" if self.area == "union" else "bottom"


_WITH_A_FILE = frozenset(
    ("layers", "size", "title", "no_values", "quad", "scheme", "zooms", "attribution", "engine",
     "subtitle", "notes", "notes_file", "sources", "date", "paper", "orientation", "margin",
     "scale", "coordinates", "lines", "put", "inset", "picture", "separate", "across", "dots",
     "keep_as", "port", "no_browser", "save_to", "points", "points_crs", "library")
) | AREA_NAMES  # fmt: skip
"""Options that are read beside a layer file."""


def layers_of(options: LayerOptions, stack: contextlib.ExitStack) -> tuple[list[Any], Any]:
    """Return the layers that options make, the lowest first, and the grid of a layer file."""
    from spectrane.display.outlines import Outline
    from spectrane.together import load_layers

    if options.layers:
        if options.files:
            raise click.UsageError("a layer file names its files itself; leave out the others")
        options.refuse_others(_WITH_A_FILE, "with --layers: the file says how they are shown")
        options.refuse(["member", "spacing", "choose", "damaged"], "with --layers")
        kept = load_layers(options.layers)
        return kept.layers, kept.grid
    if not options.outline:
        options.refuse(["outline_color", "outline_width", "outline_crs", "layer", "label"],
                       "without --outline")  # fmt: skip
    if not options.relief:
        options.refuse(["sun"], "without --relief")
    if not options.files:
        raise click.UsageError("say the files, the lowest first, or --layers FILE")
    layers = _rasters(options, stack)
    layers += [_relief(text, options, stack) for text in options.relief]
    for path in options.outline:
        layers.append(Outline(path, options.outline_color, options.outline_width, options.label,
                              crs=options.outline_crs, layer=options.layer))  # fmt: skip
    return layers, None


def first_grid(layers: Sequence[Any], grid: Any) -> Any:
    """Return the grid that positions are read on: a layer file's, or the lowest raster's."""
    from spectrane.display.layers import Layer

    return grid or next((one.source.grid for one in layers if isinstance(one, Layer)), None)


def view_with(grid: Any, view: View) -> View:
    """Return the view, or where it is all of the raster the area of a layer file's grid."""
    everything = grid is None or view != View()
    return view if everything else View(bounds=grid.bounds, crs=grid.crs_text)


def looks_given(paths: Sequence[str], one_for_all: str | None, count: int) -> list[Look]:
    """Return a look for each of ``count`` files, or none, from ``--with-look`` and ``--look``."""
    looks = [Look.load(path) for path in paths]
    if one_for_all:
        if looks:
            raise click.UsageError("say --look for all files, or --with-look for each")
        looks = [Look.load(one_for_all)] * count
    return looks


def fitting(raster: Any, look: Look) -> Look:
    """Leave out what a raster of one band, or of many, has no use for."""
    if len(raster.bands) == 1:
        return replace(look, channels=None)
    return replace(look, colormap=None) if look.channels is None else look


def _rasters(options: LayerOptions, stack: contextlib.ExitStack) -> list[Any]:
    from spectrane.display.layers import Layer
    from spectrane.opening import open_raster

    count = len(options.files)
    fields = options.look_fields()
    opacities = each(options.opacity, count, "--opacity", float, 1.0)
    modes = each(options.blend, count, "--blend", str, "normal")
    looks = looks_given(options.with_look, options.look, count)
    if looks and len(looks) != count:
        raise click.UsageError(f"{len(looks)} look files for {count} rasters")
    if options.name and len(options.name) != count:
        raise click.UsageError(f"{len(options.name)} names for {count} rasters")
    rasters, shown_by = [], []
    own_names: list[str | None] = list(options.name) or [None] * count
    for k, text in enumerate(options.files):
        file, said = with_fields(text, (*OWN, *OF_LAYERS))
        raster = stack.enter_context(open_raster(file, **options.opening(k, count)))
        if "nodata" in said:
            raster = raster.with_nodata(NoData().convert(said["nodata"], None, None))
        shown = options.computed(raster, among=count)
        opacities[k] = _share(said["opacity"], text) if "opacity" in said else opacities[k]
        modes[k] = said.get("blend", modes[k])
        own_names[k] = said.get("name", own_names[k])
        kept = looks[k] if looks else raster.look or Look()
        rasters.append(shown)
        own = {key: said[key] for key in OWN if key in said and key != "nodata"}
        try:
            shown_by.append(fitting(shown, replace(kept, **(fields | own))))
        except LookError as error:
            raise click.UsageError(f"{text}: {error}") from error
    shown_by = options.with_limits(rasters, shown_by, stack)
    each_layer = zip(rasters, shown_by, opacities, own_names, modes, strict=True)
    return [Layer(raster, look, opacity=opacity, name=name, mode=mode, base=options.base)
            for raster, look, opacity, name, mode in each_layer]  # fmt: skip


OWN = ("nodata", "channels", "limits", "curve", "colormap")
OF_LAYERS = ("opacity", "blend", "name")
"""What may be said of one file alone: FILE,nodata=0,opacity=0.5."""


def _share(text: str, file: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise click.UsageError(f"{file}: opacity {text!r}: expected a number") from None


def relief_given(text: str) -> tuple[str, float]:
    """Return the file and the exaggeration of ``FILE[,EXAGGERATION]``."""
    path, comma, factor = text.rpartition(",")
    try:
        exaggeration = float(factor) if comma else 1.0
    except ValueError:
        return text, 1.0
    return (path if comma and path else text), exaggeration


def _relief(text: str, options: LayerOptions, stack: contextlib.ExitStack) -> Any:
    from spectrane.display.layers import Layer
    from spectrane.opening import open_raster

    path, exaggeration = relief_given(text)
    raster = stack.enter_context(open_raster(path))
    lit = raster.relief(exaggeration=exaggeration, suns=options.sun or None)
    return Layer(lit, name="relief", mode="multiply")
