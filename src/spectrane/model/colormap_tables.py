"""Colour maps as tables of text: a row of red, green, blue and alpha per entry."""

from __future__ import annotations

import csv
import io

import numpy as np
from numpy.typing import NDArray


def table_of(entries: NDArray[np.uint8]) -> str:
    r"""Return entries as CSV, with a heading.

    >>> table_of(np.array([[1, 2, 3, 255]], np.uint8))
    'red,green,blue,alpha\n1,2,3,255\n'
    """
    rows = "".join(",".join(map(str, entry)) + "\n" for entry in entries.tolist())
    return "red,green,blue,alpha\n" + rows


def entries_of(text: str) -> NDArray[np.uint8]:
    """Return the entries of a CSV, which may lack alpha and a heading. Raises ValueError.

    >>> entries_of("1,2,3")
    array([[  1,   2,   3, 255]], dtype=uint8)
    """
    try:
        rows = [row for row in csv.reader(io.StringIO(text)) if row]
    except csv.Error as error:
        raise ValueError(str(error)) from error
    numbers = [[int(v) for v in row] for row in rows if row[0].strip().isdecimal()]
    entries = np.array([row + [255] * (4 - len(row)) for row in numbers])
    if not len(entries) or entries.min() < 0 or entries.max() > 255:
        raise ValueError("numbers outside 0 to 255")
    return entries.astype(np.uint8)
