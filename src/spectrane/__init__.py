"""Spectrane: multiband and volumetric rasters become pictures a person can trust.

Names are loaded when first used, so that importing costs next to nothing.
"""

from __future__ import annotations

from spectrane.model import version

TYPE_CHECKING = False  # typing itself takes longer to load than all that is loaded here
if TYPE_CHECKING:
    from typing import Any

    from spectrane.analysis.description import Description
    from spectrane.analysis.histogram import Histogram
    from spectrane.analysis.spectra import Spectra
    from spectrane.analysis.thresholds import Threshold
    from spectrane.display.layers import Layer
    from spectrane.display.outlines import Outline
    from spectrane.display.picture import Picture
    from spectrane.display.slices import beside, montage, slice_picture, three_planes
    from spectrane.display.volume_layers import VolumeLayer
    from spectrane.masking import Mask, mask
    from spectrane.model.band import Band
    from spectrane.model.colormaps import Colormap, colormaps
    from spectrane.model.errors import (
        AccessError,
        ArgumentError,
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
    from spectrane.opening import clusters, open, probe, profile
    from spectrane.raster import (
        Raster,
        amend,
        from_array,
        members,
        render,
        survey,
    )
    from spectrane.spatial.shapes import Shapes, read_shapes
    from spectrane.together import (
        align,
        join_bands,
        load_layers,
        mosaic,
        moved,
        overlaps,
        overlay,
        place,
        placement,
        residuals,
        stack,
    )
    from spectrane.volume import Frame, Volume, volume_from_array

__version__ = version.VERSION

_HOMES = {
    "spectrane.analysis.description": ["Description"],
    "spectrane.analysis.histogram": ["Histogram"],
    "spectrane.display.layers": ["Layer"],
    "spectrane.display.outlines": ["Outline"],
    "spectrane.display.picture": ["Picture"],
    "spectrane.display.slices": ["beside", "montage", "slice_picture", "three_planes"],
    "spectrane.display.volume_layers": ["VolumeLayer"],
    "spectrane.analysis.thresholds": ["Threshold"],
    "spectrane.masking": ["Mask", "mask"],
    "spectrane.model.band": ["Band"],
    "spectrane.model.errors": [
        "AccessError", "ArgumentError", "BandError", "ChangedFile", "DataWarning", "ExistingFile",
        "FormatError", "GridMismatch", "LookError", "MetadataError", "MissingFile", "ResourceError",
        "SpectraneError",
    ],
    "spectrane.model.grid": ["Grid"],
    "spectrane.model.look": ["Look"],
    "spectrane.model.view": ["View"],
    "spectrane.analysis.spectra": ["Spectra"],
    "spectrane.model.colormaps": ["Colormap", "colormaps"],
    "spectrane.spatial.shapes": ["Shapes", "read_shapes"],
    "spectrane.opening": ["clusters", "open", "probe", "profile"],
    "spectrane.raster": ["Raster", "amend", "from_array", "members", "render",
                         "survey"],
    "spectrane.volume": ["Frame", "Volume", "volume_from_array"],
    "spectrane.together": ["align", "join_bands", "load_layers", "mosaic", "moved", "overlaps",
                           "overlay", "place", "placement", "residuals", "stack"],
}  # fmt: skip
_HOME_OF = {name: module for module, names in _HOMES.items() for name in names}

__all__ = [
    "AccessError",
    "ArgumentError",
    "Band",
    "BandError",
    "ChangedFile",
    "Colormap",
    "DataWarning",
    "Description",
    "ExistingFile",
    "FormatError",
    "Frame",
    "Grid",
    "GridMismatch",
    "Histogram",
    "Layer",
    "Look",
    "LookError",
    "Mask",
    "MetadataError",
    "MissingFile",
    "Outline",
    "Picture",
    "Raster",
    "ResourceError",
    "Shapes",
    "Spectra",
    "SpectraneError",
    "Threshold",
    "View",
    "Volume",
    "VolumeLayer",
    "align",
    "amend",
    "beside",
    "clusters",
    "colormaps",
    "from_array",
    "join_bands",
    "load_layers",
    "mask",
    "members",
    "montage",
    "mosaic",
    "moved",
    "open",
    "overlaps",
    "overlay",
    "place",
    "placement",
    "probe",
    "profile",
    "read_shapes",
    "render",
    "residuals",
    "slice_picture",
    "stack",
    "survey",
    "three_planes",
    "volume_from_array",
]


def __getattr__(name: str) -> Any:
    import importlib

    if name in ("figures", "pages"):  # packages of their own, which bring more with them
        return importlib.import_module(f"spectrane.{name}")
    if name not in _HOME_OF:
        raise AttributeError(f"module 'spectrane' has no attribute {name!r}")
    found = getattr(importlib.import_module(_HOME_OF[name]), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
