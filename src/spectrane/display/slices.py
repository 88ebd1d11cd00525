"""Pictures of volumes: a slice, three planes through a point, a montage; maps laid over anatomy.

Limits are found once, from the whole volume, so that every slice of it is shown alike. Letters at
the edges say which side of the patient lies there.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, TypeAlias

import numpy as np

from spectrane.display.outlines import LayerBase
from spectrane.display.panels import (
    GAP,
    checkered,
    draw_cross,
    one_below_another,
    panels_in_a_row,
)
from spectrane.display.picture import Picture
from spectrane.display.plan import RenderPlan
from spectrane.display.slice_layers import (
    Ready,
    as_layers,
    check_meeting,
    filled_span,
    prepared,
)
from spectrane.display.slice_page import SlicePage, drawn_slice
from spectrane.kernels.quiet import quiet
from spectrane.model.asking import SourceLike
from spectrane.model.errors import LookError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.patient import aligned_axes, reach
from spectrane.model.source import Source
from spectrane.spatial.oblique import Oblique, oblique_asked
from spectrane.spatial.slicing import (
    PLANES,
    SIDES,
    SLICE_MODES,
    AnyPlane,
    PlaneName,
    Projection,
    Side,
    SliceAxes,
    SliceMode,
    SlicePlane,
    cut,
)

VolumeShown: TypeAlias = "SourceLike | LayerBase | tuple[SourceLike, Look | None]"
VolumesShown: TypeAlias = "VolumeShown | Sequence[VolumeShown]"


@quiet
def slice_picture(
    layers: VolumesShown, plane: AnyPlane = "axial", *, at: float | None = None,
    index: int | None = None, side: Side = "radiological", slab: float = 0.0,
    project: Projection = "maximum", size: Sequence[int] | None = None, labels: bool = True,
    axes: SliceAxes = "patient", oblique: Oblique | None = None,
) -> Picture:  # fmt: skip
    """Return one slice through volumes at the same millimetres, the first the lowest.

    ``size`` (rows, columns) bounds it; millimetres are square. ``labels`` are the letters of the
    patient's sides and the colour bars. ``axes`` ``own`` cuts along the first volume's own axes,
    ``at`` in mm along them; ``patient`` on the anatomical planes. ``layers`` are one or several
    volumes, (volume, look) pairs, ``Layer`` or ``VolumeLayer``, the lowest first. ``at`` is in mm,
    ``index`` a stored plane; neither: the middle. ``slab`` mm are projected. The plane ``oblique``
    is any: ``oblique=sp.Oblique(center, normal)``, with letters as far as they are true. Raises
    GridMismatch for a slice outside, and for a raster.

    >>> import numpy as np, spectrane as sp
    >>> ball = np.hypot.outer(np.hypot.outer(*[np.linspace(-1, 1, 9)] * 2), np.linspace(-1, 1, 9))
    >>> volume = sp.volume_from_array(1 - ball, affine=np.eye(4))
    >>> sp.slice_picture(volume, "coronal", at=4, size=(90, 90), labels=False).rgba.shape
    (90, 90, 4)
    """
    ready = prepared(layers, axes)
    where = {"at": at, "index": index, "side": side, "slab": slab, "project": project}
    where = {name: value for name, value in where.items() if value is not None}
    if oblique_asked(plane, oblique, at=at, index=index, axes=axes):
        assert oblique is not None
        page = SlicePage.of(_along(ready, oblique), size or (800, 1280), labels)
        lying = oblique.plane(side)
        sided = {**where, "at": oblique.at, "side": _side_of(lying)}
        return _single(page, "axial", sided, lying=lying, named=str(oblique))
    return _single(SlicePage.of(ready, size or (800, 1280), labels), plane, where)


def _along(ready: Sequence[Ready], oblique: Oblique) -> list[Ready]:
    """Return volumes turned so that an oblique plane is an axial one of theirs."""
    return [one.turned(one.turn.T @ oblique.turn) for one in ready]


def _side_of(lying: SlicePlane) -> Side:
    return SIDES[0] if lying.columns[1] < 0 else SIDES[1]


def _single(
    page: SlicePage, plane: str, where: dict[str, Any], more: str = "",
    lying: SlicePlane | None = None, named: str | None = None,
) -> Picture:  # fmt: skip
    """Return one slice as a picture, with its letters and bars."""
    drawn = page.saw(drawn_slice(page.ready, plane, _scale(page.ready, plane, page.size), where))
    caption = _caption(plane, drawn.cut, named) + more
    lies = lying or SlicePlane.of(plane, where.get("side", SIDES[0]))
    page.write(drawn.rgba, lies, caption, of=None)
    return page.picture(drawn.rgba, drawn.grid)


@quiet
def three_planes(
    layers: VolumesShown, point: Sequence[float] | None = None, *,
    side: Side = "radiological", size: Sequence[int] = (800, 1280), crosshair: bool = True,
    labels: bool = True, axes: SliceAxes = "patient",
) -> Picture:  # fmt: skip
    """Return axial, coronal and sagittal slices through one point: x, y, z in mm, or the middle.

    Of a volume of one slice it is that slice alone. ``crosshair`` marks the point; the other
    arguments are those of ``slice_picture``, ``size`` (rows, columns) that of all together.

    >>> import numpy as np, spectrane as sp
    >>> ball = np.hypot.outer(np.hypot.outer(*[np.linspace(-1, 1, 9)] * 2), np.linspace(-1, 1, 9))
    >>> volume = sp.volume_from_array(1 - ball, affine=np.eye(4))
    >>> sp.three_planes(volume, (4, 4, 4), size=(90, 300), labels=False).rgba.shape[0]
    90
    """
    page = SlicePage.of(prepared(layers, axes), size, labels)
    ready, room = page.ready, page.size
    low, high = reach(ready[0].source.grid)
    middle = (low + high) / 2 if point is None else np.asarray(point, float)
    if middle.shape != (3,):
        raise LookError(f"point {point!r}: expected x, y, z in mm")
    middle = middle if point is None else ready[0].turn.T @ middle
    names = whole_planes(ready[0].source)
    shown = [extent_of_plane(ready, name) for name in names]
    wide, tall = sum(one[0] for one in shown), max(one[1] for one in shown)
    scale = min((room[1] - 2 * GAP - len(names)) / wide, room[0] / tall)
    panels = []
    for name in names:
        where = {"at": float(middle[PLANES[name][0]]), "side": side}
        drawn = page.saw(drawn_slice(ready, name, scale, where))
        rgba, plane = drawn.rgba, SlicePlane.of(name, side)
        if crosshair:
            draw_cross(rgba, drawn.grid, middle[plane.columns[0]], middle[plane.rows[0]])
        page.write(rgba, plane, f"{name} {said_place(middle[plane.across])}",
                   of=None if name == names[0] else ())  # fmt: skip
        panels.append(rgba)
    return page.picture(panels_in_a_row(panels))


_SQUARE, _SQUARES = 16, 8
"""Pixels of a square at least, and squares along the shorter side."""


@quiet
def compare_slices(
    columns: Sequence[VolumesShown], plane: AnyPlane = "axial", *, at: float | None = None,
    side: Side = "radiological", size: Sequence[int] = (800, 1280), labels: bool = True,
    axes: SliceAxes = "patient", oblique: Oblique | None = None, mode: SliceMode = "panels",
) -> Picture:  # fmt: skip
    """Return slices side by side at the same millimetres, over what the first shows.

    Each column is a list of layers, the first the lowest; ``at`` is the first's middle if unsaid.
    ``mode`` ``checker`` shows two in turn in alternating squares, so that edges that do not meet
    are seen. The other arguments are those of ``slice_picture``. Raises GridMismatch where a column
    does not meet the first, or does not reach to ``at``.

    >>> import numpy as np, spectrane as sp
    >>> ball = np.hypot.outer(np.hypot.outer(*[np.linspace(-1, 1, 9)] * 2), np.linspace(-1, 1, 9))
    >>> volume = sp.volume_from_array(1 - ball, affine=np.eye(4))
    >>> sp.compare_slices([volume, volume], at=4, size=(90, 300), labels=False).rgba.shape[0]
    90
    """
    listed = [as_layers(column) for column in columns]
    if mode not in SLICE_MODES:
        raise LookError(f"mode {mode!r}: expected {' or '.join(SLICE_MODES)}")
    if mode == "checker" and len(listed) != 2:
        raise LookError(f"mode checker: shows two in turn, not {len(listed)}")
    first = listed[0][0]
    ready = [prepared(layers, axes, first) for layers in listed]
    for column in ready[1:]:
        check_meeting(first, column[0].layer)
    lying = SlicePlane.of(plane, side) if plane != "oblique" else None
    if oblique_asked(plane, oblique, at=at, axes=axes):
        assert oblique is not None
        ready = [_along(column, oblique) for column in ready]
        lying, plane, at = oblique.plane(side), "axial", oblique.at
        side = _side_of(lying)
    assert lying is not None
    page = SlicePage.of([one for column in ready for one in column], size, labels)
    room = page.size
    low, high = reach(ready[0][0].source.grid)
    across = SlicePlane.of(plane).across
    where = {"at": float((low + high)[across] / 2) if at is None else at, "side": side}
    beside = len(ready) if mode == "panels" else 1
    scale = _scale(ready[0], plane, (room[0], (room[1] - GAP * (beside - 1)) // beside))
    grid: Grid | None = None
    named = None if oblique is None else str(oblique)
    panels = []
    for column in ready:
        drawn = page.saw(drawn_slice(column, plane, scale, where, grid))
        grid = drawn.grid
        caption = f"{column[0].layer.title}, {_caption(lying.name, drawn.cut, named)}"
        if mode == "panels":
            page.write(drawn.rgba, lying, caption, of=column)
        panels.append(drawn.rgba)
    if mode == "panels":
        return page.picture(panels_in_a_row(panels))
    first_panel, second = panels
    board = checkered(first_panel, second, max(_SQUARE, min(second.shape[:2]) // _SQUARES))
    page.write(board, lying, f"{first.title} and {caption}, in turn", of=[*ready[0], *ready[1]])
    return page.picture(board)


@quiet
def montage(
    layers: VolumesShown, plane: PlaneName = "axial", *, count: int = 12,
    span: Sequence[float] | None = None, side: Side = "radiological",
    size: Sequence[int] = (800, 1280), labels: bool = True, axes: SliceAxes = "patient",
) -> Picture:  # fmt: skip
    """Return ``count`` slices in rows, evenly over ``span`` (mm) or the part that is not empty.

    The other arguments are those of ``slice_picture``. Raises LookError for another count than 1 to
    400, GridMismatch for a span outside.

    >>> import numpy as np, spectrane as sp
    >>> ball = np.hypot.outer(np.hypot.outer(*[np.linspace(-1, 1, 9)] * 2), np.linspace(-1, 1, 9))
    >>> volume = sp.volume_from_array(1 - ball, affine=np.eye(4))
    >>> sp.montage(volume, count=4, span=(2, 6), size=(90, 90), labels=False).rgba.shape[2]
    4
    """
    page = SlicePage.of(prepared(layers, axes), size, labels)
    ready, room = page.ready, page.size
    places = slice_places(ready, plane, count, span)
    across, down = _grid_of(ready, plane, count, room)
    each = ((room[0] - (down - 1) * GAP) // down, (room[1] - (across - 1) * GAP) // across)
    scale = _scale(ready, plane, each)
    panels = []
    for place in places:
        rgba = page.saw(drawn_slice(ready, plane, scale, {"at": place, "side": side})).rgba
        page.write(rgba, SlicePlane.of(plane, side), said_place(place), edges=rgba.shape[1] > 120)
        panels.append(rgba)
    rows = [panels_in_a_row(panels[k : k + across]) for k in range(0, count, across)]
    return page.picture(one_below_another(rows))


def slice_sequence(
    layers: VolumesShown, plane: PlaneName = "axial", *, count: int = 40,
    span: Sequence[float] | None = None, side: Side = "radiological",
    size: Sequence[int] = (800, 1280), labels: bool = True, axes: SliceAxes = "patient",
) -> Iterator[Picture]:  # fmt: skip
    """Yield ``count`` slices of one size, evenly over ``span`` (mm) or what is not empty."""
    page = SlicePage.of(prepared(layers, axes), size, labels)
    for place in slice_places(page.ready, plane, count, span):
        yield _single(page, plane, {"at": place, "side": side})


def frame_sequence(
    layers: VolumesShown, plane: PlaneName = "axial", *, at: float | None = None,
    index: int | None = None, side: Side = "radiological", size: Sequence[int] = (800, 1280),
    labels: bool = True, axes: SliceAxes = "patient",
) -> Iterator[Picture]:  # fmt: skip
    """Yield one slice in every frame of the lowest volume, all under the same limits.

    Raises LookError where it has one frame only.
    """
    listed = as_layers(layers)
    first, count = listed[0], len(listed[0].source.bands)
    if count < 2 or first.source.bands[0].role == "red":
        raise LookError(f"{first.title} has one frame; a sequence of frames needs several")
    rest = prepared(listed, axes)[1:]
    each = [prepared([replace(first, frame=k)], axes)[0] for k in range(1, count + 1)]
    look = _shared_look([one.plan for one in each])
    where = {"at": at, "index": index, "side": side}
    where = {name: value for name, value in where.items() if value is not None}
    names = [band.name for band in first.source.bands]
    shown = [prepared([replace(first, frame=k, look=look)], axes)[0] for k in range(1, count + 1)]
    longest = max(range(count), key=lambda k: len(names[k]))
    page = SlicePage.of([shown[longest], *rest], size, labels)  # one size, settled once
    for name, one in zip(names, shown, strict=True):
        yield _single(replace(page, ready=[one, *rest], seen={}), plane, where, f", {name}")


def _shared_look(plans: Sequence[RenderPlan]) -> Look:
    """Return the look of frames under limits that hold all of theirs; a window stays as it is."""
    look, scales = plans[0].look, [plan.scales[0] for plan in plans if plan.scales]
    if not scales or plans[0].shadings[0].formula is not None or look.limits[0].cuts:
        return look
    low, high = min(scale.low for scale in scales), max(scale.high for scale in scales)
    return replace(look, limits=(low, high))


def slice_places(
    ready: Sequence[Ready], plane: str, count: int, span: Sequence[float] | None
) -> list[float]:
    """Return where ``count`` slices lie, in mm, from the head down (or the right, or the front)."""
    if not 1 <= count <= 400:
        raise LookError(f"{count} slices: expected 1 to 400")
    low, high = span or filled_span(ready[0], plane)
    if not low < high:
        raise LookError(f"slices from {low:g} to {high:g} mm: expected low < high")
    step = (high - low) / count
    return [high - (k + 0.5) * step for k in range(count)]


def _scale(ready: Sequence[Ready], plane: str, size: tuple[int, int]) -> float:
    """Return the pixels per millimetre at which slices fit into a size."""
    wide, tall = extent_of_plane(ready, plane)
    return min(size[1] / wide, size[0] / tall)


def whole_planes(source: Source) -> list[str]:
    """Return the planes of which slices of a volume are more than a line.

    >>> import numpy as np, spectrane as sp
    >>> whole_planes(sp.volume_from_array(np.ones((5, 5, 1)), affine=np.eye(4))._source)
    ['axial']
    """
    axes = aligned_axes(source.grid)
    thick = [source.shape[axes[axis]] > 1 for axis in range(3)]
    found = [name for name, (_, along, down) in PLANES.items() if thick[along] and thick[down]]
    return found or list(PLANES)


def extent_of_plane(ready: Sequence[Ready], plane: str) -> tuple[float, float]:
    """Return how wide and how tall slices of a plane are, whole pixels, in mm."""
    grid = cut(ready[0].source, plane).grid
    return grid.columns * grid.pixel_size[0], grid.rows * grid.pixel_size[1]


def _grid_of(
    ready: Sequence[Ready], plane: str, count: int, size: tuple[int, int]
) -> tuple[int, int]:
    """Return how many slices stand side by side and below one another, so that they are largest."""
    best, chosen = 0.0, (1, count)
    for across in range(1, count + 1):
        down = -(-count // across)
        scale = _scale(ready, plane, (size[0] // down, size[1] // across))
        if scale > best:
            best, chosen = scale, (across, down)
    return chosen


def said_place(place: float) -> str:
    """Say a place to a tenth of a millimetre, never as -0.0."""
    return f"{round(float(place), 1) + 0.0:.1f} mm"


def _caption(plane: str, said: dict[str, Any], named: str | None = None) -> str:
    place = said_place(said["at"]) if "at" in said else f"plane {said['index']}"
    slab = f", slab {said['slab']:g} mm" if said.get("slab") else ""
    return f"{named or f'{plane} {place}'}{slab}"
