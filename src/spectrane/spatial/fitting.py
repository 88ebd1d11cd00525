"""Tie points: the transformation that fits them best, and how far each misses.

Positions are corner-based (column, row) and map (x, y). All fits are least squares of the map
positions; the projective one starts from the direct linear solution and is refined.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch, nearest

F64 = NDArray[np.float64]
Fit = Literal["similarity", "affine", "projective", "polynomial"]
FITS: dict[str, int] = dict(zip(get_args(Fit), (2, 3, 4, 6), strict=True))
"""Kind of fit -> how many points it needs at least; ``polynomial`` is of second order."""
_FLAT = 1e-6
"""Points whose spread across is below this share of that along lie on a line."""
_ROUNDS = 50


@record(frozen=True)
class Transformation:
    """From (column, row) to (x, y), by kind; positions are normalised by ``at`` and ``size``.

    ``numbers`` are (terms, 2) coefficients, or the 3x3 matrix of a projective one.
    """

    kind: str
    numbers: tuple[tuple[float, ...], ...]
    at: tuple[float, float]
    size: float

    def forward(self, columns: Any, rows: Any) -> tuple[F64, F64]:
        """Return map positions."""
        u, v = self._normal(np.asarray(columns, float), np.asarray(rows, float))
        numbers = np.array(self.numbers)
        if self.kind == "projective":
            below = numbers[2, 0] * u + numbers[2, 1] * v + numbers[2, 2]
            x = (numbers[0, 0] * u + numbers[0, 1] * v + numbers[0, 2]) / below
            return x, (numbers[1, 0] * u + numbers[1, 1] * v + numbers[1, 2]) / below
        terms = _terms(self.kind, u, v)
        return np.asarray(terms @ numbers[:, 0]), np.asarray(terms @ numbers[:, 1])

    def _normal(self, columns: F64, rows: F64) -> tuple[F64, F64]:
        return (columns - self.at[0]) / self.size, (rows - self.at[1]) / self.size

    def slopes(self, columns: Any, rows: Any) -> F64:
        """Return the 2x2 change of (x, y) by (column, row) at each position (..., 2, 2)."""
        step = self.size * 1e-4
        made = []
        for dc, dr in ((step, 0.0), (0.0, step)):
            ahead = self.forward(np.add(columns, dc), np.add(rows, dr))
            behind = self.forward(np.subtract(columns, dc), np.subtract(rows, dr))
            made.append([(a - b) / (2 * step) for a, b in zip(ahead, behind, strict=True)])
        (xc, yc), (xr, yr) = made
        return np.stack([np.stack([xc, xr], -1), np.stack([yc, yr], -1)], -2)

    def inverse(self, x: Any, y: Any) -> tuple[F64, F64]:
        """Return (columns, rows) of map positions, NaN where Newton's steps find none."""
        x, y = np.asarray(x, float), np.asarray(y, float)
        if self.kind == "projective":
            return self._projective_inverse(x, y)
        middle = self.forward(*self.at)
        slope = np.linalg.inv(self.slopes(*self.at))
        dx, dy = x - middle[0], y - middle[1]
        columns = self.at[0] + slope[0, 0] * dx + slope[0, 1] * dy
        rows = self.at[1] + slope[1, 0] * dx + slope[1, 1] * dy
        if self.kind != "polynomial":
            return columns, rows
        with np.errstate(all="ignore"):
            for _ in range(_ROUNDS):
                found = self.forward(columns, rows)
                dx, dy = x - found[0], y - found[1]
                j = self.slopes(columns, rows)
                area = j[..., 0, 0] * j[..., 1, 1] - j[..., 0, 1] * j[..., 1, 0]
                dc = (j[..., 1, 1] * dx - j[..., 0, 1] * dy) / area
                dr = (j[..., 0, 0] * dy - j[..., 1, 0] * dx) / area
                columns, rows = columns + dc, rows + dr
                if not (np.nanmax(np.abs(dc), initial=0) > 1e-6 or
                        np.nanmax(np.abs(dr), initial=0) > 1e-6):  # fmt: skip
                    break
            missed = np.hypot(dc, dr) > 1e-3
        return np.where(missed, np.nan, columns), np.where(missed, np.nan, rows)

    def _projective_inverse(self, x: F64, y: F64) -> tuple[F64, F64]:
        back = np.linalg.inv(np.array(self.numbers))
        with np.errstate(all="ignore"):
            below = back[2, 0] * x + back[2, 1] * y + back[2, 2]
            # Beyond the horizon the sign turns: nothing of the picture is there.
            ahead = np.array(self.numbers) @ (0.0, 0.0, 1.0)
            seen = below * np.sign(back[2] @ (ahead / ahead[2])) > 0
            u = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) / below
            v = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / below
        columns, rows = u * self.size + self.at[0], v * self.size + self.at[1]
        return np.where(seen, columns, np.nan), np.where(seen, rows, np.nan)

    def affine(self) -> tuple[tuple[float, ...], ...] | None:
        """Return the 3x3 affine of a fit that is one, else None."""
        if self.kind not in ("similarity", "affine"):
            return None
        x0, y0 = self.forward(0.0, 0.0)
        xc, yc = self.forward(self.size, 0.0)
        xr, yr = self.forward(0.0, self.size)
        return (
            (float(xc - x0) / self.size, float(xr - x0) / self.size, float(x0)),
            (float(yc - y0) / self.size, float(yr - y0) / self.size, float(y0)),
            (0.0, 0.0, 1.0),
        )


