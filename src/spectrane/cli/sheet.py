"""``spectrane sheet``: a finished map on paper, or a sheet of slices."""

from __future__ import annotations

import contextlib
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import Answer, answering
from spectrane.cli.files import required
from spectrane.cli.kept_layers import kept_tables
from spectrane.cli.layering import LayerOptions, first_grid, layers_of
from spectrane.cli.options import command_of, option
from spectrane.cli.slice_options import ManyCutOptions, MapOptions
from spectrane.cli.written import file_facts, size_text
from spectrane.display.sheet_settings import (
    COORDINATES,
    ELEMENTS,
    INSETS,
    ORIENTATIONS,
    PAPERS,
    SheetSettings,
)
from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.regular_files import named_from
from spectrane.model.source import called
from spectrane.model.whole_files import check_target

if TYPE_CHECKING:
    from spectrane.figures.sheets.sheet import DrawnSheet

_LONGEST = 1 << 20
"""Bytes of notes."""
_TEXTS = ("title", "subtitle", "sources", "date", "paper", "orientation", "margin", "scale",
          "coordinates", "lines", "inset", "picture", "separate", "across", "dots")  # fmt: skip
_OF_MAPS = ("layers", "blend", "with_look", "base", "relief", "sun", "outline", "outline_crs",
            "layer", "outline_color", "outline_width", "label", "area", "area_crs", "center",
            "row_range", "column_range", "coordinates", "lines", "put", "inset", "separate",
            "keep_as", "nodata", "compute", "unit")  # fmt: skip
_OF_SLICES = ("plane", "montage", "span", "side", "axes", "map", "labels", "frame", "measure",
              "threshold", "p", "fdr", "statistic", "statistic_frame", "dof", "one_sided", "least",
              "neighbours", "faded", "map_limits", "map_colormap")  # fmt: skip


@record(frozen=True)
class SheetOptions(LayerOptions, MapOptions, ManyCutOptions):
    """What ``sheet`` takes."""

    output: str | None = words.output("The sheet: .pdf, .svg or .png.")
    frame: str = words.frame()
    title: str | None = words.title()
    subtitle: str | None = option("--subtitle", group="Output", metavar="TEXT",
                                  help="A line below the title.")  # fmt: skip
    notes: str | None = words.notes()
    notes_file: str | None = option("--notes-file", group="Output", type=click.Path(),
                                    help="Or the notes of a text file.")  # fmt: skip
    sources: str | None = option("--sources", group="Output", metavar="TEXT",
                                 help="Who made the data; the files' names if unsaid.")  # fmt: skip
    date: str | None = option("--date", group="Output", metavar="TEXT",
                              help="When they are of; what the files say if unsaid.")  # fmt: skip
    paper: str | None = option(
        "--paper", group="Output", metavar="NAME|WIDTHxHEIGHT",
        help=f"{', '.join(PAPERS)}, or mm; A4 if unsaid.",
    )  # fmt: skip
    orientation: str | None = option(
        "--orientation", group="Output", type=click.Choice(ORIENTATIONS),
        help="How the paper lies; as the map does if unsaid.",
    )  # fmt: skip
    margin: float | None = option("--margin", group="Output", type=float,
                                  help="mm around all; 12 if unsaid.")  # fmt: skip
    scale: str | None = option("--scale", group="Place", metavar="1:N",
                               help="Exact on paper; the largest round one if unsaid.")  # fmt: skip
    coordinates: str | None = option(
        "--coordinates", group="Output", type=click.Choice(COORDINATES),
        help="What stands along the frame; the map's own if unsaid.",
    )  # fmt: skip
    lines: bool = option("--lines", group="Output", is_flag=True,
                         help="Lines of these coordinates over the map.")  # fmt: skip
    put: tuple[str, ...] = option(
        "--put", group="Output", multiple=True, metavar="ELEMENT=PLACE",
        help=f"Where {', '.join(ELEMENTS)} stand: side, top-left and so on (a corner of the map), "
        "X,Y (mm from the sheet's upper left corner), none.",
    )  # fmt: skip
    inset: str | None = option(
        "--inset", group="Output", metavar="FILE|WORD",
        help=f"Where the map lies: on a raster of yours, or {', '.join(INSETS)}.",
    )  # fmt: skip
    picture: str | None = option("--picture", group="Output", type=click.Path(),
                                 help="A picture of your own on the sheet.")  # fmt: skip
    separate: bool = option("--separate", group="Layers", is_flag=True,
                            help="Every file is a map of its own, all of one area.")  # fmt: skip
    across: int | None = option("--across", group="Output", type=click.IntRange(1, 12),
                                help="How many maps or slices stand in a row.")  # fmt: skip
    dots: int | None = option("--dots", group="Output", type=click.IntRange(30, 1200),
                              help="Dots per inch of pictures; 200 if unsaid.")  # fmt: skip
    keep_as: str | None = option("--keep-as", group="Output", type=click.Path(),
                              help="Keep layers and sheet in a layer file (.toml).")  # fmt: skip
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("sheet", SheetOptions, examples=(
    "sheet demo/sound_8band.tif -o sound.pdf --nodata 0 --channels natural --title 'Halse Sound' "
    "--scale 1:80000",
    "sheet demo/sound_depth.tif -o depth.pdf --colormap auto --outline demo/eelgrass.geojson "
    "--center '490500,7354800' --scale 1:25000 --put north=top-left",
    "sheet demo/fetlock.nii.gz -o joint.pdf --limits window:bone --montage 12",
))  # fmt: skip
def command(options: SheetOptions) -> None:
    """Make a finished map on paper: title, frame, legend, scale bar, north, inset, notes, sources.

    A millimetre of the PDF or SVG is one, texts are letters and outlines lines. Of a volume, a
    sheet of slices. A layer file may hold it all in a [sheet] table.
    """
    output = required(options.output)
    options.refuse(["pixel_size", "stored"], "on a sheet; say --scale")
    check_target(output, overwrite=options.overwrite)
    with answering(options) as answer, contextlib.ExitStack() as opened:
        volume = _volume(options, opened)
        if volume is None:
            _map(output, options, answer, opened)
        else:
            _slices(output, volume, options, answer, opened)


