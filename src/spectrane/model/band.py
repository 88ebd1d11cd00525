"""A band: what one layer of numbers means; and how a person names one."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import fields, replace
from typing import Any, TypeAlias

import numpy as np

from spectrane.kernels.records import record
from spectrane.model.errors import BandError, FormatError, MetadataError
from spectrane.model.nodata import NoDataRule, NoDataValue, nodata_rule, nodata_value
from spectrane.model.printing import whole_text
from spectrane.model.roles import NOMINAL, PRESETS, ROLES, role_for
from spectrane.model.statistic import statistic_of
from spectrane.model.telling import warn_caller

BandName: TypeAlias = int | str
"""A band's number (from 1), its name, or its role."""


@record(frozen=True)
class Band:
    """One band: physical value = stored number * scale + offset, in ``unit``.

    ``wavelength`` is the centre in nanometres; ``role`` a common name of the STAC EO extension,
    inferred from the wavelength when it is not given; ``time`` seconds, of one frame among several;
    ``statistic`` what a map of a statistic holds: ``t(20)``, ``F(2,30)``, ``z``, ``chi2(3)``,
    ``correlation(18)``, ``p``, ``ln p`` or ``log10 p``.

    >>> Band("B4", wavelength=665.0).role
    'red'
    """

    name: str
    role: str | None = None
    wavelength: float | None = None
    unit: str | None = None
    scale: float = 1.0
    offset: float = 0.0
    nodata: NoDataValue = None
    description: str | None = None
    time: float | None = None
    statistic: str | None = None

    def __post_init__(self) -> None:
        """Take numbers as plain ones, and infer the role from the wavelength."""
        for field in ("name", "unit", "description"):
            text = getattr(self, field)
            if isinstance(text, str) and not text.isascii():
                object.__setattr__(self, field, whole_text(text))
        for name in ("wavelength", "scale", "offset", "time"):
            if getattr(self, name) is not None:
                object.__setattr__(self, name, _number(name, getattr(self, name)))
        if not usable(self.scale, self.offset):
            raise MetadataError(f"band {self.name!r}: scale {self.scale:g} and offset "
                                f"{self.offset:g}: {_USABLE}")  # fmt: skip
        object.__setattr__(self, "nodata", nodata_value(self.nodata))
        if self.statistic is not None:
            object.__setattr__(self, "statistic", str(statistic_of(self.statistic)))
        if self.role is None and self.wavelength is not None:
            object.__setattr__(self, "role", role_for(self.wavelength))

    @property
    def rule(self) -> NoDataRule:
        """The no-data rule of this band."""
        return nodata_rule(self.nodata)

    @property
    def nominal_wavelength(self) -> float | None:
        """The centre in nm, or that which bands of its role have about; None without either.

        >>> Band("B4", role="red").nominal_wavelength, Band("B4", role="red").wavelength
        (657.5, None)
        """
        return self.wavelength if self.wavelength is not None else NOMINAL.get(self.role or "")

    @property
    def scaled(self) -> bool:
        """Whether physical values differ from stored numbers."""
        return (self.scale, self.offset) != (1.0, 0.0)


_USABLE = "expected finite numbers, and a scale that is not 0"


def usable(scale: float, offset: float) -> bool:
    """Tell whether numbers come of a scale and an offset.

    >>> usable(0.5, 0), usable(0, 7), usable(1, float("nan"))
    (True, False, False)
    """
    return math.isfinite(scale) and scale != 0 and math.isfinite(offset)


def scaling_said(where: str, scale: float, offset: float) -> tuple[float, float]:
    """Return the scale and offset that a file says of a band; those of which no numbers come are
    passed over, with a warning, and stored numbers are taken as they are.

    >>> scaling_said("a.nc: ice", 0.5, 2.0)
    (0.5, 2.0)
    """
    if usable(scale, offset):
        return scale, offset
    warn_caller(f"{where}: scale {scale:g} and offset {offset:g} are passed over: {_USABLE}; "
                "values are the stored numbers")  # fmt: skip
    return 1.0, 0.0


def nodata_astray(bands: Sequence[Band], dtype: np.dtype[Any]) -> str | None:
    """Say which no-data values a type of numbers cannot hold, or return None where it can.

    >>> nodata_astray([Band("a", nodata=-9999)], np.dtype("u2"))
    'the no-data value -9999 is none that uint16 can hold: it hides nothing'
    """
    found = [one for one in bands if one.nodata is not None and not one.rule.held_by(dtype)]
    if not found:
        return None
    of = "" if len(found) == len(bands) else f" of {', '.join(one.name for one in found[:8])}"
    return (f"the no-data value {found[0].nodata}{of} is none that {dtype.name} can hold: it hides "
            "nothing")  # fmt: skip


MOST_BANDS = 65_535
"""So many bands a raster, and frames a volume, has at most: as many as a TIFF can have."""


def check_band_count(name: str, count: int, what: str = "bands") -> None:
    """Raise FormatError for more bands than anybody can have meant."""
    if count > MOST_BANDS:
        raise FormatError(f"{name}: claims {count} {what}; expected at most {MOST_BANDS}")


def band_facts(bands: Sequence[Band]) -> tuple[dict[str, Any], ...]:
    """Return what there is to say of each band, with its number, as plain mappings.

    ``nominal_wavelength`` is there where only a band's role tells about where it lies.

    >>> band_facts([Band("B4", unit="1")])[0]["unit"]
    '1'
    """
    names = [field.name for field in fields(Band)]
    return tuple(
        {"number": number}
        | {name: getattr(band, name) for name in names}
        | {"nominal_wavelength": band.nominal_wavelength if band.wavelength is None else None}
        for number, band in enumerate(bands, 1)
    )


