"""Charts by Matplotlib: histograms, comparisons, profiles, colour bars; drawn without a screen."""

from __future__ import annotations

from spectrane.figures.colorbar import colorbar, swatches
from spectrane.figures.compare import compare
from spectrane.figures.footprints import footprints
from spectrane.figures.histogram import histogram
from spectrane.figures.paper import save_figure
from spectrane.figures.profile import line_profile, profile
from spectrane.figures.sheets.sheet import sheet
from spectrane.figures.sheets.slices import slice_sheet
from spectrane.figures.suggestions import suggestions
from spectrane.figures.survivors import survivors

__all__ = [
    "colorbar",
    "compare",
    "footprints",
    "histogram",
    "line_profile",
    "profile",
    "save_figure",
    "sheet",
    "slice_sheet",
    "suggestions",
    "survivors",
    "swatches",
]
