"""Options that make a look and say which part is shown, alike in all commands that have them."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.options import Options, option
from spectrane.cli.values import CompletedText, Numbers
from spectrane.kernels.records import record
from spectrane.model.curves import Curve
from spectrane.model.errors import LookError
from spectrane.model.grid import Bounds, Grid
from spectrane.model.look import LIMITS_FROM, Look
from spectrane.model.resampling import Resampling
from spectrane.model.rules import forms
from spectrane.model.view import View

_FIELDS = ("channels", "curve", "limits_from", "nodata_when", "nodata_color", "resample",
           "colormap", "local_contrast", "sharpen", "brightness", "contrast",
           "saturation")  # fmt: skip


@record(frozen=True)
class ValueOptions(Options):
    """Which values there are: what means nothing, what is computed, in which unit."""

    nodata: list[Any] | None = words.nodata()
    compute: tuple[str, ...] = words.compute()
    unit: str | None = words.unit()

    def computed(self, raster: Any, *, among: int = 1) -> Any:
        """Return the raster under the no-data asked for, or bands computed from it.

        ``among`` several rasters, the option is for those that name no no-data of their own: what
        is fill in one need not be in another.
        """
        named = among > 1 and any(band.nodata is not None for band in raster.bands)
        shown = raster if self.nodata is None or named else raster.with_nodata(self.nodata)
        given = {}
        for text in self.compute:
            name, equals, expression = text.partition("=")
            given[name.strip()] = expression if equals else name
        shown = shown.compute(given) if given else shown
        return shown.convert(self.unit) if self.unit else shown

    def value_words(self) -> list[str]:
        """Return the options that say which values there are, as they are typed."""
        said: list[str] = []
        if self.nodata is not None:
            from spectrane.analysis.fills import nodata_text

            said += ["--nodata", shlex.quote(nodata_text(self.nodata))]
        for text in self.compute:
            said += ["--compute", shlex.quote(text)]
        return said + (["--unit", shlex.quote(self.unit)] if self.unit else [])


@record(frozen=True)
class LookOptions(ValueOptions):
    """How a raster is shown."""

    nodata_when: str | None = words.nodata_when()
    look: str | None = words.look_file()
    channels: str | None = words.channels()
    limits: tuple[str, ...] = words.limits()
    shared: bool = option("--shared", group="Look", is_flag=True,
                          help="One pair of limits for all channels.")  # fmt: skip
    limits_from: str | None = option(
        "--limits-from", group="Look", type=click.Choice(LIMITS_FROM), help="What limits see."
    )
    limits_region: str | None = option(
        "--limits-region", group="Look", metavar="X1,Y1,X2,Y2|FILE",
        help="Limits see these bounds, or the polygons of a GeoJSON file.",
    )  # fmt: skip
    exact: bool = option("--exact", group="Look", is_flag=True,
                         help="Limits from every pixel, however many.")  # fmt: skip
    curve: str | None = option(
        "--curve", group="Look", help=f"{forms(Curve)}.",
        type=CompletedText("CURVE", lambda: words.rule_words(Curve)),
    )  # fmt: skip
    invert: bool = words.invert()
    colormap: str | None = words.colormap()
    local_contrast: float | None = option(
        "--local-contrast", group="Look", type=float,
        help="Clip limit of local equalisation; 0: none.",
    )  # fmt: skip
    sharpen: tuple[float, float] | None = option(
        "--sharpen", group="Look", type=Numbers(2, "RADIUS,AMOUNT"), help="Unsharp mask."
    )
    brightness: float | None = option("--brightness", group="Look", type=float, help="-1 to 1.")
    contrast: float | None = option("--contrast", group="Look", type=float, help="1 is as it is.")
    saturation: float | None = option("--saturation", group="Look", type=float,
                                      help="1 is as it is, 0 grey.")  # fmt: skip
    nodata_color: str | None = option("--nodata-color", group="Look", metavar="#RRGGBB",
                                      help="Paint what is hidden.")  # fmt: skip
    resample: Resampling | None = words.resample()

    def look_fields(self) -> dict[str, Any]:
        """Return the fields of the look that the options name; wrong ones are wrong usage."""
        given = {name: value for name in _FIELDS if (value := getattr(self, name)) is not None}
        given |= {name: True for name in ("shared", "invert", "exact") if getattr(self, name)}
        if self.limits:
            given["limits"] = limits_given(self.limits)
        if self.limits_region:
            if self.limits_from is not None:
                raise click.UsageError("say one of --limits-from and --limits-region")
            given["limits_from"] = _region(self.limits_region)
        try:
            Look(**given)  # what is wrong whatever the file is wrong usage
        except LookError as error:
            raise click.UsageError(str(error)) from error
        return given

    def look_for(self, raster: Any, fields: dict[str, Any]) -> Look:
        """Return the look of a raster: options over a look file over what the file keeps."""
        kept = Look.load(self.look) if self.look else raster.look or Look()
        if not self.look and {"limits", "colormap"} & fields.keys():
            kept = replace(kept, classes={})  # what is asked for are numbers, not classes
        return replace(kept, **fields)


LOOK_ONLY = frozenset(LookOptions.__dataclass_fields__) - frozenset(
    ValueOptions.__dataclass_fields__
)
"""Options that say how values are shown, and nothing of the values."""


def _region(text: str) -> dict[str, Any]:
    try:
        numbers = [float(part) for part in text.split(",")]
    except ValueError:
        return {"polygon": text}
    if len(numbers) != 4:
        raise click.UsageError(f"--limits-region {text!r}: expected X1,Y1,X2,Y2 or a file")
    return {"bounds": numbers}


def limits_given(texts: Sequence[str]) -> str | list[str]:
    """Return limits as a look takes them: once, or once per channel."""
    return texts[0] if len(texts) == 1 else list(texts)


def side_of(pixel_size: tuple[float, ...] | None) -> Any:
    """Return a pixel's size as Python takes it: one number for a square."""
    return None if pixel_size is None else pixel_size if len(pixel_size) == 2 else pixel_size[0]


