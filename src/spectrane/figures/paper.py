"""What all figures share: paper, inks, and how they are saved."""

from __future__ import annotations

import io
import os
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from matplotlib import rc_context
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure, FigureBase, SubFigure
from matplotlib.gridspec import GridSpec
from matplotlib.text import Text
from matplotlib.ticker import LogFormatter, ScalarFormatter

from spectrane.kernels.quiet import quiet
from spectrane.model.errors import FormatError, LookError
from spectrane.model.targets import Target, local_place
from spectrane.model.whole_files import written_whole

if TYPE_CHECKING:
    from matplotlib.axes import Axes

PAPER, INK, MUTED, GRID = "#f7f7f4", "#22282e", "#a7aeb4", "#dfe2e2"
CHANNELS = {"red": "#b8423a", "green": "#3d8a4f", "blue": "#3c66ad", "grey": "#4a5157",
            "alpha": "#8a8f94"}  # fmt: skip
DOTS = 100
_ENDINGS = (".png", ".pdf", ".svg")


Box = tuple[float, float, float, float]
"""A place on a figure in pixels: left, top, width, height."""


def figure_of(columns: float, rows: float) -> Figure:
    """Return an empty figure of so many pixels, drawn by Agg: no window, no screen."""
    return blank(columns / DOTS, rows / DOTS)


def blank(width: float, height: float, paper: str = PAPER, dots: int = DOTS) -> Figure:
    """Return an empty figure of so many inches, drawn by Agg, in which no text is interpreted."""
    figure = _Plain(figsize=(width, height), dpi=dots, facecolor=paper)
    FigureCanvasAgg(figure)
    return figure


def chart_page(
    size: Sequence[int], figure: FigureBase | None = None, ax: Axes | None = None
) -> FigureBase:  # fmt: skip
    """Return what a chart is drawn on: a new figure of (rows, columns) pixels, a caller's figure or
    part of one, or the place of a caller's axes, which stay, empty but for a title of theirs.

    Raises LookError for both a figure and axes.
    """
    if figure is not None and ax is not None:
        raise LookError("give figure= or ax=, not both")
    if ax is None:
        return figure_of(size[1], size[0]) if figure is None else figure
    around: Any = ax.figure
    ax.set_axis_off()
    part = _InPlace(around, GridSpec(1, 1, figure=around)[0], ax)
    around.artists.append(part)  # and no part that layouts know: it follows the axes
    return part


class _InPlace(SubFigure):
    """Part of a figure that lies where axes lie, wherever a layout or a caller moves them."""

    def __init__(self, around: Any, cell: Any, axes: Axes) -> None:
        super().__init__(around, cell, facecolor="none")
        self._axes = axes
        self._follow()

    def _follow(self) -> None:
        place = self._axes.get_position()
        relative: Any = self.bbox_relative
        relative.p0, relative.p1 = place.p0, place.p1

    def draw(self, renderer: Any) -> None:
        """Draw, where the axes are by now."""
        self._follow()
        super().draw(renderer)


def finished_chart(page: FigureBase) -> Figure:
    """Return the figure that a page is, or is part of, with its texts told to be plain."""
    if not isinstance(page, _Plain):
        _tell_plain(page)
    root: Any = page.get_figure(root=True)
    found: Figure = root
    return found


def sides(page: FigureBase) -> tuple[float, float]:
    """Return width and height in pixels.

    >>> sides(figure_of(200, 100))
    (200.0, 100.0)
    """
    box = page.get_window_extent()
    return float(box.width), float(box.height)


def in_shares(page: FigureBase, box: Box) -> Box:
    """Return a box of pixels as Matplotlib takes it: shares of the figure, from below.

    >>> in_shares(figure_of(200, 100), (20, 10, 100, 50))
    (0.1, 0.4, 0.5, 0.5)
    """
    wide, high = sides(page)
    left, top, width, height = box
    return left / wide, 1 - (top + height) / high, width / wide, height / high


