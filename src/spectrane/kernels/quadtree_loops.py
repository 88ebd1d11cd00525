"""Compiled forms of ``quadtree``: of the references themselves, which are written for it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels import quadtree
from spectrane.kernels.compiling import loop

_plain = loop(quadtree.plain_reference)
_tree = loop(quadtree.tree_reference)
_quadrants = loop(quadtree.quadrants_reference)
_signs = loop(quadtree.signs_reference)


def planes(data: NDArray[np.uint8], planes: NDArray[np.int64], out: NDArray[np.int64]) -> int:
    """Do as ``quadtree.planes_reference``."""
    at = int(_quadrants(data, planes, out, _plain, _tree))
    return quadtree.signed(data, at, out, _signs)
