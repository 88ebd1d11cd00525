"""The ways to answer a read at another size, and to stack slices that lie unevenly."""

from __future__ import annotations

RESAMPLINGS = ("nearest", "area", "majority", "bilinear", "cubic", "lagrange", "lanczos")
"""Their names; numbers of ``majority`` and ``nearest`` are never mixed from several."""
SPACINGS = ("resample", "nominal")
"""Slices of a series with uneven gaps: even ones by interpolation, or as if they were even."""
