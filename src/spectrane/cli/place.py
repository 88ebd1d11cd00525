"""``spectrane place``: a place on a map for a picture that has none."""

from __future__ import annotations

import re
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import answering
from spectrane.cli.files import OpeningOptions, required
from spectrane.cli.looks import side_of
from spectrane.cli.options import Command, argument, command_of, option
from spectrane.cli.previews import before_and_after
from spectrane.cli.progress import progress_bar
from spectrane.cli.values import Corners
from spectrane.cli.written import data_facts, data_line, file_facts, size_text
from spectrane.kernels.records import record
from spectrane.model.resampling import Resampling
from spectrane.model.whole_files import check_target
from spectrane.spatial.fitting import FITS, Fit


class PlaceCommand(Command):
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


@record(frozen=True)
class PlaceOptions(OpeningOptions):
    """What ``place`` takes."""

    file: str = argument("FILE")
    output: str | None = words.output("The file (.tif), or ground overlays (.kml, .kmz).")
    corners: list[tuple[float, float]] | None = option(
        "--corners", group="Place", type=Corners(),
        help="Outer corners: first and last pixel's, or all four clockwise from the first pixel's.",
    )  # fmt: skip
    bounds: tuple[float, float, float, float] | None = words.bounds()
    points: str | None = words.points()
    leave_out: tuple[str, ...] = option("--leave-out", group="Place", multiple=True,
                                        metavar="NAME", help="A point not to be used.")  # fmt: skip
    crs: str | None = words.crs()
    points_crs: str | None = words.points_crs()
    fit: Fit | None = option("--fit", group="Place", type=click.Choice(list(FITS)),
                             help="How points are fitted; affine if unsaid.")  # fmt: skip
    pixel_size: tuple[float, ...] | None = words.pixel_size()
    resample: Resampling | None = words.resample()
    force: bool = words.force()
    compress: str | None = words.compress()
    preview: str | None = words.preview()
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("place", PlaceOptions, kind=PlaceCommand, examples=(
    "place demo/barrage_plan.png -o plan.tif --points demo/barrage_points.csv --crs EPSG:32727",
    "place demo/barrage_plan.png -o plan.tif --corners 493159,7358999 493523,7355461 "
    "491871,7355249 491507,7358787 --crs EPSG:32727",
))  # fmt: skip
def command(options: PlaceOptions) -> None:
    """Give a picture a place by corners, bounds or tie points (named points of row and column).

    Where the fit is affine no pixel is touched. Each tie point's miss is told, and the worst named.
    """
    from spectrane.opening import open_raster
    from spectrane.together import place

    out = required(options.output)
    ways = [options.corners, options.bounds, options.points]
    if sum(way is not None for way in ways) != 1:
        raise click.UsageError("say the place by one of --corners, --bounds and --points")
    if options.points is None:
        options.refuse(["leave_out"], "without --points")
    check_target(out, overwrite=options.overwrite)
    with (
        answering(options) as answer,
        open_raster(options.file, **options.opening()) as raster,
        progress_bar(out, options.quiet) as progress,
    ):
        placed = place(
            raster, corners=options.corners, bounds=options.bounds, points=options.points,
            crs=options.crs, points_crs=options.points_crs, fit=options.fit,
            pixel_size=side_of(options.pixel_size), resample=options.resample,
            force=options.force, leave_out=options.leave_out,
        )  # fmt: skip
        placement = placed.metadata["placement"]
        if out.lower().endswith((".kml", ".kmz")):
            from spectrane.display.layers import Layer
            from spectrane.pages.kml import write_kml

            options.refuse(["compress"], "in KML")
            write_kml([Layer(placed)], out, overwrite=options.overwrite)
            facts, line = file_facts(out), f"{out}: {size_text(out)}"
        else:
            own: dict[str, Any] = {"compress": options.compress} if options.compress else {}
            placed.save(out, overwrite=options.overwrite, progress=progress, **own)
            facts = data_facts(out)
            line = data_line(facts)
        seen = [] if options.preview is None else [
            before_and_after(raster, placed, out, options.preview, options.overwrite)
        ]  # fmt: skip
        bounds = placed.grid.bounds
        answer.add(facts | {"input": options.file, "bounds": bounds, "placement": placement,
                            "preview": options.preview}, line,
                   *_lines(placement, bounds), *seen)  # fmt: skip


def _lines(placement: dict[str, Any], bounds: Any) -> list[str]:
    """Return how the fit was, for a person."""
    place = ", ".join(f"{value:.10g}" for value in bounds)
    lines = [f"  {placement['fit']}, covers ({place})"]
    if not placement["points"]:
        return lines
    lines.append(f"  {'point':<10}{'row':>9}{'column':>9}{'miss x':>11}{'miss y':>11}{'miss':>11}"
                 f"{'pixels':>9}{'alone':>11}")  # fmt: skip
    for one in placement["points"]:
        alone = "" if one["miss_alone"] is None else f"{one['miss_alone']:.4g}"
        lines.append(f"  {one['point']:<10}{one['row']:>9.1f}{one['column']:>9.1f}"
                     f"{one['miss_x']:>11.4g}{one['miss_y']:>11.4g}{one['miss']:>11.4g}"
                     f"{one['miss_pixels']:>9.3g}{alone:>11}")  # fmt: skip
    worst = f"worst: point {placement['worst']}" if placement["worst"] is not None else (
        f"the points do not tell which of {', '.join(placement['suspects'])} is wrong")  # fmt: skip
    lines.append(f"  root mean square {placement['rms']:.4g} map units, "
                 f"{placement['rms_pixels']:.3g} "
                 f"pixels; {worst}")  # fmt: skip
    return lines