def _number(what: str, given: Any) -> float:
    """Return a plain float: NumPy's own numbers are no text that a file can hold."""
    if isinstance(given, str | bool) or not hasattr(given, "__float__"):
        raise MetadataError(f"band: {what} {given!r}: expected a number")
    return float(given)


def bands_of(given: Iterable[Band | str]) -> tuple[Band, ...]:
    """Return bands of bands or their names; a name that is a role has that role too.

    >>> [(band.name, band.role) for band in bands_of(["nir", "haze"])]
    [('nir', 'nir'), ('haze', None)]
    """
    bands = []
    for item in given:
        if not isinstance(item, Band | str):
            raise BandError(f"bands: {item!r}: expected a Band or a name")
        role = item if isinstance(item, str) and item in ROLES else None
        bands.append(item if isinstance(item, Band) else Band(item, role))
    return tuple(bands)


def numbered(count: int) -> tuple[Band, ...]:
    """Return bands with nothing known but their number.

    >>> [band.name for band in numbered(2)]
    ['band 1', 'band 2']
    """
    return tuple(Band(f"band {number}") for number in range(1, count + 1))


def renumbered(bands: Sequence[Band], indices: Sequence[int]) -> tuple[Band, ...]:
    """Return some of the bands; those that have only their number for a name take the new one.

    >>> [band.name for band in renumbered(numbered(3), (2, 0))]
    ['band 1', 'band 2']
    """
    return tuple(
        replace(bands[index], name=f"band {number}") if unnamed(bands[index], index) else (
            bands[index])
        for number, index in enumerate(indices, 1)
    )  # fmt: skip


def unnamed(band: Band, index: int) -> bool:
    """Tell whether a band, by its index from 0, has nothing but its number for a name."""
    return band.name == f"band {index + 1}"


def find_band(bands: Sequence[Band], wanted: BandName) -> int:
    """Return the index (from 0) of the band with this number (from 1), name or role.

    Raises BandError, which lists the bands there are and suggests the nearest name.

    >>> find_band((Band("B2", role="blue"), Band("B3", role="green")), "green")
    1
    """
    if isinstance(wanted, bool) or not isinstance(wanted, str | int | np.integer):
        raise BandError(f"band {wanted!r}: expected a number (from 1), a name or a role; "
                        f"{_listing(bands)}")  # fmt: skip
    number = _as_number(wanted)
    if number is not None and not _is_name(bands, wanted):
        return _by_number(bands, number)
    text = str(wanted).strip().casefold()
    for same in (str.strip, str.casefold):  # as it is written, or else in any case
        called = [k for k, band in enumerate(bands) if same(band.name) == same(str(wanted).strip())]
        if len(called) > 1:
            raise BandError(
                f"{len(called)} bands are called {str(wanted)!r}: numbers "
                f"{', '.join(str(k + 1) for k in called)}; say which by its number"
            )
        if called:
            return called[0]
    for index, band in enumerate(bands):
        if band.role and band.role.casefold() == text:
            return index
    raise BandError(f"no band is called {str(wanted)!r}; {_listing(bands)}{_hint(bands, text)}")


def _as_number(wanted: BandName) -> int | None:
    if isinstance(wanted, str):
        text = wanted.strip()
        return int(text) if text.lstrip("-").isdecimal() and len(text) < 12 else None
    return int(wanted)


def _is_name(bands: Sequence[Band], wanted: BandName) -> bool:
    return isinstance(wanted, str) and any(band.name == wanted for band in bands)


def _by_number(bands: Sequence[Band], number: int) -> int:
    if 1 <= number <= len(bands):
        return number - 1
    hint = "; bands are counted from 1" if number == 0 else ""
    raise BandError(f"there is no band {number}{hint}; {_listing(bands)}")


def find_bands(bands: Sequence[Band], wanted: BandName | Iterable[BandName] | None) -> list[int]:
    """Return the indices (from 0) of several bands, of one, or (for None) of all."""
    if wanted is None:
        return list(range(len(bands)))
    if isinstance(wanted, str) or not isinstance(wanted, Iterable):
        wanted = [wanted]
    indices = [find_band(bands, name) for name in wanted]
    if not indices:
        raise BandError(f"no band was asked for; {_listing(bands)}")
    return indices


def preset_bands(bands: Sequence[Band], preset: str) -> list[int]:
    """Return the indices of a preset's bands; BandError names the roles that are missing."""
    roles = PRESETS[preset]
    present = {band.role for band in bands}
    missing = [role for role in roles if role not in present]
    if missing:
        raise BandError(
            f"channels {preset!r} need the roles {', '.join(roles)}; "
            f"no band has the role {' or '.join(missing)}; {_listing(bands)}"
        )
    return [find_band_by_role(bands, role) for role in roles]


def find_band_by_role(bands: Sequence[Band], role: str) -> int:
    """Return the index of the first band with a role."""
    return next(index for index, band in enumerate(bands) if band.role == role)


def _listing(bands: Sequence[Band], most: int = 16) -> str:
    shown = [
        f"{number} {band.name}" + (f" ({band.role})" if band.role else "")
        for number, band in enumerate(bands[:most], 1)
    ]
    more = f" and {len(bands) - most} more" if len(bands) > most else ""
    return f"the bands are {', '.join(shown)}{more}"


def _hint(bands: Sequence[Band], text: str) -> str:
    import difflib  # only a mistake needs it

    known = [band.name for band in bands] + [band.role for band in bands if band.role]
    near = difflib.get_close_matches(text, [name.casefold() for name in known], n=1, cutoff=0.6)
    if near:
        return f"; did you mean {near[0]!r}?"
    return f"; no band has the role {text!r}" if text in ROLES else ""
