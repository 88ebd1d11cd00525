"""Headerless binaries: described by a person, checked against the file's size, then read."""

from __future__ import annotations

import itertools
import math
import os
from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.files import open_bytes
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.flat import INTERLEAVES, ORDERS, FlatLayout, FlatSource, interleaved
from spectrane.formats.sidecar_schema import RawTable, checked
from spectrane.formats.validity import RAW, keeping
from spectrane.model.errors import FormatError
from spectrane.model.number_types import NUMBER_TYPES
from spectrane.model.source import Source
from spectrane.model.whole_files import written_whole


def dtype_of(table: RawTable) -> np.dtype[Any]:
    """Return the type of a layout's numbers, in their byte order."""
    return np.dtype(table.type).newbyteorder("<" if table.order == "little" else ">")


def flat_layout(table: RawTable) -> FlatLayout:
    """Return where each number of a headerless binary lies."""
    dtype = dtype_of(table)
    steps = interleaved(table.interleave, table.bands, table.rows, table.columns, dtype.itemsize)
    return FlatLayout(table.bands, table.rows, table.columns, dtype, table.header, steps)


def needed(table: RawTable) -> int:
    """Return how many bytes a layout takes, its header included."""
    return table.header + table.rows * table.columns * table.bands * np.dtype(table.type).itemsize


def open_raw(file: ByteFile, table: RawTable) -> FlatSource:
    """Open a headerless binary. Raises FormatError where the layout does not fit the file's size:
    by how much, and the nearest layouts that do.
    """
    check_size(file.name, file.size, table)
    source = FlatSource(file, flat_layout(table))
    source.format = "raw"
    source.metadata = {"raw": table.model_dump()}
    return source


def check_size(name: str, size: int, table: RawTable) -> None:
    """Raise FormatError where a layout and a file's size do not agree."""
    wanted = needed(table)
    if wanted == size:
        return
    off = f"{wanted - size} bytes too few" if wanted > size else f"{size - wanted} bytes too many"
    near = "; ".join(
        itertools.islice((format_layout(layout) for layout in near_layouts(size, table)), 5)
    )
    raise FormatError(
        f"{name}: {format_layout(table)} takes {wanted} bytes; the file has {size}, {off}. "
        f"Layouts that fit: {near or 'none near it'}"
    )


def format_layout(table: RawTable) -> str:
    """Say a layout in a line.

    >>> format_layout(RawTable(rows=10, columns=20, type="uint16"))
    '10 rows x 20 columns x 1 band of uint16 little'
    """
    count = "1 band" if table.bands == 1 else f"{table.bands} bands {table.interleave}"
    order = "" if np.dtype(table.type).itemsize == 1 else f" {table.order}"
    header = f" after a header of {table.header} bytes" if table.header else ""
    return f"{table.rows} rows x {table.columns} columns x {count} of {table.type}{order}{header}"


