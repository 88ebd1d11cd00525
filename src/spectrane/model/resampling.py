"""The ways to answer a read at another size."""

from __future__ import annotations

RESAMPLINGS = ("nearest", "area", "majority", "bilinear", "cubic", "lagrange", "lanczos")
"""Their names; numbers of ``majority`` and ``nearest`` are never mixed from several."""