def _terms(kind: str, u: F64, v: F64) -> F64:
    one = np.ones_like(u)
    listed = [one, u, v]
    if kind == "polynomial":
        listed += [u * u, u * v, v * v]
    return np.stack(listed, axis=-1)


def fit(pixels: F64, places: F64, kind: str) -> Transformation:
    """Fit (n, 2) pixel positions (column, row) to (n, 2) map positions (x, y).

    Raises GridMismatch for too few points, points on a line or at one place, and a kind there
    is not.

    >>> square = np.array([[0, 0], [10, 0], [10, 10], [0, 10]], float)
    >>> fit(square, square * 2 + 100, "affine").forward(5, 5)[0].item()
    110.0
    """
    if kind not in FITS:
        raise GridMismatch(f"fit {kind!r}{nearest(kind, FITS)}")
    if len(pixels) < FITS[kind]:
        raise GridMismatch(
            f"a {kind} fit needs at least {FITS[kind]} points; there are {len(pixels)}"
        )
    at = pixels.mean(axis=0)
    size = float(np.abs(pixels - at).max()) or 1.0
    for which, points in (("rows and columns", pixels), ("map positions", places)):
        _check_spread(which, points, kind)
    u, v = ((pixels - at) / size).T
    if kind == "projective":
        numbers = _projective(np.column_stack([u, v]), places)
    elif kind == "similarity":
        numbers = _similarity(u, v, places)
    else:
        terms = _terms(kind, u, v)
        if np.linalg.matrix_rank(terms, tol=1e-9) < terms.shape[1]:
            raise GridMismatch(
                f"the points do not settle a {kind} fit: they lie on one curve; add points "
                "elsewhere, or take a simpler fit"
            )
        numbers = np.asarray(np.linalg.lstsq(terms, places, rcond=None)[0], np.float64)
    return Transformation(kind, tuple(map(tuple, numbers.tolist())), (float(at[0]), float(at[1])),
                          size)  # fmt: skip


def _check_spread(which: str, points: F64, kind: str) -> None:
    spread = np.linalg.svd(points - points.mean(axis=0), compute_uv=False)
    needed = spread[0] == 0 if kind == "similarity" else spread[1] <= _FLAT * spread[0]
    if needed:
        raise GridMismatch(
            f"the tie points' {which} lie on one line or at one place, which settles no "
            f"{kind} fit; add a point away from it"
        )


def _similarity(u: F64, v: F64, places: F64) -> F64:
    """Turn, scale and move; rows grow down the map, so that the picture is not mirrored."""
    n = len(u)
    rows = np.zeros((2 * n, 4))
    rows[:n, 0], rows[:n, 1], rows[:n, 2] = u, v, 1.0
    rows[n:, 0], rows[n:, 1], rows[n:, 3] = -v, u, 1.0
    a, b, x, y = np.linalg.lstsq(rows, places.T.ravel(), rcond=None)[0].tolist()
    return np.array([[x, y], [a, b], [b, -a]])


def _projective(points: F64, places: F64) -> F64:
    middle = places.mean(axis=0)
    scale = float(np.abs(places - middle).max()) or 1.0
    x, y = ((places - middle) / scale).T
    u, v = points.T
    one, zero = np.ones_like(u), np.zeros_like(u)
    system = np.concatenate([
        np.column_stack([u, v, one, zero, zero, zero, -x * u, -x * v, -x]),
        np.column_stack([zero, zero, zero, u, v, one, -y * u, -y * v, -y]),
    ])  # fmt: skip
    spread, vectors = np.linalg.svd(system)[1:]
    if spread[7] < 1e-9 * spread[0]:
        raise GridMismatch(
            "the points do not settle a projective fit: three of four lie on one line; add points"
        )
    numbers = vectors[-1].reshape(3, 3)
    below = points @ numbers[2, :2] + numbers[2, 2]
    if below.min() * below.max() <= 0:
        raise GridMismatch(
            "no projective view fits the points: their order round the picture is not that on "
            "the map; check rows and columns"
        )
    numbers = _refined(numbers / numbers[2, 2], points, np.column_stack([x, y]))
    back = np.array([[scale, 0, middle[0]], [0, scale, middle[1]], [0, 0, 1]])
    return np.asarray(back @ numbers)


