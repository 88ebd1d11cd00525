"""Spectrane: multiband and volumetric rasters become pictures a person can trust.

Names are loaded when first used, so that importing costs next to nothing.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from spectrane.model import version

if TYPE_CHECKING:
    from spectrane.analysis.description import Description
    from spectrane.analysis.histogram import Histogram
    from spectrane.analysis.spectra import Spectra
    from spectrane.display.colormaps import Colormap, colormaps
    from spectrane.display.picture import Picture
    from spectrane.model.band import Band
    from spectrane.model.errors import (
        AccessError,
        BandError,
        ChangedFile,
        DataWarning,
        ExistingFile,
        FormatError,
        GridMismatch,
        LookError,
        MetadataError,
        MissingFile,
        ResourceError,
        SpectraneError,
    )
    from spectrane.model.grid import Grid
    from spectrane.model.look import Look
    from spectrane.model.view import View
    from spectrane.raster import (
        Raster,
        amend,
        from_array,
        members,
        open,
        probe,
        profile,
        render,
        survey,
    )

__version__ = version.VERSION

_HOMES = {
    "spectrane.analysis.description": ["Description"],
    "spectrane.analysis.histogram": ["Histogram"],
    "spectrane.display.picture": ["Picture"],
    "spectrane.model.band": ["Band"],
    "spectrane.model.errors": [
        "AccessError", "BandError", "ChangedFile", "DataWarning", "ExistingFile", "FormatError",
        "GridMismatch", "LookError", "MetadataError", "MissingFile", "ResourceError",
        "SpectraneError",
    ],
    "spectrane.model.grid": ["Grid"],
    "spectrane.model.look": ["Look"],
    "spectrane.model.view": ["View"],
    "spectrane.analysis.spectra": ["Spectra"],
    "spectrane.display.colormaps": ["Colormap", "colormaps"],
    "spectrane.raster": ["Raster", "amend", "from_array", "members", "open", "probe", "profile",
                         "render", "survey"],
}  # fmt: skip
_HOME_OF = {name: module for module, names in _HOMES.items() for name in names}

__all__ = [
    "AccessError",
    "Band",
    "BandError",
    "ChangedFile",
    "Colormap",
    "DataWarning",
    "Description",
    "ExistingFile",
    "FormatError",
    "Grid",
    "GridMismatch",
    "Histogram",
    "Look",
    "LookError",
    "MetadataError",
    "MissingFile",
    "Picture",
    "Raster",
    "ResourceError",
    "Spectra",
    "SpectraneError",
    "View",
    "amend",
    "colormaps",
    "from_array",
    "members",
    "open",
    "probe",
    "profile",
    "render",
    "survey",
]


def __getattr__(name: str) -> Any:
    if name == "figures":  # a package of its own, which brings Matplotlib with it
        return importlib.import_module("spectrane.figures")
    if name not in _HOME_OF:
        raise AttributeError(f"module 'spectrane' has no attribute {name!r}")
    found = getattr(importlib.import_module(_HOME_OF[name]), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