def _tell_plain(page: FigureBase) -> None:
    """Tell all texts but computed numbers along axes that nothing in them is a formula."""
    every: Any = page
    computed = {
        id(label) for axes in every.axes for axis in (axes.xaxis, axes.yaxis)
        if isinstance(axis.get_major_formatter(), ScalarFormatter | LogFormatter)
        for label in (axis.get_offset_text(), *(
            label for tick in (*axis.get_major_ticks(), *axis.get_minor_ticks())
            for label in (tick.label1, tick.label2)))
    }  # fmt: skip
    for text in every.findobj(Text):
        if id(text) not in computed:
            text.set_parse_math(False)


def on_paper(figure: Figure, width: float, height: float, paper: str, dots: int) -> Figure:
    """Return a caller's figure as paper of so many inches. Raises LookError for part of one."""
    if not isinstance(figure, Figure):
        raise LookError("a sheet is paper of its own size: give a whole figure, and no part of one")
    figure.set_dpi(dots)
    figure.set_size_inches(width, height)
    figure.set_facecolor(paper)
    return figure


class _Plain(Figure):
    """A figure that draws texts as they are: a file's name with dollars in it is no formula."""

    def draw(self, renderer: Any) -> None:
        """Draw, after telling all texts but computed numbers along axes to be plain."""
        _tell_plain(self)
        super().draw(renderer)

    def _repr_png_(self) -> bytes:
        """Show itself in a notebook, whatever that does with figures."""
        held = io.BytesIO()
        self.savefig(held, format="png", facecolor=self.get_facecolor())
        return held.getvalue()


def styled(axes: Any, *, grid: str | None = "y") -> Any:
    """Give axes the paper's look."""
    axes.set_facecolor(PAPER)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        axes.spines[side].set_color(MUTED)
    axes.tick_params(colors=INK, labelsize=9)
    if grid:
        axes.grid(axis=grid, color=GRID, linewidth=0.8)
        axes.set_axisbelow(True)
    return axes


def page_axes(
    size: Sequence[int], figure: FigureBase | None = None, ax: Axes | None = None
) -> Axes:  # fmt: skip
    """Return the axes of a chart that has one: a caller's own, or new ones on a page."""
    if ax is not None and figure is None:
        made: Axes = styled(ax)
        return made
    new: Axes = styled(chart_page(size, figure, ax).add_axes((0.08, 0.1, 0.88, 0.8)))
    return new


def titled_axes(axes: Axes, title: str) -> Figure:
    """Give a chart of one pair of axes its title, and return the finished figure."""
    axes.set_title(title, loc="left", color=INK, fontsize=13)
    page: Any = axes.figure
    return finished_chart(page)


@quiet
def save_figure(
    figure: Figure, path: Target, *, overwrite: bool = False, ending: str | None = None,
    storage_options: Mapping[str, Any] | None = None,
) -> None:  # fmt: skip
    """Write a figure as PNG, PDF or SVG, whole or not at all.

    ``path`` may be an fsspec URL, with ``storage_options``, or an open binary file, whose format
    ``ending`` says.
    Raises FormatError for another ending, ExistingFile, AccessError.

    >>> import spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     sp.figures.save_figure(sp.figures.swatches(), os.path.join(folder, "maps.svg"))
    ...     os.listdir(folder)
    ['maps.svg']
    """
    letters: Any = {"svg.fonttype": "none", "pdf.fonttype": 42}  # and not curves
    with local_place(path, ending=ending, overwrite=overwrite,
                     storage_options=storage_options) as place:  # fmt: skip
        kind = os.path.splitext(place)[1].lower()
        if kind not in _ENDINGS:
            raise FormatError(f"{place}: figures are written as {', '.join(_ENDINGS)}")
        with written_whole(place, overwrite=overwrite) as file, rc_context(letters):
            figure.savefig(file, format=kind[1:], facecolor=figure.get_facecolor())
