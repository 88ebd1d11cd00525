"""What all figures share: paper, inks, and how they are saved."""

from __future__ import annotations

import os
from typing import Any

from matplotlib import rc_context
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.text import Text
from matplotlib.ticker import LogFormatter, ScalarFormatter

from spectrane.kernels.quiet import quiet
from spectrane.model.errors import FormatError
from spectrane.model.whole_files import written_whole

PAPER, INK, MUTED, GRID = "#f7f7f4", "#22282e", "#a7aeb4", "#dfe2e2"
CHANNELS = {"red": "#b8423a", "green": "#3d8a4f", "blue": "#3c66ad", "grey": "#4a5157",
            "alpha": "#8a8f94"}  # fmt: skip
DOTS = 100
_ENDINGS = (".png", ".pdf", ".svg")


def figure_of(columns: float, rows: float) -> Figure:
    """Return an empty figure of so many pixels, drawn by Agg: no window, no screen."""
    return blank(columns / DOTS, rows / DOTS)


def blank(width: float, height: float, paper: str = PAPER, dots: int = DOTS) -> Figure:
    """Return an empty figure of so many inches, drawn by Agg, in which no text is interpreted."""
    figure = _Plain(figsize=(width, height), dpi=dots, facecolor=paper)
    FigureCanvasAgg(figure)
    return figure


class _Plain(Figure):
    """A figure that draws texts as they are: a file's name with dollars in it is no formula."""

    def draw(self, renderer: Any) -> None:
        """Draw, after telling all texts but computed numbers along axes to be plain."""
        computed = {
            id(label) for axes in self.axes for axis in (axes.xaxis, axes.yaxis)
            if isinstance(axis.get_major_formatter(), ScalarFormatter | LogFormatter)
            for label in (*axis.get_ticklabels(), axis.get_offset_text())
        }  # fmt: skip
        for text in self.findobj(Text):
            if id(text) not in computed:
                text.set_parse_math(False)
        super().draw(renderer)


Box = tuple[float, float, float, float]
"""A place on a figure in pixels: left, top, width, height."""


def in_shares(figure: Figure, box: Box) -> Box:
    """Return a box of pixels as Matplotlib takes it: shares of the figure, from below.

    >>> in_shares(figure_of(200, 100), (20, 10, 100, 50))
    (0.1, 0.4, 0.5, 0.5)
    """
    wide, high = (float(side) * figure.dpi for side in figure.get_size_inches())
    left, top, width, height = box
    return left / wide, 1 - (top + height) / high, width / wide, height / high


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


@quiet
def save_figure(figure: Figure, path: str | os.PathLike[str], *, overwrite: bool = False) -> None:
    """Write a figure as PNG, PDF or SVG, whole or not at all.

    Raises FormatError for another ending, ExistingFile, AccessError.

    >>> import spectrane as sp, tempfile, os
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     sp.figures.save_figure(sp.figures.swatches(), os.path.join(folder, "maps.svg"))
    ...     os.listdir(folder)
    ['maps.svg']
    """
    name = os.fspath(path)
    ending = os.path.splitext(name)[1].lower()
    if ending not in _ENDINGS:
        raise FormatError(f"{name}: figures are written as {', '.join(_ENDINGS)}")
    letters: Any = {"svg.fonttype": "none", "pdf.fonttype": 42}  # and not curves
    with written_whole(path, overwrite=overwrite) as file, rc_context(letters):
        figure.savefig(file, format=ending[1:], facecolor=figure.get_facecolor())
