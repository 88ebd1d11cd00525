"""Band roles: the common names of the open STAC EO extension (v1.1), and their wavelengths."""

from __future__ import annotations

# Name and wavelength range in nanometres. Where ranges overlap, the first in this order wins,
# so that 842 nm is `nir` and 865 nm `nir08` only when a file says so.
_RANGES: tuple[tuple[str, float, float], ...] = (
    ("coastal", 400, 450),
    ("blue", 450, 530),
    ("green", 530, 600),
    ("yellow", 600, 625),
    ("red", 625, 690),
    ("rededge", 690, 750),
    ("nir", 750, 1000),
    ("cirrus", 1350, 1400),
    ("swir16", 1550, 1750),
    ("swir22", 2080, 2350),
    ("lwir", 10500, 12500),
)

ROLES: tuple[str, ...] = (
    "pan", "coastal", "blue", "green", "green05", "yellow", "red", "rededge", "rededge071",
    "rededge075", "rededge078", "nir", "nir08", "nir09", "cirrus", "swir16", "swir22", "lwir",
    "lwir11", "lwir12",
)  # fmt: skip

PRESETS: dict[str, tuple[str, str, str]] = {
    "natural": ("red", "green", "blue"),
    "infrared": ("nir", "red", "green"),
    "shortwave": ("swir22", "nir", "red"),
}


def role_for(wavelength: float | None) -> str | None:
    """Return the role of a centre wavelength in nm, or None where none fits.

    >>> role_for(665.0), role_for(2200.0), role_for(5000.0), role_for(None)
    ('red', 'swir22', None, None)
    """
    if wavelength is None:
        return None
    return next((role for role, low, high in _RANGES if low <= wavelength < high), None)
