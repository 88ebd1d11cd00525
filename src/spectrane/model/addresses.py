"""Addresses of what is no local file, and the storage behind them."""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Mapping
from typing import Any, BinaryIO, TypeAlias

from spectrane.model.errors import AccessError

FilePath: TypeAlias = "str | os.PathLike[str]"
FileLike: TypeAlias = "FilePath | bytes | BinaryIO"
"""A path, an fsspec address, bytes, or an open binary file."""
BYTES, OPEN, STREAM = "bytes in memory", "an open file", "-"
NAMELESS = (BYTES, OPEN, STREAM)
"""What is called so lies in no file that could be named again."""
_ADDRESS = re.compile(r"[a-zA-Z][a-zA-Z0-9+.-]+://")


def is_address(name: object) -> bool:
    """Tell whether a text is the address of something that is no local file.

    >>> is_address("s3://bucket/a.tif"), is_address("C:/a.tif"), is_address("file:///a.tif")
    (True, False, False)
    """
    return isinstance(name, str) and bool(_ADDRESS.match(name)) and not name.startswith("file://")


def is_web(place: str) -> bool:
    """Tell whether a place is asked over the web.

    >>> is_web("https://example.org/a.json"), is_web("catalog/a.json")
    (True, False)
    """
    return place.lower().startswith(("http://", "https://"))


def address_parts(name: str) -> tuple[str, str, str]:
    """Return what comes before the path inside a storage, that path, and the chain behind it, or
    what a server is asked along with it (RFC 3986, section 3.4): a signature, say.

    Of a local path all is path.

    >>> address_parts("zip://in/a.tif::s3://bucket/b.zip"), address_parts("in/a.tif")
    (('zip://', 'in/a.tif', '::s3://bucket/b.zip'), ('', 'in/a.tif', ''))
    >>> address_parts("https://maps.example/a.tif?signed=x/y")
    ('https://', 'maps.example/a.tif', '?signed=x/y')
    """
    place, chain, rest = name.partition("::")
    scheme, mark, inner = place.partition("://")
    if not mark:
        return "", name, ""
    if is_web(name):
        inner = re.split(r"[?#]", name[len(scheme + mark) :], maxsplit=1)[0]
        return scheme + mark, inner, name[len(scheme + mark + inner) :]
    return scheme + mark, inner, chain + rest


def file_name(path: str) -> str:
    """Return the last name of a path, or of the path inside a storage; what a server is asked
    along with it, signatures say, is no part of it.

    >>> file_name("scenes/a.tif"), file_name("zip://in/b.tif::/data/pack.zip")
    ('a.tif', 'b.tif')
    >>> file_name("https://maps.example/c.tif?signature=x/y")
    'c.tif'
    """
    return os.path.basename(address_parts(path)[1])


def file_stem(path: str) -> str:
    """Return the last name without its ending.

    >>> file_stem("zip://in/b.tif::/data/pack.zip"), file_stem("scans/a.nii.gz")
    ('b', 'a')
    """
    return os.path.splitext(file_name(path).removesuffix(".gz"))[0]


def has_ending(path: str, *endings: str) -> bool:
    """Tell whether a file is called so, in small letters or capitals, wherever it lies.

    >>> has_ending("zip://in/B.CSV::/data/pack.zip", ".csv"), has_ending("a.tif", ".csv", ".txt")
    (True, False)
    """
    return file_name(path).lower().endswith(endings)


def amend_command(name: str, options: str) -> str:
    """Return the command that corrects a file. What lies elsewhere is fetched before.

    >>> amend_command("a.tif", "--nodata 0")
    'spectrane amend a.tif --nodata 0'
    >>> amend_command("s3://maps/a.tif", "--nodata 0")
    'fetch it, then spectrane amend a.tif --nodata 0'
    """
    if is_address(name):
        return f"fetch it, then spectrane amend {shlex.quote(file_name(name))} {options}"
    if name in NAMELESS:
        return f"keep it in a file, then spectrane amend FILE {options}"
    return f"spectrane amend {shlex.quote(name)} {options}"


def filesystem_of(name: str, options: Mapping[str, Any] | None) -> tuple[Any, str]:
    """Return fsspec's storage for an address, and the path inside. Raises AccessError."""
    import fsspec

    try:
        return fsspec.core.url_to_fs(name, **(options or {}))  # type: ignore[no-any-return]
    except (ImportError, ValueError) as error:
        raise AccessError(f"{name}: {error}") from error
