"""Standardised uptake values by body weight, from what a DICOM file says (PS3.3 C.8.9).

SUV = activity per millilitre x weight / dose, with 1 g of tissue to the millilitre, and the dose
decayed from its injection to the time that the image is corrected to: the start of acquisition
(DecayCorrection START; DecayCorrectionDateTime where it stands), or injection itself (ADMIN).
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from datetime import UTC, datetime, timedelta, timezone
from typing import Any

from spectrane.engine.described import Described
from spectrane.model.errors import MetadataError
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.uptake import ACQUIRED

SUV = "SUV"
_PER_ML = {"bq/ml": 1.0, "kbq/ml": 1e3, "mbq/ml": 1e6}
_LIVES = 100.0
"""A dose that decayed for more half-lives has its times wrong."""
_WEIGHT = ("PatientWeight", "(0010,1030)")
_DOSE = ("RadionuclideTotalDose", "(0018,1074)")
_HALF_LIFE = ("RadionuclideHalfLife", "(0018,1075)")
_WRITTEN = re.compile(r"(\d{8})?(\d{2}):?(\d{2})?:?(\d{2})?(\.\d{1,6})?\s*([+-]\d{4})?\s*")


def standard_uptake(source: Source) -> Source:
    """Return a source in standardised uptake values by body weight; no number is touched.

    Raises MetadataError for a unit that is no activity, and names the elements that are missing.
    """
    units = {(band.unit or "").lower() for band in source.bands}
    if units == {"suv"}:
        return source
    if units == {"g/ml"}:
        return _scaled(source, 1.0, {"g/ml": 1.0})
    if not units <= set(_PER_ML):
        said = ", ".join(sorted(band.unit or "no unit" for band in source.bands))
        raise MetadataError(f"SUV: the values are in {said}; expected activity per millilitre "
                            "(Bq/ml, PS3.3 C.8.9.1)")  # fmt: skip
    told = _Told(source)
    grams, dose = told.number(*_WEIGHT) * 1000.0, told.number(*_DOSE, of_dose=True)
    seconds = told.decay_seconds()
    told.check()
    lives = seconds / told.half_life
    if lives > _LIVES:
        raise MetadataError(
            f"{source.name}: SUV: the dose was given {lives:.3g} half-lives before acquisition, "
            "when nothing of it was left; check the times"
        )
    factor = grams / dose * 2.0**lives
    corrected = source.metadata.get("CorrectedImage")
    if corrected is not None and "ATTN" not in corrected:
        warn_caller(f"{source.name}: the file does not say that attenuation is corrected "
                    "(CorrectedImage has no ATTN); SUV may be far too low")  # fmt: skip
    return _scaled(source, factor, _PER_ML)


def _scaled(source: Source, factor: float, units: Mapping[str, float]) -> Source:
    bands = []
    for band in source.bands:
        times = factor * units[(band.unit or "").lower()]
        bands.append(replace(band, unit=SUV, scale=band.scale * times, offset=band.offset * times))
    return Described(source, bands, look=None)


class _Told:
    """What a file tells of dose, weight and times; what is missing is told together."""

    def __init__(self, source: Source) -> None:
        self.name, self.data = source.name, source.metadata
        doses = self.data.get("RadiopharmaceuticalInformationSequence") or [{}]
        if len(doses) > 1:
            raise MetadataError(
                f"{self.name}: SUV: {len(doses)} doses were given "
                "(RadiopharmaceuticalInformationSequence); expected one"
            )
        self.dose: Mapping[str, Any] = doses[0]
        self.missing: list[str] = []
        self.half_life = 1.0

    def number(self, keyword: str, tag: str, *, of_dose: bool = False) -> float:
        """Return a number above 0; 1 where it is missing, which ``check`` tells."""
        value = (self.dose if of_dose else self.data).get(keyword)
        if isinstance(value, int | float) and 0 < value < float("inf"):
            return float(value)
        self.missing.append(f"{keyword} {tag}" + ("" if value is None else f" is {value!r}"))
        return 1.0

    def decay_seconds(self) -> float:
        """Return from injection to the time that the image is corrected to."""
        way = str(self.data.get("DecayCorrection", "")).strip().upper()
        corrected = self.data.get("CorrectedImage")
        if way in ("START", "ADMIN") and corrected is not None and "DECY" not in corrected:
            raise MetadataError(f"{self.name}: SUV: DecayCorrection (0054,1102) is {way}, but "
                                "CorrectedImage (0028,0051) does not hold DECY")  # fmt: skip
        fixed = self.data.get("DecayCorrectionDateTime")
        if way == "ADMIN" and not fixed:
            return 0.0
        if way == "NONE" and not fixed:
            raise MetadataError(f"{self.name}: SUV: the image is not corrected for decay "
                                "(DecayCorrection NONE); expected START or ADMIN")  # fmt: skip
        if way not in ("START", "ADMIN") and not fixed:
            self.missing.append("DecayCorrection (0054,1102)")
        self.half_life = self.number(*_HALF_LIFE, of_dose=True)
        return self._since_injection(fixed)

    def _since_injection(self, fixed: Any) -> float:
        zone = self.data.get("TimezoneOffsetFromUTC")
        date = self.data.get("AcquisitionDate") or self.data.get("SeriesDate")
        whole = fixed or self.data.get(ACQUIRED) or self.data.get("AcquisitionDateTime")
        start = _moment(whole, None, zone) or _moment(self.data.get("AcquisitionTime"), date, zone)
        own = _moment(self.dose.get("RadiopharmaceuticalStartDateTime"), None, zone)
        day = None if start is None else start.strftime("%Y%m%d")
        given = own or _moment(self.dose.get("RadiopharmaceuticalStartTime"), day, zone)
        if start is None:
            self.missing.append("AcquisitionDate and AcquisitionTime (0008,0022), (0008,0032)")
        if given is None:
            self.missing.append("RadiopharmaceuticalStartDateTime (0018,1078) or "
                                "RadiopharmaceuticalStartTime (0018,1072)")  # fmt: skip
        if start is None or given is None:
            return 0.0
        if own is None and given > start:
            given -= timedelta(days=1)  # a time alone, of the evening before
        seconds = (start - given).total_seconds()
        if seconds < 0:
            raise MetadataError(f"{self.name}: SUV: the dose was given after acquisition began, "
                                f"by {-seconds:g} s; one of both times is wrong")  # fmt: skip
        return seconds

    def check(self) -> None:
        """Raise MetadataError for all that is missing."""
        if self.missing:
            raise MetadataError(f"{self.name or 'volume'}: SUV: the file does not say "
                                f"{'; '.join(self.missing)}")  # fmt: skip


def _moment(text: Any, date: Any, zone: Any) -> datetime | None:
    """Return a moment of DICOM's DT, or of a TM on a DA; in the zone where one is told."""
    found = _WRITTEN.fullmatch(str(text or ""))
    day = None if found is None else found[1] or str(date or "").replace(".", "").strip() or None
    if found is None or day is None:
        return None
    hours, minutes, seconds, share, offset = found.groups()[1:]
    clock = timedelta(hours=int(hours), minutes=int(minutes or 0), seconds=int(seconds or 0)
                      + float(share or 0))  # fmt: skip
    try:
        moment = datetime.strptime(day, "%Y%m%d").replace(tzinfo=_zone(offset or zone)) + clock
    except ValueError:
        return None
    return moment


def _zone(offset: Any) -> timezone:
    text = str(offset or "").strip()
    if not re.fullmatch(r"[+-]\d{4}", text):
        return UTC
    minutes = int(text[1:3]) * 60 + int(text[3:])
    return timezone(timedelta(minutes=-minutes if text[0] == "-" else minutes))
