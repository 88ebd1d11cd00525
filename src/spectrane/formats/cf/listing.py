"""What an HDF5 file holds: its datasets, the names of their axes, and their attributes."""

from __future__ import annotations

import math
from collections.abc import Collection
from typing import Any

import h5py
import numpy as np

from spectrane.formats.cf.arrays import Variable

Listing = tuple[dict[str, Variable], bool, int]
"""The datasets by path, whether the file is netCDF-4, and how many datasets lie elsewhere."""

_MOST_ARRAYS = 10000
_LONGEST_ATTRIBUTE = 1 << 16
_OF_THE_STORAGE = ("DIMENSION_LIST", "REFERENCE_LIST", "DIMENSION_LABELS", "CLASS", "NAME",
                   "_Netcdf4Dimid", "_Netcdf4Coordinates", "_nc3_strict")  # fmt: skip
_PLAIN = (h5py.h5t.INTEGER, h5py.h5t.FLOAT, h5py.h5t.STRING, h5py.h5t.ENUM)


def listed_at(path: str) -> Listing:
    """List the datasets of a local file."""
    with h5py.File(path, "r") as root:
        return listed(root)


def listed(root: h5py.File) -> Listing:
    """List the datasets of an open file that lie in this file, each under one name.

    What lies elsewhere (external links, external storage, virtual datasets) is not followed: a
    file must not lead to others, nor to a pipe that never answers.
    """
    keys = list(root.attrs)
    netcdf = "_NCProperties" in keys or _text(root, "Conventions").startswith("CF-")
    search = _Search(root)
    search.gather(root, "", 0)
    return search.found, netcdf, search.elsewhere


class _Search:
    """A walk through the groups, each entered once."""

    def __init__(self, root: h5py.File) -> None:
        self.found: dict[str, Variable] = {}
        self.elsewhere = 0
        self._groups = {h5py.h5o.get_info(root.id).addr}

    def gather(self, group: h5py.Group, prefix: str, depth: int) -> None:
        """List what is below a group."""
        for key in group.id:
            if len(self.found) >= _MOST_ARRAYS or depth > 32:
                return
            link = group.id.links.get_info(key).type
            if link != h5py.h5l.TYPE_HARD:
                # What a soft link names is found under its own name.
                self.elsewhere += link == h5py.h5l.TYPE_EXTERNAL
                continue
            name, node = (
                prefix + key.decode("utf-8", "surrogateescape"),
                h5py.h5o.open(group.id, key),
            )
            if isinstance(node, h5py.h5g.GroupID):
                address = h5py.h5o.get_info(node).addr
                if address not in self._groups:
                    self._groups.add(address)
                    self.gather(h5py.Group(node), f"{name}/", depth + 1)
            elif isinstance(node, h5py.h5d.DatasetID):
                self._note(name, h5py.Dataset(node))

    def _note(self, name: str, node: h5py.Dataset) -> None:
        if node.shape is None:
            return
        if node.is_virtual or node.external:
            self.elsewhere += 1
        else:
            self.found[name] = _variable(name, node)


def _variable(name: str, node: h5py.Dataset) -> Variable:
    keys = list(node.attrs)
    said = {key: value for key in keys
            if key not in _OF_THE_STORAGE
            and (value := _plain_attribute(node, key)) is not None}  # fmt: skip
    return Variable(name, tuple(node.shape), np.dtype(node.dtype), _dimensions(name, node, keys),
                    said, node.chunks)  # fmt: skip


def _plain_attribute(node: Any, key: str) -> Any:
    """Return an attribute of numbers or text; None for none and others, which are not even read.

    It is asked of the library's lower level, which is twice as quick.
    """
    try:
        kept = h5py.h5a.open(node.id, key.encode())
        kind, shape = kept.get_type(), kept.shape or ()
        if kind.get_class() not in _PLAIN:
            return None
        if (count := math.prod(shape)) > _LONGEST_ATTRIBUTE:
            return f"{count} values"
        value = np.zeros(shape, kind.dtype)
        kept.read(value)
    except (OSError, TypeError, ValueError, KeyError, RuntimeError):
        return None
    if value.dtype.kind in "SO":
        texts = [one.decode("utf-8", "replace") if isinstance(one, bytes) else str(one)
                 for one in value.ravel()]  # fmt: skip
        return texts[0] if len(texts) == 1 else np.array(texts)
    return value.ravel()[0] if value.size == 1 else value


def _text(node: Any, key: str) -> str:
    """Return an attribute that is a text; empty for none and others."""
    value = _plain_attribute(node, key)
    return value if isinstance(value, str) else ""


def _dimensions(name: str, node: h5py.Dataset, keys: Collection[str]) -> tuple[str, ...]:
    """Return the names of a dataset's axes: their scales', else their labels, else numbers.

    The scales are found by the references themselves: the library's own way trusts attributes to
    be what the standard says, and a file may say anything.
    """
    count = len(node.shape)
    if count == 1 and "CLASS" in keys and _text(node, "CLASS") == "DIMENSION_SCALE":
        return (name.rsplit("/", 1)[-1],)
    labels = _plain_attribute(node, "DIMENSION_LABELS") if "DIMENSION_LABELS" in keys else None
    given = [str(one) for one in np.atleast_1d(labels if labels is not None else ())]
    given = given if len(given) == count else [""] * count
    scales = _scales(node) if "DIMENSION_LIST" in keys else [""] * count
    return tuple(
        scale or label or f"dimension {k}"
        for k, (scale, label) in enumerate(zip(scales, given, strict=True), 1)
    )


def _scales(node: h5py.Dataset) -> list[str]:
    """Return the name of each axis's first dimension scale; empty where there is none."""
    nothing = [""] * len(node.shape)
    try:
        kept = node.attrs.get_id("DIMENSION_LIST")
        inside = h5py.check_vlen_dtype(kept.dtype)
        references = inside is not None and h5py.check_ref_dtype(inside) is h5py.Reference
        if not references or kept.shape != (len(node.shape),):
            return nothing
        names = []
        for listed in node.attrs["DIMENSION_LIST"]:
            scale = node.file[listed[0]] if len(listed) and listed[0] else None
            named = isinstance(scale, h5py.Dataset) and scale.name
            names.append(str(scale.name.rsplit("/", 1)[-1]) if scale is not None and named else "")
        return names
    except (OSError, RuntimeError, KeyError, ValueError, TypeError):
        return nothing
