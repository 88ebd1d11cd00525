"""Maps from stored numbers to real values (PS3.3 C.7.6.16.2.11), in images and in files of maps."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.formats.dicom.elements import Dataset
from spectrane.kernels.records import record

_CODED = {"[hnsf'U]": "HU", "Bq/mL": "Bq/ml", "{SUVbw}g/ml": "SUV", "g/ml{SUVbw}": "SUV", "1": "1"}
"""Codes of units (UCUM) that we write otherwise."""


@record(frozen=True)
class RealValues:
    """Real values of stored numbers: slope times number plus intercept, or a table's entries.

    ``table`` holds the values of consecutive numbers from ``first`` on; others have none.
    """

    slope: float
    intercept: float
    unit: str | None
    label: str = ""
    first: int = 0
    table: tuple[float, ...] = ()

    def of(self, stored: NDArray[Any]) -> NDArray[np.float32]:
        """Return float32 values of stored numbers of any shape; NaN where the map says none.

        >>> RealValues(0.0, 0.0, "1", first=2, table=(5.0, 7.5)).of(np.array([1, 2, 3])).tolist()
        [nan, 5.0, 7.5]
        """
        if not self.table:
            return (stored * np.float64(self.slope) + self.intercept).astype(np.float32)
        held = np.append(np.asarray(self.table, np.float32), np.float32("nan"))
        at = stored.astype(np.int64) - self.first
        return held[np.where((at < 0) | (at >= len(self.table)), len(self.table), at)]


def maps_in(holder: Dataset, signed: bool) -> list[RealValues]:
    """Return the maps that a data set holds; those without meaning (a slope of 0) are left out.

    ``signed`` tells whether the stored numbers are.
    """
    found = (_map_of(item, signed) for item in holder.items("RealWorldValueMappingSequence"))
    return [one for one in found if one is not None]


def _map_of(item: Dataset, signed: bool) -> RealValues | None:
    code = item.item("MeasurementUnitsCodeSequence")
    said = "" if code is None else code.text("CodeValue")
    unit = _CODED.get(said, said) or None
    label = item.text("LUTLabel") or item.text("LUTExplanation")
    table = item.values("RealWorldValueLUTData")
    if table:
        first = item.count("RealWorldValueFirstValueMapped")
        first = first - 65536 if signed and first > 32767 else first
        return RealValues(0.0, 0.0, unit, label, first, tuple(map(float, table)))
    slope, intercept = (item.number(f"RealWorldValue{name}") for name in ("Slope", "Intercept"))
    if slope is None or intercept is None or not np.isfinite([slope, intercept]).all() or not slope:
        return None
    return RealValues(float(slope), float(intercept), unit, label)
