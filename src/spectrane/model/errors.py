"""Every error Spectrane raises on purpose.

::

    SpectraneError
    ├── FormatError      (ValueError)         a file is broken, or uses what is not supported
    ├── MetadataError    (ValueError)         a description contradicts itself or the data
    ├── GridMismatch     (ValueError)         two things do not lie on one grid, or miss each other
    ├── BandError        (LookupError)        a band that is not there
    ├── LookError        (ValueError)         a look that cannot be carried out
    ├── ArgumentError    (TypeError)          something else than what a call takes
    ├── ResourceError    (MemoryError)        an answer that would not fit in memory
    └── AccessError      (OSError)            bytes that cannot be had or kept
        ├── MissingFile  (FileNotFoundError)  nothing at that path
        ├── ExistingFile (FileExistsError)    the output is there already
        └── ChangedFile                       the file changed after it was opened

``DataWarning`` is for data that deserve a second look.
"""

from __future__ import annotations

from collections.abc import Iterable

__all__ = [
    "AccessError",
    "ArgumentError",
    "BandError",
    "ChangedFile",
    "DataWarning",
    "ExistingFile",
    "FormatError",
    "GridMismatch",
    "LookError",
    "MetadataError",
    "MissingFile",
    "ResourceError",
    "SpectraneError",
]


class SpectraneError(Exception):
    """The root: catching it catches everything Spectrane raises on purpose."""


class FormatError(SpectraneError, ValueError):
    """A file is broken or uses something that is not supported."""


class MetadataError(SpectraneError, ValueError):
    """A description contradicts itself or the data."""


class GridMismatch(SpectraneError, ValueError):
    """Two things do not lie on one grid, or do not meet at all."""


class BandError(SpectraneError, LookupError):
    """A band that the raster does not have."""


class LookError(SpectraneError, ValueError):
    """A look, limit, curve or view that cannot be carried out."""


class ArgumentError(SpectraneError, TypeError):
    """Something else was given than what a call takes; the message says what to give."""


class ResourceError(SpectraneError, MemoryError):
    """An answer that would not fit in memory; ask for a window or a smaller size."""


class AccessError(SpectraneError, OSError):
    """Bytes that cannot be read or written."""


class MissingFile(AccessError, FileNotFoundError):
    """There is nothing at that path."""


class ExistingFile(AccessError, FileExistsError):
    """The output exists already, and overwriting was not asked for."""


class ChangedFile(AccessError):
    """The file changed after it was opened, so its parts would not fit together."""


class DataWarning(UserWarning):
    """The data should be looked at twice; the message says why and what to do."""


def nearest(name: str, known: Iterable[str]) -> str:
    """Return the end of a message about an unknown name: the nearest known one, or all.

    >>> nearest("wavelenght", ["name", "wavelength"])
    "; did you mean 'wavelength'?"
    >>> nearest("x", ["name", "unit"])
    '; expected one of name, unit'
    """
    import difflib  # only a mistake needs it

    listed = list(known)
    near = difflib.get_close_matches(name, listed, n=1)
    return f"; did you mean {near[0]!r}?" if near else f"; expected one of {', '.join(listed)}"
