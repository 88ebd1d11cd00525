"""``spectrane mosaic``: many rasters as one file."""

from __future__ import annotations

import contextlib
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import answering, records
from spectrane.cli.files import OpeningOptions, required
from spectrane.cli.looks import side_of
from spectrane.cli.options import argument, command_of, option
from spectrane.cli.progress import progress_bar
from spectrane.cli.values import NoData, with_fields
from spectrane.cli.written import data_facts, data_line, file_facts, size_text
from spectrane.engine.csv_text import write_csv
from spectrane.kernels.records import record
from spectrane.model.look import NoDataWhen
from spectrane.model.resampling import Resampling
from spectrane.model.whole_files import check_target, written_whole
from spectrane.spatial.aligning import KINDS, AlignmentKind
from spectrane.spatial.grids import suggested, union
from spectrane.spatial.mosaics.balancing import BALANCES, BalanceBy
from spectrane.spatial.mosaics.composing import RULES, MosaicRule

_SHOWN = 20
"""Overlaps that a person is told of; a table holds all."""


@record(frozen=True)
class MosaicOptions(OpeningOptions):
    """What ``mosaic`` takes."""

    files: tuple[str, ...] = argument("FILE[,nodata=VALUE]...", many=True, required=True)
    output: str | None = words.output("The file (.tif).")
    nodata: list[Any] | None = words.nodata()
    nodata_when: NoDataWhen | None = words.nodata_when()
    trim: float = option("--trim", group="Input", type=float, default=0.0,
                         help="Take so many pixels off each valid edge.")  # fmt: skip
    rule: MosaicRule = option("--rule", group="Result", type=click.Choice(RULES), default="top",
                       help="What is taken where files lie on one another.")  # fmt: skip
    width: float | None = option("--width", group="Result", type=float,
                                 help="Pixels over which feather and seam fade.")  # fmt: skip
    balance: BalanceBy | None = option("--balance", group="Result", type=click.Choice(BALANCES),
                                 help="Even out brightness over the overlaps.")  # fmt: skip
    reference: int = option("--reference", group="Result", type=click.IntRange(1), default=1,
                            help="Balance by histogram: the file to match.")  # fmt: skip
    stacking: str | None = option(
        "--stacking", group="Result", metavar="argument|date|cloud|distance:X,Y",
        help="What lies on top: the last named, the newest, the least cloudy, the nearest.",
    )  # fmt: skip
    align: AlignmentKind | None = option("--align", group="Result", type=click.Choice(KINDS),
                               help="Move each onto the others.")  # fmt: skip
    grid_of: str | None = words.grid_of()
    crs: str | None = words.crs()
    pixel_size: tuple[float, ...] | None = words.pixel_size()
    resample: Resampling | None = words.resample()
    force: bool = words.force()
    compress: str = words.compress("deflate")
    csv: str | None = words.csv()
    preview: str | None = words.preview()
    engine: str | None = words.engine()
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("mosaic", MosaicOptions, examples=(
    "mosaic demo/sound_north.tif demo/sound_south.tif -o sound.tif --nodata 0 --nodata-when all "
    "--trim 1 --align shift --balance gain --rule feather",
    "mosaic demo/sound_north.tif demo/sound_south.tif -o seam.tif --nodata 0 --nodata-when all "
    "--rule seam --csv overlaps.csv",
))  # fmt: skip
def command(options: MosaicOptions) -> None:
    """Join rasters into one tiled TIFF with overviews, each on top of the one before.

    Grids, systems, band orders and types may differ. A run that was killed goes on from what it
    finished when it is given again. The overlaps, with --csv, are a table of how files differ.
    """
    from spectrane.opening import open_raster
    from spectrane.together import mosaic, overlaps

    output = required(options.output)
    _check(options, output)
    count = len(options.files)
    with (
        answering(options) as answer,
        contextlib.ExitStack() as stack,
        progress_bar(output, options.quiet) as progress,
    ):
        rasters = []
        for k, text in enumerate(options.files):
            file, said = with_fields(text, ("nodata",))
            raster = stack.enter_context(open_raster(file, **options.opening(k, count)))
            nodata = options.nodata
            if "nodata" in said:
                nodata = NoData().convert(said["nodata"], None, None)
            rasters.append(raster if nodata is None else raster.with_nodata(nodata))
        joined = mosaic(
            rasters, rule=options.rule, width=options.width, balance=options.balance,
            reference=options.reference, grid=_grid(rasters, options, stack),
            resample=options.resample, order=options.stacking,
            nodata_when=options.nodata_when, trim=options.trim, align=options.align,
            force=options.force,
        )  # fmt: skip
        wanted = options.balance or options.csv or options.as_json
        table = overlaps(joined) if wanted else None
        joined.save(output, compress=options.compress, engine=options.engine,
                    overwrite=options.overwrite, resume=True, progress=progress)  # fmt: skip
        told = [] if options.preview is None else _seams(joined, options.preview, options.overwrite)
        if options.csv and table is not None:
            write_csv(table, options.csv, overwrite=options.overwrite)
        rows = [] if table is None else records(table)
        moves = joined.metadata.get("alignment", [])
        facts = data_facts(output) | {"inputs": options.files, "bounds": joined.grid.bounds,
                                      "overlaps": rows, "alignment": moves,
                                      "preview": options.preview,
                                      "verdict": told[-1] if told else None}  # fmt: skip
        answer.add(facts, data_line(facts), *_moves(moves), *_overlaps(rows), *told)
        if options.csv:
            answer.add(file_facts(options.csv), f"{options.csv}: {size_text(options.csv)}")


