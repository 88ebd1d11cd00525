"""Band roles: the common names of the open STAC EO extension (v1.1), and their wavelengths."""

from __future__ import annotations

import re

from spectrane.model.errors import MetadataError, nearest

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


NOMINAL: dict[str, float] = {
    **{name: (low + high) / 2 for name, low, high in _RANGES}, "green05": 530.0,
    "rededge071": 710.0, "rededge075": 750.0, "rededge078": 780.0, "nir08": 865.0, "nir09": 945.0,
    "lwir11": 11000.0, "lwir12": 12000.0,
}  # fmt: skip
"""A wavelength in nm for each role but ``pan``: the middle of its range, or what its name says."""

_WORDS: dict[str, tuple[str, ...]] = {
    "pan": ("pan", "panchromatic"), "coastal": ("coastal", "aerosol", "ultrablue"),
    "blue": ("blue",), "green": ("green",), "yellow": ("yellow",), "red": ("red",),
    "rededge": ("rededge", "red edge"), "nir": ("nir", "near infrared", "near ir"),
    "cirrus": ("cirrus",),
    "swir16": ("swir16", "swir1", "swir 1", "shortwave infrared 1"),
    "swir22": ("swir22", "swir2", "swir 2", "shortwave infrared 2"),
    "lwir": ("lwir", "tir", "thermal", "thermal infrared"),
}  # fmt: skip
"""What the trade calls bands of a role, in small letters."""


def role_of(text: str) -> str:
    """Return a role that somebody gives a band. Raises MetadataError for one there is not.

    >>> role_of("bleu")
    Traceback (most recent call last):
        ...
    spectrane.model.errors.MetadataError: role 'bleu'; did you mean 'blue'?
    """
    if text not in ROLES:
        raise MetadataError(f"role {text!r}{nearest(str(text), ROLES)}")
    return text


def role_in(text: str) -> str | None:
    """Return the role that a name says in words; None where it says none, or several.

    Numbers of bands say nothing: the fourth is red with one sensor and near infrared with another.

    >>> role_in("sound_NIR"), role_in("Red Edge 2"), role_in("B04"), role_in("red over green")
    ('nir', 'rededge', None, None)
    """
    said = " ".join(word for word in re.split(r"[^a-z0-9]+", text.lower()) if word)
    found: set[str] = set()
    named = [(role, role) for role in ROLES]
    named += [(word, role) for role, words in _WORDS.items() for word in words]
    for word, role in sorted(named, key=lambda pair: -len(pair[0])):
        pattern = rf"(?<![a-z0-9]){re.escape(word)}(?![a-z0-9])"
        if re.search(pattern, said):
            found.add(role)
            said = re.sub(pattern, " ", said)  # the red in red edge is no red
    return found.pop() if len(found) == 1 else None


def wavelength_in(text: str) -> float | None:
    """Return the wavelength in nm that a name says with its unit; None where it says none.

    >>> wavelength_in("sound_665nm"), wavelength_in("1.61 µm"), wavelength_in("B665")
    (665.0, 1610.0, None)
    """
    found = re.search(r"(?<![\d.])(\d+(?:\.\d+)?)[ _]?(nm|[uµμ]m)(?![a-z])", text, re.IGNORECASE)
    if found is None:
        return None
    return round(float(found[1]) * (1 if found[2].lower() == "nm" else 1000), 6)


def role_for(wavelength: float | None) -> str | None:
    """Return the role of a centre wavelength in nm, or None where none fits.

    >>> role_for(665.0), role_for(2200.0), role_for(5000.0), role_for(None)
    ('red', 'swir22', None, None)
    """
    if wavelength is None:
        return None
    return next((role for role, low, high in _RANGES if low <= wavelength < high), None)
