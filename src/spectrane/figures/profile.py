"""Spectral profiles: value against wavelength for points and zones."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure, FigureBase

from spectrane.figures.paper import INK, page_axes, titled_axes
from spectrane.kernels.quiet import quiet
from spectrane.model.colormaps import colormaps

if TYPE_CHECKING:
    import pandas
    from matplotlib.axes import Axes


@quiet
def profile(
    table: pandas.DataFrame, *, size: Sequence[int] = (800, 1280),
    figure: FigureBase | None = None, ax: Axes | None = None,
) -> Figure:  # fmt: skip
    """Return a figure of ``spectrane.profile``'s table: a line per zone, with its mean ± σ.

    Against wavelength where every band has one, against band number otherwise; of a volume,
    against its frames, or their times where all have one; of ``over_time``'s table against the
    date, a line per zone and band. Bands without a valid number leave a gap.
    ``size`` is (rows, columns) in pixels; ``figure`` a caller's, or part of one; ``ax`` a caller's
    axes.

    >>> import numpy as np, spectrane as sp
    >>> table = sp.profile(sp.from_array(np.ones((2, 3, 3))), {"row": 1, "column": 1})
    >>> len(sp.figures.profile(table).axes)
    1
    """
    if "band" in table and "time" in table:
        return _over_time(table, page_axes(size, figure, ax))
    what = "frame" if "frame" in table else "band"
    axes = page_axes(size, figure, ax)
    inks = [f"#{bytes(entry[:3]).hex()}" for entry in colormaps["pebbles"].entries]
    along, named = ("wavelength", "wavelength (nm)") if what == "band" else ("time", "time (s)")
    if what == "band" and "nominal" in table and bool(table["nominal"].any()):
        named = "wavelength (nm; nominal where only the role is known)"
    known = bool(len(table)) and bool(table[along].astype(float).notna().all())
    for number, (name, zone) in enumerate(table.groupby("zone", sort=False)):
        x = zone[along].to_numpy(float) if known else np.arange(1, len(zone) + 1)
        order = np.argsort(x, kind="stable")
        mean, std = (zone[key].to_numpy(float)[order] for key in ("mean", "std"))
        ink = inks[number % len(inks)]
        axes.plot(x[order], mean, color=ink, marker="o", markersize=4, linewidth=1.8, label=name)
        if np.nanmax(std, initial=0) > 0:
            axes.fill_between(x[order], mean - std, mean + std, color=ink, alpha=0.16, linewidth=0)
    if not known and len(table):
        first = table.groupby("zone", sort=False).get_group(table["zone"].iloc[0])
        every = slice(None, None, -(-len(first) // 14))  # so that names do not run together
        axes.set_xticks(np.arange(1, len(first) + 1)[every], first[what].tolist()[every])
    axes.set_xlabel(named if known else what, color=INK)
    units = [unit for unit in dict.fromkeys(table["unit"]) if isinstance(unit, str) and unit != "1"]
    axes.set_ylabel("value" + (f" ({', '.join(units)})" if units else ""), color=INK)
    axes.legend(frameon=False, fontsize=10, labelcolor=INK)
    return titled_axes(axes, _title(table, what, known))


def _title(table: pandas.DataFrame, what: str, known: bool) -> str:
    """Say what a figure shows: courses or profiles, of how many points or zones."""
    if what == "band":
        return "Profiles: mean, and ± σ of zones"
    zones = table["zone"].nunique()
    points = bool(len(table)) and table["count"].max() <= 1
    shown = "Time course" if known else "Values by frame"
    kind = "point" if points else "region"
    many = f"{zones} {kind}s" if zones > 1 else f"{kind} {table['zone'].iloc[0]}".replace(
        "region region", "a region")  # fmt: skip
    return f"{shown} of {many}" + ("" if points else ": mean, and ± σ")


def _over_time(table: pandas.DataFrame, axes: Axes) -> Figure:
    inks = [f"#{bytes(entry[:3]).hex()}" for entry in colormaps["pebbles"].entries]
    bands = table["band"].nunique()
    lines = table.groupby(["zone", "band"], sort=False)
    for number, ((zone, band), rows) in enumerate(lines):
        label = f"{zone}, {band}" if bands > 1 else str(zone)
        mean, std = (rows[key].to_numpy(float) for key in ("mean", "std"))
        ink = inks[number % len(inks)]
        axes.plot(rows["time"], mean, color=ink, marker="o", markersize=4, linewidth=1.8,
                  label=label)  # fmt: skip
        if np.nanmax(std, initial=0) > 0:
            axes.fill_between(rows["time"], mean - std, mean + std, color=ink, alpha=0.16,
                              linewidth=0)  # fmt: skip
    axes.xaxis.set_tick_params(rotation=0)
    units = [unit for unit in dict.fromkeys(table["unit"]) if isinstance(unit, str) and unit != "1"]
    axes.set_ylabel("value" + (f" ({', '.join(units)})" if units else ""), color=INK)
    axes.legend(frameon=False, fontsize=10, labelcolor=INK)
    return titled_axes(axes, "Over time: mean, and ± σ of zones")


def line_profile(
    table: pandas.DataFrame, *, size: Sequence[int] = (800, 1280),
    figure: FigureBase | None = None, ax: Axes | None = None,
) -> Figure:  # fmt: skip
    """Return a figure of ``spectrane.along``'s table: values against distance, a line per band.

    ``size``, ``figure`` and ``ax`` are those of ``profile``.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.eye(9))
    >>> len(sp.figures.line_profile(sp.along(raster, (0.5, 0.5), (8.5, 8.5))).axes)
    1
    """
    axes = page_axes(size, figure, ax)
    inks = [f"#{bytes(entry[:3]).hex()}" for entry in colormaps["pebbles"].entries]
    for number, (name, rows) in enumerate(table.groupby("band", sort=False)):
        axes.plot(rows["distance"], rows["value"].to_numpy(float), color=inks[number % len(inks)],
                  linewidth=1.6, label=name)  # fmt: skip
    axes.set_xlabel(f"distance ({table.attrs.get('unit', 'map unit')})", color=INK)
    units = [unit for unit in dict.fromkeys(table["unit"]) if isinstance(unit, str) and unit != "1"]
    axes.set_ylabel("value" + (f" ({', '.join(units)})" if units else ""), color=INK)
    axes.legend(frameon=False, fontsize=10, labelcolor=INK)
    return titled_axes(axes, "Values along the line")