def _check(options: MosaicOptions, output: str) -> None:
    """Raise an error for what cannot be done, before anything is read."""
    for path in (output, options.csv, options.preview):
        if path is not None:
            check_target(path, overwrite=options.overwrite)
    if options.rule not in ("feather", "seam"):
        options.refuse(["width"], f"by the rule {options.rule}, only by feather and seam")
    if options.balance != "histogram":
        options.refuse(["reference"], "without --balance histogram")


def _grid(rasters: list[Any], options: MosaicOptions, stack: contextlib.ExitStack) -> Any:
    """Return the grid asked for: that of a file, or one that covers all rasters in a system."""
    from spectrane.opening import open_raster

    side = side_of(options.pixel_size)
    if options.grid_of is not None:
        options.refuse(["crs", "pixel_size"], "with --grid-of, which is a grid already")
        return stack.enter_context(open_raster(options.grid_of)).grid
    if options.crs is None and side is None:
        return None
    crs = options.crs or rasters[0].grid.crs_text
    each = [suggested(raster.grid, crs, side) for raster in rasters]
    return union(each, each[0])


def _seams(joined: Any, picture: str, overwrite: bool) -> list[str]:
    """Draw which file lies where, and return what remains at the seams, and a verdict."""
    from spectrane.display.seam_picture import seam_picture
    from spectrane.formats.png.encoding import encode_png
    from spectrane.model.source import source_of
    from spectrane.spatial.mosaics.belonging import belonging

    found = belonging(source_of(joined), (1024, 1024))
    with written_whole(picture, overwrite=overwrite, tried=False) as file:
        text = {"Description": f"Preview of a mosaic's seams, not data.\n{found.verdict}"}
        file.write(encode_png(seam_picture(found), text))
    lines = [f"  {'seam':<36}{'band':<10}{'step':>10}{'usual':>10}{'share':>8}"]
    worst = sorted(found.steps, key=lambda one: -one.share)
    lines += [f"  {f'{one.first} {one.second}':<36}{one.band:<10}{one.step:>10.3g}"
              f"{one.usual:>10.3g}{one.share:>8.2g}" for one in worst[:_SHOWN]]  # fmt: skip
    return [*(lines if found.steps else []), f"{picture}: which file lies where", found.verdict]


def _moves(moves: list[dict[str, Any]]) -> list[str]:
    return [
        f"  {move['raster']} onto {move['to']}: {move['columns']:+.2f} columns, "
        f"{move['rows']:+.2f} rows, correlation {move['certainty']:.2f}"
        + ("" if move["taken out"] else " (not taken out)")
        for move in moves
    ]


def _overlaps(rows: list[dict[str, Any]]) -> list[str]:
    if not rows:
        return []
    lines = [f"  {'overlap':<36}{'band':<10}{'pixels':>10}{'before':>10}{'after':>10}"]
    for row in rows[:_SHOWN]:
        after = f"{row['after']:>10.3g}" if "after" in row else ""
        pair = f"{row['first']} {row['second']}"
        lines.append(f"  {pair:<36}{row['band']:<10}{row['pixels']:>10}{row['before']:>10.3g}"
                     f"{after}")  # fmt: skip
    return lines + ([f"  and {len(rows) - _SHOWN} more; --csv writes all"]
                    if len(rows) > _SHOWN else [])  # fmt: skip
