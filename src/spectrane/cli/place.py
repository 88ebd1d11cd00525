"""``spectrane place``: a place on a map for a picture that has none."""

from __future__ import annotations

import json
import re
from typing import Any

import click

from spectrane.cli.common import (
    Numbers,
    ParamType,
    examples,
    force_option,
    progress_bar,
    refuse,
    shared_options,
    told_warnings,
)
from spectrane.model.resampling import RESAMPLINGS
from spectrane.spatial.fitting import FITS


class Corners(ParamType):
    """Two or four map positions with blanks or semicolons between them."""

    name = "X,Y X,Y [X,Y X,Y]"

    def convert(self, value: Any, param: Any, ctx: Any) -> list[tuple[float, float]]:
        """Read positions such as '0,10 20,0'."""
        if not isinstance(value, str):
            found: list[tuple[float, float]] = value
            return found
        try:
            pairs = [tuple(float(n) for n in part.split(","))
                     for part in value.replace(";", " ").split()]  # fmt: skip
        except ValueError:
            pairs = []
        if len(pairs) not in (2, 4) or any(len(pair) != 2 for pair in pairs):
            self.fail(f"{value!r} is not two or four positions X,Y.", param, ctx)
        return [(pair[0], pair[1]) for pair in pairs]


class PlaceCommand(click.Command):
    """A command whose corners need no quotes."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Join the positions that follow --corners into its one value."""
        joined: list[str] = []
        after = False
        for one in args:
            position = re.fullmatch(r"[-+.\d][^,\s]*,[-+.\d][^,\s]*[;]?", one) is not None
            if after and position and joined[-1] != "--corners":
                joined[-1] += f" {one}"
            else:
                joined.append(one)
            after = one == "--corners" or one.startswith("--corners=") or (after and position)
        return super().parse_args(ctx, joined)


@click.command("place", cls=PlaceCommand)
@click.argument("file")
@click.argument("out")
@click.option("--corners", type=Corners(), help="Outer corners: first and last pixel's, or all "
              "four clockwise from the first pixel's.")  # fmt: skip
@click.option("--bounds", type=Numbers(4, "X1,Y1,X2,Y2"), help="Map bounds of the whole picture.")
@click.option("--points", type=click.Path(), help="Tie points: CSV with row, column, x, y.")
@click.option("--leave-out", multiple=True, metavar="NAME", help="A tie point not to be used.")
@click.option("--crs", help="The system of the result: EPSG:CODE.")
@click.option("--points-crs", help="The system of the positions, where it is another.")
@click.option(
    "--fit", type=click.Choice(list(FITS)), help="How tie points are fitted; affine if unsaid."
)
@click.option("--pixel-size", type=float, help="Of a result that is resampled, in map units.")
@click.option("--resample", type=click.Choice(RESAMPLINGS))
@force_option
@click.option("--compress", help="TIFF: deflate, zstd, lzw or none.")
@click.option("--overwrite", is_flag=True, help="Replace a file that exists.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "place demo/barrage_plan.png plan.tif --points demo/barrage_points.csv --crs EPSG:32727",
    "place demo/barrage_plan.png plan.tif --corners 493159,7358999 493523,7355461 491871,7355249 "
    "491507,7358787 --crs EPSG:32727",
)
def command(file: str, out: str, **options: Any) -> None:
    """Give a picture a place by corners, bounds or tie points; OUT is a TIFF, KML or KMZ.

    Where the fit is affine no pixel is touched. Each tie point's miss is told, and the worst named.
    """
    import spectrane.raster
    import spectrane.together

    quiet = options["quiet"]
    names = ("corners", "bounds", "points", "crs", "points_crs", "fit", "pixel_size", "resample",
             "force", "leave_out")  # fmt: skip
    given = {name: options[name] for name in names}
    if sum(given[name] is not None for name in ("corners", "bounds", "points")) != 1:
        raise click.UsageError("say the place by one of --corners, --bounds and --points")
    if options["points"] is None:
        refuse(["leave_out"], "without --points")
    with (
        told_warnings(quiet or options["as_json"]) as told,
        spectrane.raster.open(file) as raster,
        progress_bar(out, quiet) as progress,
    ):
        placed = spectrane.together.place(raster, **given)
        if out.lower().endswith((".kml", ".kmz")):
            from spectrane.display.layers import Layer
            from spectrane.pages.kml import write_kml

            write_kml([Layer(placed)], out, overwrite=options["overwrite"])
        else:
            own = {"compress": options["compress"]} if options["compress"] else {}
            placed.save(out, overwrite=options["overwrite"], progress=progress, **own)
    _tell(placed, out, told, options)


def _tell(placed: Any, out: str, told: list[str], options: dict[str, Any]) -> None:
    found = placed.metadata["placement"]
    bounds = placed.grid.bounds
    if options["as_json"]:
        click.echo(json.dumps({"output": out, "bounds": bounds, **found, "told": told}))
        return
    if options["quiet"]:
        return
    rows, columns = placed.grid.shape
    place = ", ".join(f"{value:.10g}" for value in bounds)
    click.echo(f"{out}: {columns} x {rows}, {found['fit']}, covers ({place})")
    if not found["points"]:
        return
    click.echo(f"  {'point':<10}{'row':>9}{'column':>9}{'miss x':>11}{'miss y':>11}{'miss':>11}"
               f"{'pixels':>9}{'alone':>11}")  # fmt: skip
    for one in found["points"]:
        alone = "" if one["miss_alone"] is None else f"{one['miss_alone']:.4g}"
        click.echo(f"  {one['point']:<10}{one['row']:>9.1f}{one['column']:>9.1f}"
                   f"{one['miss_x']:>11.4g}{one['miss_y']:>11.4g}{one['miss']:>11.4g}"
                   f"{one['miss_pixels']:>9.3g}{alone:>11}")  # fmt: skip
    worst = f"worst: point {found['worst']}" if found["worst"] is not None else (
        f"the points do not tell which of {', '.join(found['suspects'])} is wrong")  # fmt: skip
    click.echo(f"  root mean square {found['rms']:.4g} map units, {found['rms_pixels']:.3g} "
               f"pixels; {worst}")  # fmt: skip
