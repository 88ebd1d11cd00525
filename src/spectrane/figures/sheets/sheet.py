"""A finished map on paper: set out, drawn, and everything on it told in words too."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from matplotlib.figure import Figure

from spectrane.display.keys import Key
from spectrane.display.layers import AnyLayer, Layer, PlannedLayer, StackArea, base_grid
from spectrane.display.outlines import Outline
from spectrane.display.sheet_settings import (
    Coordinates,
    Orientation,
    SheetSettings,
    paper_size,
)
from spectrane.figures.keys import one_key
from spectrane.figures.paper import MUTED, blank, finished_chart, on_paper
from spectrane.figures.sheets.elements import HEAD, North, Notes, ScaleBar, SheetElement
from spectrane.figures.sheets.framing import Extent, Framed, extent_of, framed, tell_cut
from spectrane.figures.sheets.insets import Inset, own_picture
from spectrane.figures.sheets.legend import legend_elements
from spectrane.figures.sheets.maps import DrawnMap, draw_map, drawn_map, maps_of
from spectrane.figures.sheets.pen import MM, Box, Pen, line_height
from spectrane.figures.sheets.placing import (
    GAP,
    Placed,
    check_apart,
    check_depth,
    in_band,
    in_column,
    on_map,
    reach_down,
)
from spectrane.figures.sheets.ticks import draw_ticks
from spectrane.figures.sheets.words import Words
from spectrane.kernels.quiet import quiet
from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.grid import Grid
from spectrane.model.said import date_of, date_text
from spectrane.model.source import called, source_of

if TYPE_CHECKING:
    from spectrane.looking import Shown

_TICKS = (5.0, 5.0)
"""Millimetres left of a map and below it that its coordinates take."""
_COARSE = 40
_DEEPEST = 0.5


@record(frozen=True)
class SetOut:
    """Where everything stands: maps, elements, and the words above and below."""

    frames: tuple[Framed, ...]
    placed: tuple[Placed, ...]
    heads: tuple[str, ...]


@record(frozen=True)
class DrawnSheet:
    """A sheet and what it says of itself."""

    figure: Figure
    frames: tuple[Framed, ...]
    elements: tuple[tuple[str, Box], ...]
    notes: tuple[str, ...]


@quiet
def sheet(
    layers: Shown | Sequence[Shown | list[Shown]], *, title: str = "", subtitle: str = "",
    notes: str = "", sources: str | None = None, date: str | None = None, paper: str = "A4",
    orientation: Orientation = "auto", margin: float = 12.0, scale: float | str | None = None,
    coordinates: Coordinates = "map", lines: bool = False, put: Mapping[str, str] | None = None,
    inset: str = "auto", picture: str | None = None, separate: bool = False,
    across: int | None = None, area: tuple[float, float, float, float] | None = None,
    area_crs: str | None = None, center: tuple[float, float] | None = None,
    covers: StackArea = "bottom", dots: int = 200, figure: Figure | None = None,
) -> Figure:  # fmt: skip
    """Return a finished map on paper: with title, coordinates, legend, scale bar, north and notes.

    ``layers`` is a raster, or a list of rasters, (raster, look) pairs, ``Layer`` and ``Outline``,
    the lowest first; with ``separate`` each is a map of its own (or each list of them), all of the
    same area. The other arguments are those of ``SheetSettings``. Outlines above all rasters are
    drawn as lines, texts as letters; nothing in a text is interpreted. Save it with
    ``figures.save_figure``: on PDF and SVG a millimetre is one. A caller's ``figure`` becomes the
    paper. Raises LookError for what has no
    room, with what would have; GridMismatch for a scale of a grid whose unit nobody knows.

    >>> import numpy as np, spectrane as sp
    >>> grid = sp.Grid.from_corner((40, 60), x=500000, y=9e6, pixel_size=10, crs="EPSG:32727")
    >>> sea = sp.from_array(np.arange(2400.0).reshape(40, 60), grid=grid)
    >>> figure = sp.figures.sheet([sea], title="Sound", scale="1:5000", paper="A5")
    >>> [round(side * 25.4) for side in figure.get_size_inches()]
    [210, 148]
    """
    settings = SheetSettings(
        title, subtitle, notes, sources, date, paper, orientation, margin, scale, coordinates,
        lines, put or {}, inset, picture, separate, across, area, area_crs, center,
        covers, dots,
    )  # fmt: skip
    return drawn_sheet(layers, settings, figure=figure).figure


def drawn_sheet(
    layers: object, settings: SheetSettings, grid: Grid | None = None,
    figure: Figure | None = None,
) -> DrawnSheet:  # fmt: skip
    """Draw a sheet: see ``sheet``; ``grid`` is that of a layer file, ``figure`` a caller's."""
    maps = maps_of(layers, settings.separate)
    rasters = [one for one in maps[0] if not isinstance(one, Outline)]
    if not rasters:
        raise LookError("sheet: expected at least one raster")
    extent = extent_of(grid or base_grid(rasters, settings.covers), settings)
    beside: list[SheetElement] = [Notes(settings.notes)] if settings.notes else []
    beside += [own_picture(settings.picture)] if settings.picture else []
    foot = _small_print(maps, extent, settings)
    rough = framed(extent, [Box(0, 0, 100, 100)], None)[0].grid(_COARSE)
    drawn = [drawn_map(one, rough, tell=False) for one in maps]
    setting, out = _best(settings, extent, Inset(maps[0], settings), beside, foot, drawn)
    for attempt in range(3):  # what occurs is known when it is drawn, and takes room
        grids = [frame.grid(settings.dots) for frame in out.frames]
        drawn = [drawn_map(one, grid, tell=attempt == 0)
                 for one, grid in zip(maps, grids, strict=True)]  # fmt: skip
        before, out = out, setting.out(drawn)
        if before.frames == out.frames:
            break
    pen = setting.pen
    if figure is not None:
        pen.figure = on_paper(figure, pen.wide / MM, pen.high / MM, "white", settings.dots)
    _draw(setting, out, drawn)
    tell_cut(extent, out.frames[0])
    elements = tuple((one.element.name, one.box) for one in out.placed)
    return DrawnSheet(finished_chart(pen.figure), out.frames, elements, foot)


