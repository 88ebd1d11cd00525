"""Resampling by kernels that mix neighbours, without ever mixing in what is invalid.

Kernels are separable; each output has the same number of taps along an axis. When shrinking by
more than 1, ``bilinear``, ``cubic`` and ``lanczos`` are widened by that factor, per axis.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record

F64: TypeAlias = NDArray[np.float64]
NOTHING = 1e-12
"""Weights that only rounding keeps from 0."""


def bilinear(x: F64) -> F64:
    """Return 1 - |x| within one pixel."""
    return np.maximum(0.0, 1.0 - np.abs(x))


def cubic(x: F64) -> F64:
    """Return the convolution cubic with a = -½ (Keys, 1981)."""
    a = np.abs(x)
    near = (1.5 * a - 2.5) * a * a + 1.0
    far = ((-0.5 * a + 2.5) * a - 4.0) * a + 2.0
    return np.where(a <= 1, near, np.where(a < 2, far, 0.0))


def lagrange(x: F64) -> F64:
    """Return the third-order Lagrange polynomials on four points, as a kernel."""
    a = np.abs(x)
    near = (1 - a * a) * (2 - a) / 2
    far = (1 - a) * (2 - a) * (3 - a) / 6
    return np.where(a <= 1, near, np.where(a < 2, far, 0.0))


def lanczos(x: F64) -> F64:
    """Return sinc(x) sinc(x / 3) within three pixels."""
    weights = np.where(np.abs(x) < 3, np.sinc(x) * np.sinc(x / 3), 0.0)
    return np.where(np.abs(weights) < NOTHING, 0.0, weights)


KERNELS: dict[str, tuple[Callable[[F64], F64], int, bool]] = {
    "bilinear": (bilinear, 1, True),
    "cubic": (cubic, 2, True),
    "lagrange": (lagrange, 2, False),
    "lanczos": (lanczos, 3, True),
}
"""Name -> kernel, its reach in pixels, and whether it widens when shrinking."""


@record(frozen=True)
class Taps:
    """Along one axis: output k takes inputs ``first[k] + 0…n-1`` with ``weights[k]`` (k, n).

    ``first`` may reach outside the raster; such taps have weight 0.
    """

    first: NDArray[np.intp]
    weights: F64

    @property
    def count(self) -> int:
        """Taps per output."""
        return int(self.weights.shape[1])


def taps(kernel: str, positions: F64, step: float, length: int) -> Taps:
    """Return the taps of outputs whose centres lie at corner-based ``positions``.

    ``step`` is how many inputs an output covers; ``length`` how many inputs there are. Lanczos
    weights are normalised to sum 1; taps outside the raster are left out.
    """
    function, reach, widens = KERNELS[kernel]
    wide = max(1.0, step) if widens else 1.0
    at = positions - 0.5  # inputs lie at whole numbers now
    support = reach * wide
    count = int(np.ceil(2 * support)) + 1
    first = np.floor(at - support).astype(np.intp) + 1
    index = first[:, np.newaxis] + np.arange(count)
    weights = function((index - at[:, np.newaxis]) / wide) / wide
    if kernel == "lanczos" or wide > 1:
        weights /= weights.sum(axis=1, keepdims=True)
    weights = np.where((index < 0) | (index >= length), 0.0, weights)
    return Taps(first, weights)


def convolved(
    values: NDArray[Any], valid: NDArray[np.bool_] | None, rows: Taps, columns: Taps,
    origin: tuple[int, int],
) -> tuple[F64, NDArray[np.bool_]]:  # fmt: skip
    """Return resampled values (outputs) in float64 and where they are valid.

    ``values`` (rows, columns) begin at ``origin`` of the raster. Both the summed absolute and the
    summed signed weight of the valid taps must reach half of the full; where a tap is invalid,
    the rest is renormalised and clamped to the range of its valid taps.
    """
    wide = values.astype(np.float64)
    if valid is None or valid.all():
        total = _full(rows, columns)
        result = _along(_along(wide, rows, origin[0]).T, columns, origin[1]).T / total
        return result, np.ones(result.shape, bool)
    wide = np.where(valid, wide, 0.0)
    kept = valid.astype(np.float64)
    absolute = [Taps(t.first, np.abs(t.weights)) for t in (rows, columns)]

    def both(plane: F64, along: Taps, across: Taps) -> F64:
        return _along(_along(plane, along, origin[0]).T, across, origin[1]).T

    signed, magnitude = both(kept, rows, columns), both(kept, *absolute)
    whole = _full(*absolute)
    enough = (magnitude >= 0.5 * whole * (1 - 1e-9)) & (
        signed >= 0.5 * _full(rows, columns) * (1 - 1e-9)
    )
    lost = magnitude < whole * (1 - 1e-12)
    result = both(wide, rows, columns) / np.where(enough, signed, 1.0)
    low, high = (_range(np.where(valid, values, fill), rows, columns, origin, pick) for fill, pick
                 in ((np.inf, np.minimum), (-np.inf, np.maximum)))  # fmt: skip
    result = np.where(lost, np.clip(result, low, high), result)
    return np.where(enough, result, np.nan), enough


def _full(rows: Taps, columns: Taps) -> F64:
    return np.asarray(np.multiply.outer(rows.weights.sum(axis=1), columns.weights.sum(axis=1)))


def _along(plane: F64, axis: Taps, origin: int) -> F64:
    out = np.zeros((len(axis.first), plane.shape[1]))
    for k in range(axis.count):
        index = np.clip(axis.first + k - origin, 0, len(plane) - 1)
        out += plane[index] * axis.weights[:, k, np.newaxis]
    return out


def _range(plane: F64, rows: Taps, columns: Taps, origin: tuple[int, int], pick: Any) -> F64:
    """Return the least or greatest valid tap of each output."""
    fill = np.inf if pick is np.minimum else -np.inf
    for axis, start in ((rows, origin[0]), (columns, origin[1])):
        out = np.full((len(axis.first), plane.shape[1]), fill)
        for k in range(axis.count):
            used = axis.weights[:, k] != 0
            index = np.clip(axis.first + k - start, 0, len(plane) - 1)
            pick(out, np.where(used[:, np.newaxis], plane[index], fill), out=out)
        plane = out.T
    return plane
