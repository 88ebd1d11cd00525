"""What a command tells of the files it wrote: where, how large, and what is in them."""

from __future__ import annotations

import os
import struct
import warnings
from collections.abc import Mapping
from typing import Any

from spectrane.model.trials import bytes_of, now_trying, where_written


def counted(number: int, what: str) -> str:
    """Return how many there are, in words.

    >>> counted(1, "band"), counted(8, "band")
    ('1 band', '8 bands')
    """
    return f"{number} {what}" + ("" if number == 1 else "s")


def file_facts(path: str) -> dict[str, Any]:
    """Return where a file, or a folder, was written and its size in bytes."""
    return {"output": path, "bytes": _bytes(path)}


def drawn_facts(path: str) -> dict[str, Any]:
    """Return where a PNG was written, its bytes, and the rows and columns it has with its key."""
    with open(where_written(path), "rb") as file:
        columns, rows = struct.unpack_from(">II", file.read(24), 16)
    return file_facts(path) | {"rows": rows, "columns": columns}


def _planned(path: str) -> dict[str, Any] | None:
    """Return what a trial reckons of a file that it wrote in part."""
    trial = now_trying()
    return None if trial is None else trial.planned.get(os.path.abspath(path))


def _bytes(path: str) -> int:
    planned = _planned(path)
    if planned is not None:
        return int(planned["bytes"])
    return bytes_of(where_written(path))


def size_text(path: str) -> str:
    """Return the size of what was written, for a person."""
    size = _bytes(path)
    if size < 1000:
        return f"{size} bytes"
    step = min(3, (len(str(size)) - 1) // 3)
    return f"{size / 1000**step:.3g} {('kB', 'MB', 'GB')[step - 1]}"


def data_facts(path: str) -> dict[str, Any]:
    """Return what a data file that was written holds, as a reader of it finds it."""
    from contextlib import closing

    from spectrane.formats.registry import open_source

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # what there is to say was said while it was written
        with closing(open_source(where_written(path))) as source:
            bands = [
                {
                    "name": band.name,
                    "unit": band.unit,
                    "scale": band.scale,
                    "offset": band.offset,
                    "nodata": band.nodata,
                }
                for band in source.bands
            ]
            planned = _planned(path) or {"shape": [len(source.bands), *source.shape]}
            return file_facts(path) | {
                "shape": planned["shape"], "type": source.dtype.name,
                "mask": bool(source.has_mask), "bands": bands, "crs": source.grid.crs_text,
            }  # fmt: skip


def data_line(facts: Mapping[str, Any]) -> str:
    """Say what ``data_facts`` found, in one line."""
    count, *sizes = facts["shape"]
    deep = len(sizes) == 3
    size = " x ".join(map(str, sizes if deep else sizes[::-1]))
    nodata = {str(fact["nodata"]) for fact in facts["bands"] if fact["nodata"] is not None}
    said = [size, counted(count, "frame" if deep else "band"), facts["type"]]
    said += [f"no-data {', '.join(sorted(nodata))}"] if nodata else []
    said += ["with a mask"] if facts["mask"] else []
    return f"{facts['output']}: {', '.join(said)}, {size_text(facts['output'])}"
