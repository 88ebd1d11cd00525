"""Under which name a volume of many files tells when its earliest plane was acquired."""

from __future__ import annotations

ACQUIRED = "acquired from"
"""Its value is a date and time as DICOM writes them (DT); it says who somebody is, as dates do."""