def _best(
    settings: SheetSettings, extent: Extent, inset: Inset, beside: list[SheetElement],
    foot: tuple[str, ...], drawn: Sequence[DrawnMap],
) -> tuple[_Setting, SetOut]:  # fmt: skip
    """Return the setting on paper that lies, or stands, so that maps become largest."""
    found: list[tuple[_Setting, SetOut]] = []
    problem: LookError | None = None
    for sides in dict.fromkeys(paper_sides(settings, lying=lying) for lying in (True, False)):
        pen = Pen(blank(sides[0] / MM, sides[1] / MM, "white", settings.dots))
        setting = _Setting(Words(pen, settings, foot), extent, inset, beside)
        try:
            found.append((setting, setting.out(drawn)))
        except LookError as error:
            problem = problem or error
    if not found:
        assert problem is not None
        raise problem
    return max(found, key=lambda one: one[1].frames[0].box.width * one[1].frames[0].box.height)


def paper_sides(settings: SheetSettings, *, lying: bool) -> tuple[float, float]:
    """Return the sheet's width and height: ``lying`` or not, unless it is said."""
    sides = paper_size(settings.paper)
    named = "x" not in settings.paper.lower()
    if settings.orientation == "auto" and not named:
        return sides
    short, long = sorted(sides)
    wide = settings.orientation == "landscape" or (settings.orientation == "auto" and lying)
    return (long, short) if wide else (short, long)


def _small_print(
    maps: Sequence[Sequence[AnyLayer]], extent: Extent, settings: SheetSettings
) -> tuple[str, ...]:  # fmt: skip
    """Return what stands at the foot: sources and dates, the system, and what is to be known."""
    sources = [source_of(one.source) for part in maps for one in part
               if isinstance(one, Layer | PlannedLayer)]  # fmt: skip
    named = settings.sources
    if named is None:
        names = dict.fromkeys(called(source) for source in sources)
        named = ", ".join(names)
    date = settings.date
    if date is None:
        dates = sorted({date_text(one) for source in sources
                        if (one := date_of(source.metadata)) is not None})  # fmt: skip
        date = dates[0] if len(dates) == 1 else f"{dates[0]} to {dates[-1]}" if dates else ""
    said = [f"Sources: {named}" if named else "", f"Date: {date}" if date else ""]
    system = extent.base.crs
    if system is not None:
        code = extent.base.crs_text if str(extent.base.crs_text).startswith("EPSG:") else ""
        unit = "" if extent.ground is None else f", {extent.ground.unit}"
        said.append(f"System: {system.name}" + (f" ({code})" if code else "") + unit)
    elif extent.why:
        said.append(f"No scale: {extent.why.partition(';')[0]}")
    first = "   ·   ".join(text for text in said if text)
    more = []
    if extent.ground is not None and extent.ground.corrected is not None:
        more.append(
            f"Scale and lengths are true on the ground at the map's middle, where the projection "
            f"shows them {extent.ground.corrected:+.1%}."
        )
    return tuple(text for text in (first, *more) if text)


