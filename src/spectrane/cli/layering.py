"""Options that make layers, shared by overlay, page and tiles."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import click

from spectrane.cli.common import Numbers, refuse, refuse_others
from spectrane.cli.looks import AREA_NAMES, area_options, computed, look_fields, look_options
from spectrane.kernels.blending import MODES
from spectrane.model.look import Look
from spectrane.model.view import View

Command = TypeVar("Command", bound=Callable[..., Any])

_OPTIONS = (
    click.option("--layers", "layer_file", type=click.Path(), help="A layer file (.toml) instead."),
    click.option("--opacity", "opacities", help="0 to 1 for each file, with commas: 1,0.6."),
    click.option("--mode", "modes", help=f"For each file, with commas: {', '.join(MODES)}."),
    click.option("--name", "names", multiple=True, help="A name for each file, in order."),
    click.option("--with-look", "looks", multiple=True, type=click.Path(),
                 help="A look file for each file, in order."),
    click.option("--base", is_flag=True, help="All files are base layers, of which one is shown."),
    click.option("--relief", "reliefs", multiple=True, metavar="FILE[,EXAGGERATION]",
                 help="Relief shading of these heights, multiplied in."),
    click.option("--sun", "suns", multiple=True, type=Numbers(2, "AZIMUTH,ALTITUDE"),
                 help="Where light comes from, in degrees; may be said again."),
    click.option("--outline", "outlines", multiple=True, type=click.Path(),
                 help="Shapes drawn on top: GeoJSON, or a GeoPackage."),
    click.option("--outline-crs", help="Their system, where the file does not say it."),
    click.option("--layer", "outline_layer", help="The layer of a GeoPackage with several."),
    click.option("--outline-color", default="#ffd23f", metavar="#RRGGBB"),
    click.option("--outline-width", type=float, default=2.0, help="In picture pixels."),
    click.option("--label", help="The property that is written at each outline."),
)  # fmt: skip


_WITH_A_FILE = ("layer_file", "size", "title", "no_values", "quad", "scheme", "zooms",
                "attribution", "engine", *AREA_NAMES)  # fmt: skip
"""Options that are read beside a layer file."""


def layer_options(function: Command) -> Command:
    """Add the options that make layers and say which part is shown."""
    function = area_options(look_options(function), union=True)
    for option in reversed(_OPTIONS):
        function = option(function)
    return function


def layers_of(
    files: Sequence[str], options: dict[str, Any], stack: contextlib.ExitStack
) -> tuple[list[Any], Any]:
    """Return the layers that options make, the lowest first, and the grid of a layer file."""
    from spectrane.display.outlines import Outline
    from spectrane.together import load_layers

    if options["layer_file"]:
        if files:
            raise click.UsageError("a layer file names its files itself; leave out the others")
        refuse_others(_WITH_A_FILE, "with --layers: the file says how its layers are shown")
        found = load_layers(options["layer_file"])
        return found.layers, found.grid
    if not options["outlines"]:
        refuse(["outline_color", "outline_width", "outline_crs", "outline_layer", "label"],
               "without --outline")  # fmt: skip
    if not options["reliefs"]:
        refuse(["suns"], "without --relief")
    if not files:
        raise click.UsageError("say the files, the lowest first, or --layers FILE")
    layers = _rasters(files, options, stack)
    layers += [_relief(text, options, stack) for text in options["reliefs"]]
    for path in options["outlines"]:
        layers.append(Outline(
            path, options["outline_color"], options["outline_width"], options["label"],
            crs=options["outline_crs"], layer=options["outline_layer"],
        ))  # fmt: skip
    return layers, None


def view_with(grid: Any, view: Any) -> Any:
    """Return the view, or where it is all of the raster the area of a layer file's grid."""
    everything = grid is None or view != View()
    return view if everything else View(bounds=grid.bounds, crs=grid.crs_text)


def _rasters(
    files: Sequence[str], options: dict[str, Any], stack: contextlib.ExitStack
) -> list[Any]:
    from dataclasses import replace

    import spectrane.raster
    from spectrane.cli.compare import fitting
    from spectrane.display.layers import Layer

    count = len(files)
    fields = look_fields(options)
    opacities = _each(options["opacities"], count, "--opacity", float, 1.0)
    modes = _each(options["modes"], count, "--mode", str, "normal")
    looks = [Look.load(path) for path in options["looks"]]
    if options["look_file"]:
        looks = looks or [Look.load(options["look_file"])] * count
    if looks and len(looks) != count:
        raise click.UsageError(f"{len(looks)} look files for {count} rasters")
    if options["names"] and len(options["names"]) != count:
        raise click.UsageError(f"{len(options['names'])} names for {count} rasters")
    layers = []
    for k, file in enumerate(files):
        raster = stack.enter_context(spectrane.raster.open(file))
        shown = computed(raster, options, among=count)
        kept = looks[k] if looks else raster.look or Look()
        look = fitting(shown, replace(kept, **fields))
        name = options["names"][k] if options["names"] else None
        layers.append(Layer(
            shown._source, look, opacity=opacities[k], name=name, mode=modes[k],
            base=options["base"],
        ))  # fmt: skip
    return layers


def _each(text: str | None, count: int, what: str, kind: Any, plain: Any) -> list[Any]:
    if text is None:
        return [plain] * count
    try:
        values = [kind(part.strip()) for part in text.split(",")]
    except ValueError as error:
        raise click.UsageError(f"{what} {text!r}: expected numbers with commas") from error
    if len(values) != count:
        raise click.UsageError(f"{what} {text!r}: {len(values)} values for {count} files")
    return values


def _relief(text: str, options: dict[str, Any], stack: contextlib.ExitStack) -> Any:
    import spectrane.raster
    from spectrane.display.layers import Layer

    path, comma, factor = text.rpartition(",")
    try:
        exaggeration = float(factor) if comma else 1.0
    except ValueError:
        path, exaggeration = text, 1.0
    raster = stack.enter_context(spectrane.raster.open(path if comma and path else text))
    lit = raster.relief(exaggeration=exaggeration, suns=options["suns"] or None)
    return Layer(lit._source, name="relief", mode="multiply")