def _volume(options: SheetOptions, opened: contextlib.ExitStack) -> Any:
    """Return the one file's volume, where it is one."""
    from spectrane.opening import open as open_any
    from spectrane.raster import Raster

    if len(options.files) != 1 or options.layers or "," in options.files[0]:
        return None
    found = opened.enter_context(open_any(options.files[0], **options.opening()))
    return None if isinstance(found, Raster) else found


def _map(
    output: str, options: SheetOptions, answer: Answer, opened: contextlib.ExitStack
) -> None:  # fmt: skip
    from spectrane.display.layer_file import write_layers
    from spectrane.figures.sheets.sheet import drawn_sheet
    from spectrane.together import load_layers

    options.refuse(_OF_SLICES, "of maps, only of volumes")
    layers, grid = layers_of(options, opened)
    kept = load_layers(options.layers).sheet if options.layers else None
    settings = _settings(options, kept or SheetSettings(), first_grid(layers, grid), layers)
    if options.keep_as is not None:
        check_target(options.keep_as, overwrite=options.overwrite)
    drawn = drawn_sheet(layers, settings, grid)
    if options.keep_as is not None:
        tables, own_grid = kept_tables(options, layers, options.keep_as)
        said = settings.to_dict()
        if settings.picture is not None:
            said["picture"] = named_from(settings.picture, options.keep_as)
        if settings.inset not in INSETS:
            said["inset"] = named_from(settings.inset, options.keep_as)
        write_layers(options.keep_as, tables, said, grid=own_grid, overwrite=options.overwrite)
    _tell(output, drawn, settings, options, answer)


def _slices(
    output: str, volume: Any, options: SheetOptions, answer: Answer, opened: contextlib.ExitStack
) -> None:
    from spectrane.cli.slice_drawing import anatomy, laid_layers
    from spectrane.figures.sheets.slices import Cuts, drawn_slice_sheet

    options.refuse(_OF_MAPS, "of volumes, only of maps")
    layers = [anatomy(volume, options), *laid_layers(options, opened)]
    settings = _settings(options, SheetSettings(), None, [])
    plane: Any = "axial" if options.plane == "all" else options.plane
    side: Any = options.side
    axes: Any = options.axes
    cuts = Cuts(plane, options.montage or 12, options.span, side, axes)
    _tell(output, drawn_slice_sheet(layers, cuts, settings), settings, options, answer)