def near_layouts(size: int, table: RawTable) -> Iterator[RawTable]:
    """Yield layouts that fit a size, each one change away from what was said, likeliest first."""
    item = np.dtype(table.type).itemsize
    plane = table.rows * table.columns
    pixels = size // item
    changes: list[dict[str, Any]] = []
    header = size - plane * table.bands * item
    if 0 <= header <= max(65536, size // 100):
        changes.append({"header": header})
    body = size - table.header
    if body > 0 and body % (plane * item) == 0:
        changes.append({"bands": body // (plane * item)})
    for other in NUMBER_TYPES:
        if plane * table.bands * np.dtype(other).itemsize == body:
            changes.append({"type": other})
    for name, rest in (("rows", table.columns), ("columns", table.rows)):
        line = rest * table.bands * item
        if body > 0 and body % line == 0:
            changes.append({name: body // line})
    if not table.header:
        changes += [{"rows": r, "columns": c} for r, c in _factors(pixels // table.bands, table)]
    told = [table]
    for change in changes:
        one = table.model_copy(update=change)
        if one not in told and needed(one) == size:
            told.append(one)
            yield one


def _factors(pixels: int, table: RawTable) -> list[tuple[int, int]]:
    """Return the shapes of so many pixels whose proportions are nearest to those given."""
    wanted = math.log(table.rows / table.columns)
    pairs = [(r, pixels // r) for r in _divisors(pixels)]
    pairs.sort(key=lambda shape: abs(math.log(shape[0] / shape[1]) - wanted))
    return pairs[:4]


def _divisors(number: int) -> list[int]:
    small = (
        [k for k in range(1, math.isqrt(number) + 1) if number % k == 0] if number < 1e13 else []
    )
    return sorted({*small, *(number // k for k in small)})


def guesses(
    file: ByteFile, *, rows: int | None = None, columns: int | None = None,
    bands: int | None = None, type: str | None = None, header: int = 0,
) -> list[tuple[float, RawTable]]:  # fmt: skip
    """Return layouts that fit a file, each with its roughness, the smoothest first.

    What is known may be given; rows and columns are tried swapped as well. Roughness is the mean
    absolute step between neighbouring rows over that between unrelated pixels: an image of the
    right width is smooth down its columns, one of a wrong width sheared.
    """
    scored = []
    for table in _candidates(file.size, rows, columns, bands, type, header):
        with np.errstate(all="ignore"):  # wrong types give numbers of any kind
            roughness = _roughness(file, table)
        if math.isfinite(roughness):
            scored.append((roughness, table))
    return sorted(scored, key=lambda pair: pair[0])


def _candidates(
    size: int, rows: int | None, columns: int | None, bands: int | None, type: str | None,
    header: int,
) -> Iterator[RawTable]:  # fmt: skip
    types = (type,) if type else ("uint8", "uint16", "int16", "float32")
    counts = (bands,) if bands else (1, 3, 4, 6, 7, 8)
    seen = set()
    for kind, count in itertools.product(types, counts):
        item = np.dtype(kind).itemsize
        if (size - header) % (item * count) or size <= header:
            continue
        pixels = (size - header) // (item * count)
        for shape in _shapes(pixels, rows, columns):
            orders = ("little",) if item == 1 else ORDERS
            ways = ("bsq",) if count == 1 else INTERLEAVES
            for order, way in itertools.product(orders, ways):
                key = (shape, kind, count, order, way)
                if key not in seen:
                    seen.add(key)
                    yield RawTable.model_validate({
                        "rows": shape[0], "columns": shape[1], "bands": count, "type": kind,
                        "order": order, "header": header, "interleave": way,
                    })  # fmt: skip


def _shapes(pixels: int, rows: int | None, columns: int | None) -> Iterable[tuple[int, int]]:
    """Return shapes of so many pixels: as given and swapped, or of sensible proportions."""
    known = [n for n in (rows, columns) if n]
    if rows and columns and rows * columns == pixels:
        return dict.fromkeys([(rows, columns), (columns, rows)])
    if known:
        shapes = [(n, pixels // n) for n in known if pixels % n == 0]
        return dict.fromkeys(shapes + [(c, r) for r, c in shapes])
    near = [n for n in _divisors(pixels) if 0.2 <= n * n / pixels <= 5.0]
    near.sort(key=lambda n: abs(math.log(n * n / pixels)))
    return [(n, pixels // n) for n in near[:24]]


_DOUBT = 3.0
"""How much rougher a layout counts that looks like a wrong reading of another one."""
_SAMPLE = 192
"""Rows and columns that a guess looks at."""


def _roughness(file: ByteFile, table: RawTable) -> float:
    layout = flat_layout(table)
    source = FlatSource(file, layout)
    top, left = (max(0, (n - _SAMPLE) // 2) for n in (table.rows, table.columns))
    window = ((top, min(top + _SAMPLE, table.rows)), (left, min(left + _SAMPLE, table.columns)))
    stored = source.read([0], window).values[0]
    if min(stored.shape) < 3 or not np.isfinite(stored).all():
        return math.inf
    rough = _steps(stored.astype(np.float64)) * (1 + 0.05 * (table.bands - 1))
    doubtful = _pairs_of_bytes(stored) or (table.bands > 1 and _goes_on(source, table))
    return rough * _DOUBT if doubtful else rough


def _pairs_of_bytes(stored: NDArray[Any]) -> bool:
    """Tell whether both halves of 16-bit numbers are pictures: then they are pairs of 8 bits."""
    if stored.dtype.kind not in "iu" or stored.dtype.itemsize != 2:
        return False
    bits = stored.view(np.uint16)
    low, high = (bits & 0xFF).astype(np.float64), (bits >> 8).astype(np.float64)
    return bool(high.max() > high.min() + 8 and _steps(low) < 0.5)


def _goes_on(source: FlatSource, table: RawTable) -> bool:
    """Tell whether a band's end runs smoothly into the next band: then they are one picture."""
    rows, columns = table.rows, table.columns
    if table.interleave == "bip":
        return False
    if table.interleave == "bil":
        ends = source.read([0], ((0, rows), (columns - 1, columns))).values[0]
        starts = source.read([1], ((0, rows), (0, 1))).values[0]
    else:
        ends = source.read([0], ((rows - 1, rows), (0, columns))).values[0]
        starts = source.read([1], ((0, 1), (0, columns))).values[0]
    ends, starts = ends.ravel().astype(np.float64), starts.ravel().astype(np.float64)
    if not (np.isfinite(ends).all() and np.isfinite(starts).all()):
        return False
    mixed = np.random.default_rng(0).permutation(starts)
    apart = np.abs(ends - mixed).mean()
    return bool(apart > 0 and np.abs(ends - starts).mean() < 0.6 * apart)


def _steps(values: NDArray[np.float64]) -> float:
    """Return how large steps to the next row and column are, of steps to any other pixel."""
    with np.errstate(all="ignore"):
        mixed = np.random.default_rng(0).permutation(values.ravel())
        apart = np.abs(np.diff(mixed)).mean()
        down = np.abs(np.diff(values, axis=0)).mean()
        across = np.abs(np.diff(values, axis=1)).mean()
    return float(max(down, across) / apart) if apart > 0 else math.inf


def named_faults(said: RawTable, best: RawTable) -> list[str]:
    """Name what was wrong in what was said, next to a layout that looks right."""
    faults = []
    if (said.rows, said.columns) == (best.columns, best.rows) and said.rows != said.columns:
        faults.append("rows and columns are swapped")
    elif (said.rows, said.columns) != (best.rows, best.columns):
        faults.append("rows and columns are wrong")
    if said.type != best.type:
        faults.append(f"the type is {best.type}, not {said.type}")
    elif np.dtype(said.type).itemsize > 1 and said.order != best.order:
        faults.append(f"the byte order is {best.order}, not {said.order}")
    if said.bands != best.bands:
        faults.append(f"there are {best.bands} bands, not {said.bands}")
    elif said.bands > 1 and said.interleave != best.interleave:
        faults.append(f"the interleave is {best.interleave}, not {said.interleave}")
    return faults


_CLEARLY = 0.6
"""A layout is doubted where another is smoother by so much."""


def doubt(file: ByteFile, table: RawTable) -> str | None:
    """Return what is likely wrong with a layout that looks scrambled; None where it looks right.

    It is compared with those that hold the same bytes: rows and columns swapped, the other byte
    order, the other interleaves. A few rows of each are read.
    """
    changes: list[dict[str, Any]] = [
        {"rows": table.columns, "columns": table.rows},
        {"order": "big" if table.order == "little" else "little"},
        *({"interleave": way} for way in INTERLEAVES),
    ]
    others = [table.model_copy(update=change) for change in changes]
    with np.errstate(all="ignore"):
        own = _roughness(file, table)
        rough = [(_roughness(file, one), one) for one in others if one != table]
    best, found = min(rough, key=lambda pair: pair[0])
    faults = named_faults(table, found)
    if not math.isfinite(best) or best > _CLEARLY * own or not faults:
        return None
    return (f"{file.name}: its layout ({format_layout(table)}) looks scrambled: likely "
            f"{', and '.join(faults)}; look at both with: spectrane raw {file.name} --rows "
            f"{table.rows} --columns {table.columns} --guess --preview guesses.png")  # fmt: skip


def file_of(path: str | os.PathLike[str]) -> ByteFile:
    """Return a headerless file; it must not be empty."""
    file = open_bytes(path)
    if file.size == 0:
        raise FormatError(f"{file.name}: is empty")
    return file


def write_raw(
    source: Source,
    target: str | os.PathLike[str],
    *,
    interleave: str = "bsq",
    order: str = "little",
    overwrite: bool = False,
    progress: Progress = no_progress,
) -> None:
    """Write a source's numbers without a header, and their layout in a sidecar beside them.

    ``interleave`` is bsq (band by band), bil (row by row) or bip (pixel by pixel).
    """
    from spectrane.formats.keeping import put_text, sidecar_table, to_toml
    from spectrane.formats.sidecar import path_of

    source = keeping(source, RAW)
    dtype = np.dtype(np.uint8) if source.dtype.kind == "b" else source.dtype
    rows, columns = source.shape
    count = len(source.bands)
    table = checked({"raw": {
        "rows": rows, "columns": columns, "bands": count, "type": dtype.name, "order": order,
        "interleave": interleave,
    }}, os.fspath(target)).raw  # fmt: skip
    assert table is not None
    with written_whole(target, overwrite=overwrite) as file:
        step = max(1, (8 << 20) // (columns * count * dtype.itemsize))
        runs = [[band] for band in range(count)] if interleave == "bsq" else [list(range(count))]
        for number, bands in enumerate(runs):
            for top in range(0, rows, step):
                part = (top, min(top + step, rows))
                pixels = source.read(bands, (part, (0, columns)))
                values = pixels.values.astype(dtype_of(table))
                turn = {"bsq": (0, 1, 2), "bil": (1, 0, 2), "bip": (1, 2, 0)}[interleave]
                file.write(np.ascontiguousarray(values.transpose(turn)).data)
                progress(number * rows + part[1], len(runs) * rows)
    text = to_toml({"raw": table.model_dump()} | sidecar_table(source))
    put_text(path_of(os.fspath(target)), text)
