"""What survives at each threshold of a map, and where the chosen one stands."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from matplotlib.figure import Figure, FigureBase
from matplotlib.ticker import MaxNLocator

from spectrane.figures.paper import CHANNELS, INK, chart_page, finished_chart, styled
from spectrane.kernels.quiet import quiet

if TYPE_CHECKING:
    import pandas
    from matplotlib.axes import Axes


@quiet
def survivors(
    table: pandas.DataFrame, *, size: Sequence[int] = (800, 1280),
    figure: FigureBase | None = None, ax: Axes | None = None,
) -> Figure:  # fmt: skip
    """Return a figure of ``spectrane.survivors``'s table: voxels and groups against the threshold.

    The chosen threshold is marked, with what survives there. ``size`` is (rows, columns) in pixels.
    It is drawn on a caller's ``figure`` or part of one, or in the place of axes ``ax``.

    >>> import numpy as np, spectrane as sp
    >>> held = sp.volume_from_array(np.arange(27.0).reshape(3, 3, 3), affine=np.eye(4))
    >>> table = sp.survivors(sp.VolumeLayer(held, threshold="band(1) >= 5"))
    >>> len(sp.figures.survivors(table).axes)
    2
    """
    page = chart_page(size, figure, ax)
    places = ((0.08, 0.53, 0.88, 0.37), (0.08, 0.09, 0.88, 0.37))
    levels = table["threshold"].to_numpy(float)
    by_ratio = levels.min() > 0 and levels.max() / levels.min() > 1000
    for place, name, ink in zip(places, ("voxels", "groups"), ("blue", "red"), strict=True):
        axes = styled(page.add_axes(place))
        counts = table[name].to_numpy(float)
        axes.plot(levels, counts, color=CHANNELS[ink], marker="o", markersize=3.5, linewidth=1.6)
        if name == "voxels" and counts.max() > 100:
            axes.set_yscale("symlog", linthresh=1)
        axes.set_ylim(bottom=0)
        if axes.get_yscale() == "linear":
            axes.yaxis.set_major_locator(MaxNLocator(integer=True))
        if by_ratio:
            axes.set_xscale("log")
        axes.set_ylabel(name, color=INK)
        for _, row in table[table["chosen"]].iterrows():
            axes.axvline(row["threshold"], color=INK, linestyle="--", linewidth=1.2)
            right = row["threshold"] > levels[len(levels) // 2]
            axes.annotate(f"{row['threshold']:.4g}: {row[name]:.0f} {name}",
                          (row["threshold"], 0.97), xycoords=("data", "axes fraction"),
                          xytext=(-6 if right else 6, 0), textcoords="offset points", va="top",
                          ha="right" if right else "left", color=INK, fontsize=11)  # fmt: skip
    axes.set_xlabel(f"threshold of {table.attrs.get('measure', 'the map')}", color=INK)
    called = table.attrs.get("map")
    page.text(0.08, 0.935, "What survives at each threshold" + (f": {called}" if called else ""),
              color=INK, fontsize=13)  # fmt: skip
    return finished_chart(page)