def _refined(numbers: F64, points: F64, wanted: F64) -> F64:
    """Take Gauss-Newton steps from the direct solution to least squares on the map."""
    h = numbers.ravel()[:8] / numbers[2, 2]
    u, v = points.T
    one, zero = np.ones_like(u), np.zeros_like(u)
    for _ in range(_ROUNDS):
        below = h[6] * u + h[7] * v + 1.0
        x, y = (h[0] * u + h[1] * v + h[2]) / below, (h[3] * u + h[4] * v + h[5]) / below
        slopes = np.concatenate([
            np.column_stack([u, v, one, zero, zero, zero, -x * u, -x * v]),
            np.column_stack([zero, zero, zero, u, v, one, -y * u, -y * v]),
        ]) / np.concatenate([below, below])[:, np.newaxis]  # fmt: skip
        step = np.linalg.lstsq(slopes, (wanted - np.column_stack([x, y])).T.ravel(), rcond=None)[0]
        h = h + step
        if np.abs(step).max() < 1e-14:
            break
    return np.asarray(np.append(h, 1.0).reshape(3, 3))


@record(frozen=True)
class Miss:
    """How far one tie point misses, in map units and in pixels; alone: fitted without it."""

    point: str
    row: float
    column: float
    x: float
    y: float
    miss_x: float
    miss_y: float
    miss: float
    miss_pixels: float
    miss_alone: float | None


def misses(names: Sequence[str], pixels: F64, places: F64, found: Transformation) -> list[Miss]:
    """Return each point's miss (fitted minus given); alone, where enough points are left."""
    x, y = found.forward(pixels[:, 0], pixels[:, 1])
    delta = np.column_stack([x, y]) - places
    slopes = found.slopes(pixels[:, 0], pixels[:, 1])
    in_pixels = np.linalg.norm(np.linalg.solve(slopes, delta[..., np.newaxis])[..., 0], axis=1)
    listed = []
    for k, name in enumerate(names):
        listed.append(Miss(
            name, float(pixels[k, 1]), float(pixels[k, 0]), float(places[k, 0]),
            float(places[k, 1]), float(delta[k, 0]), float(delta[k, 1]),
            float(np.hypot(*delta[k])), float(in_pixels[k]), _alone(k, pixels, places, found.kind),
        ))  # fmt: skip
    return listed


def _alone(k: int, pixels: F64, places: F64, kind: str) -> float | None:
    """Return how far a point misses when the others alone are fitted, in map units."""
    try:
        made = fit(*_others(k, pixels, places), kind)
    except GridMismatch:
        return None
    x, y = made.forward(pixels[k, 0], pixels[k, 1])
    return float(np.hypot(float(x) - places[k, 0], float(y) - places[k, 1]))


_EXPLAINED = 0.3
"""What is left of the misses without a point that is wrong, at most, by what it was with it."""

_STIFF = 0.1
"""The same for the similarity fit: pictures that are sheared must not be taken for wrong points."""


def suspects(names: Sequence[str], pixels: F64, places: F64, kind: str) -> tuple[str, ...]:
    """Return the points of which one is wrong: none where nothing speaks for it, or several where
    the data cannot tell which.

    A point is suspected without which the others fit far better. Where several are, the stiffer
    similarity fit decides if it can: opposite corners of a rectangle pull an affine fit alike.
    """
    whole = _left(pixels, places, kind)
    if whole is None or whole <= 1e-9 * float(np.abs(places - places.mean(axis=0)).max()):
        return ()
    without = {k: _left(*_others(k, pixels, places), kind) for k in range(len(names))}
    wrong = [k for k, left in without.items() if left is None or left < _EXPLAINED * whole]
    if len(wrong) > 1:
        stiff = {k: _left(*_others(k, pixels, places), "similarity") for k in wrong}
        told = sorted((left, k) for k, left in stiff.items() if left is not None)
        if len(told) == len(wrong):
            (least, k), (second, _) = told[:2]
            wrong = [k] if least < min(_EXPLAINED * second, _STIFF * whole) else wrong
    return tuple(names[k] for k in wrong)


def _others(k: int, pixels: F64, places: F64) -> tuple[F64, F64]:
    return np.delete(pixels, k, axis=0), np.delete(places, k, axis=0)


def _left(pixels: F64, places: F64, kind: str) -> float | None:
    """Return the standard deviation that a fit leaves; None where it goes through all points."""
    spare = 2 * (len(pixels) - FITS[kind])
    if spare <= 0:
        return None
    try:
        x, y = fit(pixels, places, kind).forward(pixels[:, 0], pixels[:, 1])
    except GridMismatch:
        return None
    return float(np.sqrt((((x - places[:, 0]) ** 2 + (y - places[:, 1]) ** 2).sum()) / spare))


def rms(values: Sequence[float]) -> float:
    """Return the root of the mean square."""
    return float(np.sqrt(np.mean(np.square(values)))) if len(values) else 0.0
