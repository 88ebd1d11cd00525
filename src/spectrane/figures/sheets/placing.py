"""Where elements stand on a sheet: in a column beside the map or a band below it, in corners of the
map, or at places in mm; never over one another.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from spectrane.display.sheet_settings import SheetSettings, millimetres_of
from spectrane.figures.sheets.elements import SheetElement
from spectrane.figures.sheets.pen import Box, Pen
from spectrane.kernels.records import record
from spectrane.model.errors import LookError

GAP = 4.0
"""Millimetres between elements."""
_INSIDE, PADDING = 2.0, 1.6
_WIDEST = 62.0


@record(frozen=True)
class Placed:
    """An element and its place; ``ground`` is paper below it where it stands on a map."""

    element: SheetElement
    box: Box
    ground: bool = False

    @property
    def covered(self) -> Box:
        """The paper that it takes, with its rim."""
        rim = PADDING if self.ground else 0.0
        return Box(self.box.left - rim, self.box.top - rim, self.box.width + 2 * rim,
                   self.box.height + 2 * rim)  # fmt: skip


def in_column(pen: Pen, elements: Iterable[SheetElement], room: Box) -> list[Placed]:
    """Set elements below one another. Raises LookError where they do not fit."""
    placed, top = [], room.top
    for element in elements:
        wide, high = element.size(pen, room.width)
        placed.append(Placed(element, Box(room.left, top, wide, high)))
        top += high + GAP
    check_depth(placed, room)
    return placed


def in_band(pen: Pen, elements: Sequence[SheetElement], room: Box) -> list[Placed]:
    """Set elements into columns side by side, each below the shortest one so far."""
    if not elements:
        return []
    columns = max(1, min(3, round(room.width / _WIDEST), len(elements)))
    wide = (room.width - (columns - 1) * GAP * 1.5) / columns
    tops = [room.top] * columns
    placed = []
    for element in elements:
        column = min(range(columns), key=tops.__getitem__)
        own, high = element.size(pen, wide)
        left = room.left + column * (wide + GAP * 1.5)
        placed.append(Placed(element, Box(left, tops[column], own, high)))
        tops[column] += high + GAP
    return placed


def reach_down(placed: Sequence[Placed], top: float) -> float:
    """Return how far down elements reach from a height."""
    return max((one.box.bottom for one in placed), default=top) - top


def on_map(
    pen: Pen, elements: Sequence[SheetElement], settings: SheetSettings, frame: Box
) -> list[Placed]:  # fmt: skip
    """Set elements into corners of a map and at places in mm.

    Elements of one corner stand below one another. Raises LookError for one that does not fit.
    """
    placed: list[Placed] = []
    used: dict[str, float] = {}
    for element in elements:
        where = settings.where(element.name)
        at = millimetres_of(where)
        wide, high = element.size(pen, min(_WIDEST, frame.width - 2 * (_INSIDE + PADDING)))
        if at is not None:
            on_paper = used.get(where, 0.0)
            box = Box(at[0], at[1] + on_paper, wide, high)
            used[where] = on_paper + high + GAP
            placed.append(Placed(element, box, ground=frame.meets(box)))
            if not Box(0, 0, pen.wide, pen.high).holds(box):
                raise LookError(f"put {element.name}={where}: {box} reaches over the sheet, "
                                f"which is {pen.wide:g} x {pen.high:g} mm")  # fmt: skip
            continue
        rim = _INSIDE + PADDING
        taken = used.get(where, 0.0)
        left = frame.left + rim if where.endswith("left") else frame.right - rim - wide
        top = (frame.top + rim + taken if where.startswith("top")
               else frame.bottom - rim - taken - high)  # fmt: skip
        used[where] = taken + high + 2 * PADDING + 1.0
        one = Placed(element, Box(left, top, wide, high), ground=True)
        if not frame.holds(one.covered):
            raise LookError(f"put {element.name}={where}: it takes {wide:.0f} x {high:.0f} mm, and "
                            f"the map is {frame.width:.0f} x {frame.height:.0f} mm")  # fmt: skip
        placed.append(one)
    return placed


def check_apart(placed: Sequence[Placed], others: Sequence[tuple[str, Box]]) -> None:
    """Raise LookError where elements lie over one another, or over other parts of the sheet."""
    for number, one in enumerate(placed):
        rest = [(two.element.name, two.covered) for two in placed[number + 1 :]]
        for name, box in (*rest, *others):
            if one.covered.meets(box):
                raise LookError(
                    f"put {one.element.name}: {one.covered} lies over {name}, {box}; put one of "
                    "them elsewhere"
                )


def check_depth(placed: Sequence[Placed], room: Box) -> None:
    """Raise LookError where elements reach deeper than a room."""
    need = reach_down(placed, room.top)
    if need > room.height + 1e-6:
        names = ", ".join(dict.fromkeys(one.element.name for one in placed))
        raise LookError(
            f"{names}: need {need:.0f} mm below one another, and the sheet has {room.height:.0f}; "
            "take larger paper, fewer words, or put some elsewhere or to none"
        )
