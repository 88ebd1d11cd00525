"""Compiled form of ``quadtree``: the reference itself, which is written for it."""

from __future__ import annotations

from spectrane.kernels.compiling import loop
from spectrane.kernels.quadtree import planes_reference

planes = loop(planes_reference)