@record(frozen=True)
class _Setting:
    """What a sheet is set out from, whatever its maps turn out to show."""

    words: Words
    extent: Extent
    inset: Inset | None
    beside: list[SheetElement]

    @property
    def pen(self) -> Pen:
        return self.words.pen

    @property
    def settings(self) -> SheetSettings:
        return self.words.settings

    def elements(self, drawn: Sequence[DrawnMap], frame: Framed) -> list[SheetElement]:
        """Return all elements in the order they are set out, for a map in its frame."""
        found: list[SheetElement] = []
        if self.settings.where("legend") != "none":
            outlines: dict[tuple[object, ...], Outline] = {}
            for one in (outline for part in drawn for outline in part.shown_outlines()):
                outlines.setdefault((one.title, one.color, one.fill), one)
            found += legend_elements(_legend(drawn), list(outlines.values()))
        inset = None if self.inset is None else self.inset.of(frame.extent)
        found += [] if inset is None else [inset]
        found += [one for one in self.beside if self.settings.where(one.name) != "none"]
        ground = self.extent.ground
        if ground is not None and frame.scale and self.settings.where("scale") != "none":
            found.append(ScaleBar(frame))
        if ground is not None and ground.north is not None:
            found += [North(ground)] if self.settings.where("north") != "none" else []
        return found

    def out(self, drawn: Sequence[DrawnMap]) -> SetOut:
        """Set the sheet out for maps as they were drawn; an inset nobody asked for makes way."""
        try:
            return self._out(drawn)
        except LookError:
            if self.settings.inset != "auto" or "inset" in self.settings.put:
                raise
            return replace(self, inset=None)._out(drawn)

    def _out(self, drawn: Sequence[DrawnMap]) -> SetOut:
        standing = self.pen.high > self.pen.wide
        frames, side = (self._above if standing else self._beside)(drawn)
        rest = [one for one in self.elements(drawn, frames[0])
                if self.settings.where(one.name) != "side"]  # fmt: skip
        placed = [*side, *on_map(self.pen, rest, self.settings, frames[0].box)]
        heads = tuple(one.title for one in drawn) if len(drawn) > 1 else ()
        self._check(placed, frames)
        return SetOut(tuple(frames), tuple(placed), heads)

    def _at_side(self, drawn: Sequence[DrawnMap], frame: Framed) -> list[SheetElement]:
        return [one for one in self.elements(drawn, frame)
                if self.settings.where(one.name) == "side"]  # fmt: skip

    def _beside(self, drawn: Sequence[DrawnMap]) -> tuple[list[Framed], list[Placed]]:
        """Return maps with a column of elements at their right."""
        room = self.words.room()
        whole = Framed(Box(0, 0, room.width / 2, room.height), self.extent, 1.0)
        aside = min(68.0, max(38.0, room.width * 0.23)) if self._at_side(drawn, whole) else 0.0
        left = replace(room, width=room.width - (aside + GAP + 2 if aside else 0.0))
        frames = self._frames(left, len(drawn))
        top = min(frame.box.top for frame in frames)
        column = Box(room.right - aside, top, aside, room.bottom - top)
        return frames, in_column(self.pen, self._at_side(drawn, frames[0]), column)

    def _above(self, drawn: Sequence[DrawnMap]) -> tuple[list[Framed], list[Placed]]:
        """Return maps with a band of elements below them, as deep as it must be."""
        room, band = self.words.room(), 0.0
        rim = 0.0 if self.settings.coordinates == "none" else _TICKS[1]
        while True:
            free = replace(room, height=room.height - (band + GAP if band else 0.0))
            frames = self._frames(free, len(drawn))
            top = max(frame.box.bottom for frame in frames) + rim + GAP
            side = self._at_side(drawn, frames[0])
            placed = in_band(self.pen, side, Box(room.left, top, room.width, 0))
            need = reach_down(placed, top)
            if not placed or need <= room.bottom - top + 1e-6:
                return frames, placed
            if need > _DEEPEST * room.height or need <= band:
                check_depth(placed, Box(room.left, top, room.width, _DEEPEST * room.height))
                raise LookError(f"the sheet has no room below the map for {need:.0f} mm of legend "
                                "and notes; take larger paper")  # fmt: skip
            band = need

    def _frames(self, room: Box, many: int) -> list[Framed]:
        """Return the frames of maps side by side, as large as can be."""
        rim = (0.0, 0.0) if self.settings.coordinates == "none" else _TICKS
        head = line_height(HEAD) + 0.6 if many > 1 else 0.0
        best: list[Framed] = []
        across = [self.settings.across] if self.settings.across else range(1, many + 1)
        problem: LookError | None = None
        for columns in across:
            down = -(-many // columns)
            wide = (room.width - (columns - 1) * GAP) / columns
            high = (room.height - (down - 1) * GAP) / down
            rooms = [
                Box(room.left + (k % columns) * (wide + GAP) + rim[0],
                    room.top + (k // columns) * (high + GAP) + head, wide - rim[0],
                    high - rim[1] - head)
                for k in range(many)
            ]  # fmt: skip
            try:
                found = framed(self.extent, rooms, _scale(self.settings))
            except LookError as error:
                problem = error
                continue
            step = found[0].box.height + head + rim[1] + GAP
            found = [replace(one, box=replace(one.box, top=room.top + head + k // columns * step))
                     for k, one in enumerate(found)]  # fmt: skip
            if not best or found[0].box.width > best[0].box.width:
                best = found
        if not best:
            assert problem is not None
            raise problem
        return best

    def _check(self, placed: Sequence[Placed], frames: Sequence[Framed]) -> None:
        free = [one for one in placed if self.settings.where(one.element.name) != "side"]
        fixed = [one for one in placed if one not in free]
        others = [(one.element.name, one.box) for one in fixed]
        words = (("the title", self.words.head_box()), ("the small print", self.words.foot_box()))
        others += [(name, box) for name, box in words if box.height]
        if self.settings.coordinates != "none":
            for frame in (one.box for one in frames):
                left, below = _TICKS
                beside = Box(frame.left - left, frame.top, left, frame.height)
                under = Box(frame.left, frame.bottom, frame.width, below)
                others += [("the coordinates", beside), ("the coordinates", under)]
        check_apart(free, others)


def _scale(settings: SheetSettings) -> float | None:
    return None if settings.scale is None else float(settings.scale)


def _legend(drawn: Sequence[DrawnMap]) -> list[Key]:
    """Return the keys of all maps: those that several share once."""
    found: list[Key] = []
    for part in drawn:
        for key in part.keys:
            known = next((k for k, one in enumerate(found) if one_key([one, key])), None)
            if known is None or len(drawn) == 1:
                found.append(key)
            else:
                shared = one_key([found[known], key])
                assert shared is not None
                found[known] = shared
    return found


def _draw(setting: _Setting, out: SetOut, drawn: Sequence[DrawnMap]) -> None:
    settings, pen = setting.settings, setting.pen
    setting.words.draw()
    for number, (frame, part) in enumerate(zip(out.frames, drawn, strict=True)):
        draw_map(pen, frame, part)
        draw_ticks(pen, frame, settings.coordinates, lines=settings.lines)
        if out.heads:
            line = pen.wrapped(out.heads[number], frame.box.width, HEAD, "bold")[0]
            pen.text(frame.box.left, frame.box.top - 0.8, line, HEAD, weight="bold", va="bottom")
    for one in out.placed:
        if one.ground:
            around = one.covered
            pen.rectangle(around, facecolor="white", edgecolor=MUTED)
        one.element.draw(pen, one.box)


def sheet_facts(drawn: DrawnSheet) -> dict[str, Any]:
    """Return what a sheet is, as plain values: scale, bounds and where its elements stand."""
    first = drawn.frames[0]
    return {
        "scale": first.scale, "bounds": first.extent.bounds,
        "maps": [_in_mm(frame.box) for frame in drawn.frames],
        "elements": {name: _in_mm(box) for name, box in drawn.elements},
        "notes": list(drawn.notes),
    }  # fmt: skip


def _in_mm(box: Box) -> list[float]:
    return [round(side, 3) for side in (box.left, box.top, box.width, box.height)]
