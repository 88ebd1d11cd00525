"""Emission tomography: what measures the uptake of a tracer, and is shown as its trade shows it."""

from __future__ import annotations

from spectrane.model.source import Source

UNITS = frozenset({"bq/ml", "kbq/ml", "mbq/ml", "suv", "g/ml", "cm2/ml"})
"""Units of uptake, in small letters: activity per volume, and the standard values."""
ACQUIRED = "acquired from"
"""Under which name a volume of many files tells when its earliest plane was acquired.

Its value is a date and time as DICOM writes them (DT); it says who somebody is, as dates do.
"""


def measures_uptake(source: Source) -> bool:
    """Tell whether a source measures uptake: by its unit, or by the modality of its file (PT).

    >>> import numpy as np
    >>> from spectrane.engine.memory import ArraySource
    >>> from spectrane.model.band import Band
    >>> measures_uptake(ArraySource(np.zeros((1, 2, 2)), bands=[Band("pet", unit="kBq/ml")]))
    True
    """
    units = {(band.unit or "").lower() for band in source.bands}
    return bool(units & UNITS) or source.metadata.get("Modality") == "PT"
