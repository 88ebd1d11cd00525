"""Seeing: a live view of rasters or volumes, in a browser on this machine."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from spectrane.kernels.quiet import quiet
from spectrane.looking import is_deep
from spectrane.model.addresses import FilePath

if TYPE_CHECKING:
    from spectrane.analysis.spectra import Spectra
    from spectrane.display.slices import VolumesShown
    from spectrane.looking import Shown
    from spectrane.viewing.opening import OpenedView, OpenedVolumes


@quiet
def view(
    layers: Shown | VolumesShown | Sequence[Shown], *, port: int = 0,
    save_to: FilePath | None = None, library: Spectra | None = None,
    points: Sequence[FilePath] = (),
) -> OpenedView | OpenedVolumes:  # fmt: skip
    """Open a live view of a raster, of layers, the lowest first, or of volumes, and return it.

    It is served at ``view.url`` on this machine alone, at a free ``port`` unless one is said, until
    ``view.close()``; in a notebook it shows itself. ``view.look``, ``view.layers``, ``view.area``
    (of volumes ``view.point``) are what is seen just now: what is found there goes on in code.
    ``save_to`` is a folder that it may write into; ``library`` are spectra that marks are compared
    with, ``points`` files of named points to go to. Needs ``pip install 'spectrane[view]'``. Raises
    LookError where no raster is among the layers, GridMismatch for rasters and volumes together,
    AccessError for a port that is taken.

    >>> import numpy as np, spectrane as sp
    >>> with sp.view([(sp.from_array(np.eye(9)), sp.Look(limits=(0, 2)))]) as view:
    ...     str(view.look.limits[0])
    'fixed:0,2'
    """
    from spectrane.viewing.opening import OpenedView, OpenedVolumes

    listed: list[Any] = list(layers) if isinstance(layers, list) else [layers]
    folder = None if save_to is None else os.fspath(save_to)
    if any(is_deep(one) for one in listed):
        return OpenedVolumes(listed, port=port, save_to=folder)
    return OpenedView(listed, port=port, save_to=folder, library=library,
                      points=[os.fspath(one) for one in points])  # fmt: skip