def _settings(
    options: SheetOptions, kept: SheetSettings, grid: Any, layers: list[Any]
) -> SheetSettings:  # fmt: skip
    """Return what the options say over what a layer file keeps."""
    given = {name: value for name in _TEXTS if (value := getattr(options, name))}
    notes = _notes(options)
    given |= {} if notes is None else {"notes": notes}
    lowest = next((one.source for one in layers if hasattr(one, "source")), None)
    if lowest is not None:
        for name in ("title", "subtitle", "notes"):
            if name in given:
                given[name] = words.filled(str(given[name]), lowest.metadata, called(lowest))
    if options.put:
        given["put"] = dict(kept.put) | dict(_put(text) for text in options.put)
    try:
        return replace(kept, **given, **_part(options, grid, kept))
    except LookError as error:
        raise click.UsageError(str(error)) from error


def _part(options: SheetOptions, grid: Any, kept: SheetSettings) -> dict[str, Any]:
    """Return what the options say of the area that is shown."""
    said: dict[str, Any] = {}
    if options.covered != "bottom":
        said["covers"] = options.covered
    bounds = options.bounds()
    if bounds is None and options.center is None:
        options.refuse(["area_crs"], "without --area or --center")
    if options.center is not None:
        from spectrane.spatial.positions import read_position

        found = read_position(options.center, grid, crs=options.area_crs)
        options.__dict__["_echo"] = [f"center: {found.said}"]
        if options.scale is None and kept.scale is None:
            raise click.UsageError("--center on a sheet needs --scale")
        said |= {"center": (found.x, found.y), "area_crs": found.crs, "area": None}
    elif bounds is not None:
        said |= {"area": bounds, "area_crs": options.area_crs, "center": None}
    rows, columns = options.row_range, options.column_range
    if rows or columns:
        from spectrane.model.view import View

        window = View(rows=rows, columns=columns).window(grid)
        said |= {"area": grid.cropped(window).bounds, "area_crs": None, "center": None}
    return said


def _notes(options: SheetOptions) -> str | None:
    if options.notes_file is None:
        return options.notes
    if options.notes is not None:
        raise click.UsageError("say one of --notes and --notes-file")
    from spectrane.model.regular_files import read_small_text

    return read_small_text(options.notes_file, _LONGEST, LookError, "a text of notes").strip()


def _put(text: str) -> tuple[str, str]:
    name, equals, where = text.partition("=")
    if not equals:
        raise click.UsageError(f"--put {text!r}: expected ELEMENT=PLACE, such as north=top-left")
    return name.strip(), where.strip()


def _tell(
    output: str, drawn: DrawnSheet, settings: SheetSettings, options: SheetOptions, answer: Answer
) -> None:  # fmt: skip
    from spectrane.figures.paper import save_figure
    from spectrane.figures.sheets.elements import scale_text
    from spectrane.figures.sheets.sheet import sheet_facts

    save_figure(drawn.figure, output, overwrite=options.overwrite)
    facts = sheet_facts(drawn)
    wide, high = (float(side) * 25.4 for side in drawn.figure.get_size_inches())
    at = "" if facts["scale"] is None else f", {scale_text(facts['scale'])}"
    lines = [f"{output}: {settings.paper}, {wide:g} x {high:g} mm{at}, {size_text(output)}"]
    lines += [f"  {text}" for text in (*options.echo(), *drawn.notes)]
    lines += [f"  {', '.join(facts['elements'])}"] if facts["elements"] else []
    path = options.keep_as
    again = f"  kept in {path}: spectrane sheet --layers {path} draws it again"
    kept = [] if path is None else [again]
    answer.add(
        file_facts(output) | facts | {
            "inputs": options.files, "paper": [wide, high], "layer_file": path,
        },
        *lines, *kept,
    )  # fmt: skip