@record(frozen=True)
class PartOptions(Options):
    """A rectangle: by map bounds, or by rows and columns."""

    area: Bounds | str | None = words.area()
    area_crs: str | None = words.area_crs()
    row_range: tuple[int, int] | None = option(
        "--row-range", group="Place", type=Numbers(2, "START,STOP", kind=int),
        help="Rows from START to before STOP, counted from 0.",
    )  # fmt: skip
    column_range: tuple[int, int] | None = option(
        "--column-range", group="Place", type=Numbers(2, "START,STOP", kind=int),
        help="Columns from START to before STOP, counted from 0.",
    )  # fmt: skip

    def bounds(self) -> Bounds | None:
        """Return the map bounds that are said; all that layers cover is for layers."""
        if isinstance(self.area, str):
            raise click.UsageError("--area union is for layers: spectrane overlay, page and tiles")
        return self.area

    def part(self, raster: Any) -> Any:
        """Return the part of a raster that is asked for."""
        area = self.bounds()
        if area is None:
            self.refuse(["area_crs"], "without --area")
        elif self.area_crs:
            raster, area = raster.clip(area, crs=self.area_crs), None
        if area or self.row_range or self.column_range:
            return raster.crop(bounds=area, rows=self.row_range, columns=self.column_range)
        return raster


@record(frozen=True)
class AreaOptions(PartOptions):
    """Which part is shown."""

    center: str | None = option(
        "--center", group="Place", metavar="POSITION",
        help="Middle of the view, with --pixel-size: X,Y, LON,LAT, 23°54'S 21°3'W, an MGRS grid "
        "reference, or 'NAME in FILE'.",
    )  # fmt: skip
    pixel_size: tuple[float, ...] | None = words.pixel_size()
    stored: bool = option(
        "--stored", group="Place", is_flag=True,
        help="Pixel for pixel, also where pixels are not square on the map.",
    )  # fmt: skip

    def view(self, grid: Grid | None, size: tuple[int, int] | None = None) -> View:
        """Return the view that the options say of a raster on a grid; how a position was read is
        told by ``echo``.
        """
        bounds = self.bounds()
        if bounds is None and self.center is None:
            self.refuse(["area_crs"], "without --area or --center")
        side = side_of(self.pixel_size)
        if isinstance(side, tuple):
            raise click.UsageError("--pixel-size: a picture's pixels are square; say one number")
        center, crs = None, self.area_crs
        try:
            if self.center is not None:
                from spectrane.spatial.positions import read_position

                found = read_position(self.center, grid, crs=crs)
                center, crs = (found.x, found.y), found.crs
                self.__dict__["_echo"] = [f"center: {found.said}"]
            return View(
                bounds=bounds, rows=self.row_range, columns=self.column_range, size=size,
                center=center, pixel=side, crs=crs, stored=self.stored,
            )  # fmt: skip
        except LookError as error:
            raise click.UsageError(str(error)) from error

    def echo(self) -> list[str]:
        """Return how a position was read, in a line, where one was said."""
        told: list[str] = self.__dict__.get("_echo", [])
        return told


AREA_NAMES = frozenset(AreaOptions.__dataclass_fields__) - frozenset(Options.__dataclass_fields__)
"""Options that say which part is shown."""
