"""Compiled forms of ``quadtree``: of the references themselves, which are written for it."""

from __future__ import annotations

import numpy as np
from numba.extending import register_jitable
from numpy.typing import NDArray

from spectrane.kernels import quadtree
from spectrane.kernels.compiling import loop

# The compiler knows the parts by themselves: as arguments they would stand in the names of what is
# kept on disk, where functions of another process cannot be.
for _part in (quadtree.plain_reference, quadtree.tree_reference):
    register_jitable(_part)
_quadrants = loop(quadtree.quadrants_reference)
_signs = loop(quadtree.signs_reference)


def planes(data: NDArray[np.uint8], planes: NDArray[np.int64], out: NDArray[np.int64]) -> int:
    """Do as ``quadtree.planes_reference``."""
    at = int(_quadrants(data, planes, out))
    return quadtree.signed(data, at, out, _signs)
