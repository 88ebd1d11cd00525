"""Where a live view of rasters stands: zooming, moving, going to a place, and back again."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from spectrane.model.errors import LookError
from spectrane.model.grid import Grid
from spectrane.model.systems import way_between
from spectrane.model.view import View
from spectrane.spatial.positions import read_position
from spectrane.viewing.history import History
from spectrane.viewing.state import NamedPlace, Place, ViewState

_LEAST, _MOST = 1 / 256, 4096.0
"""Picture pixels to the pixel of the lowest raster: how far one can zoom in, and out."""
_REMEMBERED = 100
_PIXEL = re.compile(
    r"r(?:ow)?\s*=?\s*(\d{1,9})[\s,;]+c(?:ol(?:umn)?)?\s*=?\s*(\d{1,9})$", re.IGNORECASE
)


class Moving(History[ViewState]):
    """The part of a session that is about the place. ``base`` is the lowest raster's grid."""

    told: str
    names: dict[str, NamedPlace]
    earlier: list[Place]
    later: list[Place]

    @property
    def base(self) -> Grid:
        """The grid that positions are on."""
        raise NotImplementedError

    def keep(self, state: ViewState, *, together: bool = False) -> None:
        """Take a state, and remember the place that it leaves."""
        if state.place != self.state.place and not together:
            self.earlier = [*self.earlier[-_REMEMBERED:], self.state.place]
            self.later = []
        super().keep(state, together=together)

    def moves(self) -> dict[str, Callable[..., ViewState]]:
        """Return the changes of place by name."""
        return {"zoom": self._zoom, "pan": self._pan, "whole": self._whole, "one": self._one_to_one,
                "goto": self._goto, "place": self._place}  # fmt: skip

    def go_back(self, *, forth: bool = False) -> None:
        """Show the place before this one, or with ``forth`` the one after it again."""
        stack, other = (self.later, self.earlier) if forth else (self.earlier, self.later)
        if not stack:
            raise LookError(f"there is no view {'after' if forth else 'before'} this one")
        center, pixel = stack.pop()
        other.append(self.state.place)
        super().keep(replace(self.state, center=center, pixel=pixel))

    def _zoom(
        self, factor: float, column: float | None = None, row: float | None = None
    ) -> ViewState:
        """Zoom in by a factor; what lies under a position of the picture stays there."""
        if not 0 < number_of("factor", factor) < 1e6:
            raise LookError(f"factor {factor!r}: expected more than 0")
        rows, columns = self.size
        x, y = self.at(columns / 2 if column is None else column, rows / 2 if row is None else row)
        pixel = self._bounded(self.state.pixel / factor)
        share = pixel / self.state.pixel
        center = self.state.center
        moved = (x + (center[0] - x) * share, y + (center[1] - y) * share)
        return replace(self.state, center=moved, pixel=pixel)

    def _bounded(self, pixel: float) -> float:
        own = min(self.base.pixel_size)
        return min(max(pixel, own * _LEAST), own * _MOST)

    def _pan(self, columns: float, rows: float) -> ViewState:
        """Move the picture by so many of its pixels to the right, and down."""
        x, y = self.state.center
        dx = number_of("columns", columns) * self.state.pixel
        dy = number_of("rows", rows) * self.state.pixel * self._up
        return replace(self.state, center=(x - dx, y + dy))

    def _whole(self) -> ViewState:
        center, pixel = whole_of(self.base, self.size)
        return replace(self.state, center=center, pixel=pixel)

    def _one_to_one(self) -> ViewState:
        return replace(self.state, pixel=min(self.base.pixel_size))

    def _place(self, x: float, y: float, pixel: float | None = None) -> ViewState:
        center = (number_of("x", x), number_of("y", y))
        side = self.state.pixel if pixel is None else self._bounded(number_of("pixel", pixel))
        return replace(self.state, center=center, pixel=side)

    def _goto(self, text: str) -> ViewState:
        """Go to a row and column, a named point of what is loaded, or a position as people write
        it: see ``spatial.positions``. No other file is read for it.
        """
        text = str(text).strip()
        known = self._pixel(text) or self._point(text)
        if known is not None:
            return replace(self.state, center=known)
        found = read_position(text, self.base)
        if found.crs is None or self.base.crs_text is None:
            x, y = found.x, found.y
        else:
            x, y = View(center=(found.x, found.y), pixel=1.0, size=(1, 1),
                        crs=found.crs).middle(self.base)  # fmt: skip
        self.told = found.said
        return replace(self.state, center=(float(x), float(y)))

    def _pixel(self, text: str) -> tuple[float, float] | None:
        """Return the middle of the pixel that a text such as "row 12, column 40" names."""
        found = _PIXEL.match(text)
        if found is None:
            return None
        self.told = f"row {int(found[1])}, column {int(found[2])}"
        x, y = self.base.center(row=int(found[1]), column=int(found[2]))
        return float(x), float(y)

    def _point(self, text: str) -> tuple[float, float] | None:
        """Return the point of a loaded file that a text names: NAME, or NAME in FILE."""
        for name, (x, y, file) in self.names.items():
            said = f"{name} in {file}"
            if text.casefold() in (name.casefold(), said.casefold()):
                self.told = said
                return x, y
        if " in " in text:  # which names a file, and no other file is read
            known = ", ".join(list(self.names)[:8]) or "none; begin with --points FILE"
            raise LookError(f"{text!r}: no point of that name is loaded (there are: {known})")
        return None

    def carried(self, state: ViewState, other: Grid) -> ViewState:
        """Return a state whose place, marks and outlines are on another raster's map."""
        base = self.base
        if base.crs_text is None or other.crs_text in (None, base.crs_text):
            return state
        way = way_between(base.crs_text, other.crs_text)

        def carry(at: tuple[float, float]) -> tuple[float, float]:
            x, y = way.transform(*at)
            return float(x), float(y)

        x, y = state.center
        (x0, y0), (x1, y1) = carry((x - state.pixel / 2, y)), carry((x + state.pixel / 2, y))
        pixel = float(((x1 - x0) ** 2 + (y1 - y0) ** 2) ** 0.5)
        return replace(
            state, center=carry(state.center), pixel=pixel,
            marks=tuple(map(carry, state.marks)),
            outlines=tuple(tuple(map(carry, ring)) for ring in state.outlines),
        )  # fmt: skip

    @property
    def _up(self) -> int:
        return 1 if self.base.y_up else -1

    def at(self, column: float, row: float) -> tuple[float, float]:
        """Return the map position under a position of the picture (from its upper left corner)."""
        rows, columns = self.size
        x, y = self.state.center
        return (x + (number_of("column", column) - columns / 2) * self.state.pixel,
                y - (number_of("row", row) - rows / 2) * self.state.pixel * self._up)  # fmt: skip


def whole_of(grid: Grid, size: tuple[int, int]) -> Place:
    """Return the middle and the pixel of a picture that shows all of a grid."""
    x_min, y_min, x_max, y_max = grid.bounds
    pixel = max((x_max - x_min) / size[1], (y_max - y_min) / size[0])
    return ((x_min + x_max) / 2, (y_min + y_max) / 2), pixel


def number_of(name: str, given: Any) -> float:
    """Return a number that was given. Raises LookError for what is none."""
    fine = isinstance(given, int | float) and not isinstance(given, bool)
    if not fine or not abs(given) < 1e15:
        raise LookError(f"{name} {given!r}: expected a number")
    return float(given)


def count_of(name: str, given: Any, total: int) -> int:
    """Return one of so many, counted from 0. Raises LookError for what is none."""
    if isinstance(given, bool) or not isinstance(given, int) or not 0 <= given < total:
        raise LookError(f"{name} {given!r}: there are {total}, counted from 0")
    return given
