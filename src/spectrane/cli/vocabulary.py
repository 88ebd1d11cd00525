"""The words that several commands share: each option is declared once and means one thing."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import click

from spectrane.cli.options import option
from spectrane.cli.values import Area, CompletedText, NoData, Numbers, Size
from spectrane.formats.flat import INTERLEAVES
from spectrane.model.asking import SIDES
from spectrane.model.colormaps import colormaps
from spectrane.model.limits import Limits
from spectrane.model.look import NODATA_WHEN
from spectrane.model.number_types import NUMBER_TYPES
from spectrane.model.resampling import RESAMPLINGS, SPACINGS
from spectrane.model.roles import PRESETS
from spectrane.model.rules import Rule, forms


def points() -> Any:
    """Declare ``--points``."""
    return option(
        "--points", group="Place", type=click.Path(),
        help="Named points: CSV (name, x, y, z or row, column), or for values GeoJSON, GeoPackage.",
    )  # fmt: skip


def points_crs() -> Any:
    """Declare ``--points-crs``."""
    return option("--points-crs", group="Place", metavar="CRS",
                  help="The system of the positions, where it is not the raster's.")  # fmt: skip


def position(**given: Any) -> Any:
    """Declare ``--at``."""
    return option(
        "--at", group="Place", type=Numbers(1, "X,Y[,Z]", most=3),
        help="A position: X,Y on the map; X,Y,Z in mm of a volume; one number where only the plane "
        "is asked for.", **given,
    )  # fmt: skip


def bar() -> Any:
    """Declare ``--bar``."""
    return option("--bar", group="Output", type=click.Choice(SIDES),
                  help="Draw the key in: a bar, classes, or what the colours mean.")  # fmt: skip


def caption() -> Any:
    """Declare ``--caption``."""
    return option("--caption", group="Output", metavar="TEXT",
                  help="Write this below; {title}, {date}, {cloud}, {file} and any {KEY} stand for "
                  "what the file says.")  # fmt: skip


def filled(caption: str | None, metadata: Mapping[str, Any], name: str) -> str | None:
    """Return a caption with what the metadata of a file of a name say put in."""
    from spectrane.model.printing import short_name
    from spectrane.model.said import filled_in

    if caption is None:
        return None
    return filled_in(caption, metadata, short_name(name, "an array"))


def csv() -> Any:
    """Declare ``--csv``."""
    return option("--csv", group="Output", type=click.Path(), help="The table, as CSV.")


def crs() -> Any:
    """Declare ``--crs``."""
    return option("--crs", group="Place", metavar="CRS",
                  help="The coordinate system of the result: EPSG:CODE or WKT.")  # fmt: skip


def grid_of() -> Any:
    """Declare ``--grid-of``."""
    return option("--grid-of", group="Place", type=click.Path(), help="Onto the grid of this file.")


def interleave() -> Any:
    """Declare ``--interleave``."""
    return option("--interleave", group="Result", type=click.Choice(INTERLEAVES),
                  help="Raw: band by band, row by row, or pixel by pixel.")  # fmt: skip


def number_type() -> Any:
    """Declare ``--type``."""
    return option(
        "--type", group="Result", type=click.Choice(NUMBER_TYPES), help="What numbers are."
    )


def preview() -> Any:
    """Declare ``--preview``."""
    return option("--preview", group="Output", type=click.Path(),
                  help="A picture (.png) to check by eye what was made.")  # fmt: skip


def where() -> Any:
    """Declare ``--where``."""
    return option("--where", group="Mask", metavar="EXPRESSION",
                  help="Keep where an expression is true: 'nir > 0.2', 'abs(t) >= 5'.")  # fmt: skip


def mask() -> Any:
    """Declare ``--mask``."""
    return option(
        "--mask",
        group="Mask",
        type=click.Path(),
        help="Keep where this file is not 0 (or passes the tests), on its own grid.",
    )


def bits() -> Any:
    """Declare ``--bits``."""
    return option("--bits", group="Mask", metavar="TEST",
                  help="The mask is where quality bits are so: 'bits 3-4 = 2'.")  # fmt: skip


def roles() -> Any:
    """Declare ``--roles``."""
    return option(
        "--roles", group="Corrections", metavar="ROLE,…",
        help="Roles of all bands, in order: blue,green,red,nir; - says none.",
    )  # fmt: skip


def names() -> Any:
    """Declare ``--names``."""
    return option("--names", group="Corrections", metavar="NAME,…",
                  help="Names of all bands, in order; - says none.")  # fmt: skip


def notes() -> Any:
    """Declare ``--notes``."""
    return option(
        "--notes", group="Corrections", metavar="TEXT|FILE[,QUANTITY]",
        help="Of amend a note to whoever opens it next; of a sheet what stands beside the map; of "
        "joined bands a file of key = value lines with scales and offsets.",
    )  # fmt: skip


def pace(default: int) -> Any:
    """Declare ``--pace``."""
    return option("--pace", group="Output", type=click.IntRange(1, 65535), default=default,
                  help="Milliseconds per moving picture.")  # fmt: skip


def dry_run() -> Any:
    """Declare ``--dry-run``."""
    return option(
        "--dry-run", group="Output", is_flag=True,
        help="Write nothing: tell what would be written, its size, grid, type and no-data, and the "
        "time it would take.",
    )  # fmt: skip


def frame() -> Any:
    """Declare ``--frame``."""
    return option("--frame", group="Look", default="1",
                  help="The frame that is shown: its number or name.")  # fmt: skip


def title() -> Any:
    """Declare ``--title``."""
    return option("--title", group="Output", metavar="TEXT", help="What is shown, in words.")


def opacity() -> Any:
    """Declare ``--opacity``."""
    return option("--opacity", group="Layers", metavar="SHARE,…",
                  help="0 to 1 for each layer that is laid on, with commas: 1,0.6.")  # fmt: skip


def with_look() -> Any:
    """Declare ``--with-look``."""
    return option("--with-look", group="Layers", multiple=True, type=click.Path(),
                  help="A look file for each file, in order.")  # fmt: skip


def overwrite() -> Any:
    """Declare ``--overwrite``."""
    return option("--overwrite", group="Output", is_flag=True, help="Replace what exists.")


def output(what: str) -> Any:
    """Declare ``-o``."""
    return option("--output", "-o", group="Output", type=click.Path(), help=what)


def out_dir() -> Any:
    """Declare ``--out-dir``."""
    return option("--out-dir", group="Output", type=click.Path(),
                  help="A folder for one output per file.")  # fmt: skip


def size(default: tuple[int, int] | None = None) -> Any:
    """Declare ``--size``; the default is (rows, columns)."""
    shown = False if default is None else f"{default[1]}x{default[0]}"
    return option("--size", group="Output", type=Size(), metavar="COLUMNSxROWS", default=default,
                  show_default=shown, help="Pixels of what is drawn, at most.")  # fmt: skip


def compress(default: str | None = None) -> Any:
    """Declare ``--compress``."""
    return option("--compress", group="Output", metavar="CODEC", default=default,
                  help="TIFF: deflate, zstd, lzw or none.")  # fmt: skip


def force() -> Any:
    """Declare ``--force``."""
    return option("--force", group="Result", is_flag=True,
                  help="Mix numbers that are names of classes or flags all the same.")  # fmt: skip


def look_file() -> Any:
    """Declare ``--look``."""
    return option("--look", group="Look", type=click.Path(), help="A look file (.look.toml).")


def channels() -> Any:
    """Declare ``--channels``."""
    return option("--channels", group="Look", type=CompletedText("BANDS", lambda: PRESETS),
                  help=f"Bands to show: {', '.join(PRESETS)}, 1, or 4,3,2.")  # fmt: skip


def rule_words(kind: type[Rule]) -> list[str]:
    """Return how rules begin: their names, with the colon where more follows."""
    names = [one.partition("[")[0].partition(":") for one in forms(kind).split(", ")]
    return sorted({name + colon for name, colon, _ in names})


def limits() -> Any:
    """Declare ``--limits``."""
    return option(
        "--limits",
        group="Look",
        multiple=True,
        type=CompletedText("RULE", lambda: rule_words(Limits)),
        help=f"Where black and white lie: {forms(Limits)}; LOW,HIGH alone is fixed:LOW,HIGH. "
        "Once, or once per channel.",
    )


def invert() -> Any:
    """Declare ``--invert``."""
    return option("--invert", group="Look", is_flag=True, help="A negative.")


def colormap() -> Any:
    """Declare ``--colormap``."""
    return option(
        "--colormap",
        group="Look",
        type=CompletedText("NAME", lambda: ["auto", "list", *colormaps]),
        help="For one band: a colour map by name, 'NAME reversed', or auto. list shows them all, "
        "with -o as swatches.",
    )


def nodata() -> Any:
    """Declare ``--nodata``."""
    return option("--nodata", group="Input", type=NoData(),
                  help="Stored numbers that mean nothing, or none.")  # fmt: skip


def nodata_when() -> Any:
    """Declare ``--nodata-when``."""
    return option("--nodata-when", group="Input", type=click.Choice(NODATA_WHEN),
                  help="A pixel means nothing where any band does, or all do.")  # fmt: skip


def compute() -> Any:
    """Declare ``--compute``."""
    return option(
        "--compute",
        group="Input",
        multiple=True,
        metavar="NAME=EXPRESSION",
        help="Computed bands instead: ndvi, or dry=(swir16-nir)/(swir16+nir).",
    )


def unit() -> Any:
    """Declare ``--unit``."""
    return option(
        "--unit", group="Input", metavar="UNIT", help="Values in another unit, such as celsius."
    )


def resample() -> Any:
    """Declare ``--resample``."""
    return option("--resample", group="Look", type=click.Choice(RESAMPLINGS),
                  help="How values between pixels are found.")  # fmt: skip


def area() -> Any:
    """Declare ``--area``."""
    return option("--area", group="Place", type=Area(),
                  help="Map bounds; of layers also union: all that they cover.")  # fmt: skip


def area_crs() -> Any:
    """Declare ``--area-crs``."""
    return option(
        "--area-crs",
        group="Place",
        help="The system of --area and --center, where it is not the raster's.",
    )


def pixel_size() -> Any:
    """Declare ``--pixel-size``, one number or two."""
    return option(
        "--pixel-size", "--pixel", group="Place", type=Numbers(1, "SIDE[,SIDE]", most=2),
        help="The side of a pixel of the result, in units of its system: one number, or those "
        "along x and y.",
    )  # fmt: skip


def engine() -> Any:
    """Declare ``--engine``."""
    return option("--engine", group="Output", metavar="ENGINE",
                  help="threads, or a cluster's address such as tcp://10.0.0.1:8786.")  # fmt: skip


def layer(group: str) -> Any:
    """Declare ``--layer``."""
    return option(
        "--layer", group=group, metavar="NAME", help="The layer of a GeoPackage with several."
    )


def bounds() -> Any:
    """Declare ``--bounds``."""
    return option("--bounds", group="Place", type=Numbers(4, "X1,Y1,X2,Y2"),
                  help="Where all of the file lies: outer bounds.")  # fmt: skip


def spacing() -> Any:
    """Declare ``--spacing``."""
    return option(
        "--spacing", group="Input", type=click.Choice(SPACINGS),
        help="Of unevenly spaced slices: even ones by interpolation, or as if they were even.",
    )  # fmt: skip
