"""Spectral profiles: value against wavelength for points and zones."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.figure import Figure

from spectrane.figures.paper import INK, sheet, styled
from spectrane.kernels.quiet import quiet
from spectrane.model.colormaps import colormaps

if TYPE_CHECKING:
    import pandas


@quiet
def profile(table: pandas.DataFrame, *, size: Sequence[int] = (800, 1280)) -> Figure:
    """Return a figure of ``spectrane.profile``'s table: a line per zone, with its mean ± σ.

    Against wavelength where every band has one, against band number otherwise; of a volume,
    against its frames, or their times where all have one. Bands without a valid number leave a gap.
    ``size`` is (rows, columns) in pixels.

    >>> import numpy as np, spectrane as sp
    >>> table = sp.profile(sp.from_array(np.ones((2, 3, 3))), {"row": 1, "column": 1})
    >>> len(sp.figures.profile(table).axes)
    1
    """
    what = "frame" if "frame" in table else "band"
    figure = sheet(size[1], size[0])
    axes = styled(figure.add_axes((0.08, 0.1, 0.88, 0.8)))
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
    figure.text(0.08, 0.935, "Profiles: mean, and ± σ of zones", color=INK, fontsize=13)
    return figure
