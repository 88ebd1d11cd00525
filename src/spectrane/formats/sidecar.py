"""The sidecar ``NAME.spectrane.toml``: corrections kept beside a file, whatever its format.

What it says wins over what the file says of itself. This module only finds and reads it;
``sidecar_schema`` checks it, and is loaded where there is one.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from spectrane.engine.byte_file import NotAllowed
from spectrane.engine.files import open_bytes
from spectrane.model.errors import MetadataError, MissingFile
from spectrane.model.regular_files import beside, read_small

if TYPE_CHECKING:
    from spectrane.formats.sidecar_schema import Sidecar
    from spectrane.model.source import Source

ENDING = ".spectrane.toml"
_LARGEST = 4 << 20


def path_of(name: str) -> str:
    """Return where the sidecar of a file lies.

    >>> path_of("scenes/a.tif")
    'scenes/a.tif.spectrane.toml'
    """
    return beside(name, ENDING)


def text_of(name: str, options: Mapping[str, Any] | None = None) -> str | None:
    """Return a file's sidecar as text, or None where it has none."""
    path = path_of(name)
    if "://" in name:
        raw = _fetched(path, options)
    elif os.path.exists(path):
        raw = read_small(path, _LARGEST, MetadataError, "a sidecar")
    else:
        return None
    if raw is not None and len(raw) > _LARGEST:
        raise MetadataError(f"{path}: is larger than a sidecar can be ({_LARGEST} bytes)")
    try:
        return None if raw is None else raw.decode("utf-8")
    except UnicodeDecodeError as error:
        raise MetadataError(f"{path}: is not UTF-8 text: {error}") from error


def _fetched(url: str, options: Mapping[str, Any] | None) -> bytes | None:
    try:
        file = open_bytes(url, options)
    except (MissingFile, NotAllowed):  # some servers hide in this way that there is none
        return None
    try:
        content = file.read(0, min(file.size, _LARGEST + 1))
    finally:
        file.close()
    return None if content.lstrip()[:1] == b"<" else content  # some answer with a page instead


def read(name: str, options: Mapping[str, Any] | None = None) -> Sidecar | None:
    """Return a file's sidecar, checked; None where it has none. MetadataError where it is wrong.

    ``options`` are those of the storage that an address names.
    """
    text = text_of(name, options)
    if text is None:
        return None
    from spectrane.formats.sidecar_schema import parse_sidecar

    return parse_sidecar(text, path_of(name))


def with_corrections(source: Source, beside: Sidecar) -> Source:
    """Return a source with a sidecar's corrections."""
    from spectrane.formats.sidecar_schema import apply_sidecar as lay

    return lay(source, beside)
