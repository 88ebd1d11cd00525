"""How voxels lie in the patient: x to the right, y to the front, z to the head (RAS+)."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from spectrane.model.grid import Grid

F64 = NDArray[np.float64]
LETTERS = (("L", "R"), ("P", "A"), ("I", "S"))
"""What lies at the low and the high end of each patient axis."""
SIDES_OF_THE_BODY = {
    "L": "left", "R": "right", "P": "posterior", "A": "anterior", "I": "inferior", "S": "superior",
}  # fmt: skip


def reach(grid: Grid) -> tuple[F64, F64]:
    """Return the least and greatest x, y, z of a volume's voxels, edges included, in mm."""
    corners = np.array(list(itertools.product(*[(-0.5, n - 0.5) for n in grid.shape])))
    places = corners @ grid.matrix[:3, :3].T + grid.matrix[:3, 3]
    return places.min(axis=0), places.max(axis=0)


def aligned_axes(grid: Grid) -> tuple[int, int, int]:
    """Return for each patient axis the voxel axis that runs along it best.

    >>> aligned_axes(Grid((2, 2, 2), ((0, 0, 3, 0), (1, 0, 0, 0), (0, 2, 0, 0), (0, 0, 0, 1))))
    (2, 0, 1)
    """
    turn = np.abs(grid.matrix[:3, :3] / np.linalg.norm(grid.matrix[:3, :3], axis=0))
    best = max(itertools.permutations(range(3)), key=lambda p: sum(turn[k, p[k]] for k in range(3)))
    return best[0], best[1], best[2]


def directions(grid: Grid) -> tuple[str, str, str]:
    """Return in words which way i, j and k run, each along the patient axis it follows best.

    >>> directions(Grid((2, 2, 2), ((-1, 0, 0, 0), (0, 0, 2, 0), (0, -3, 0, 0), (0, 0, 0, 1))))
    ('right to left', 'superior to inferior', 'posterior to anterior')
    """
    letters = [""] * 3
    for patient, voxel in enumerate(aligned_axes(grid)):
        low, high = (SIDES_OF_THE_BODY[letter] for letter in LETTERS[patient])
        forward = grid.matrix[patient, voxel] > 0
        letters[voxel] = f"{low} to {high}" if forward else f"{high} to {low}"
    return letters[0], letters[1], letters[2]


def letters_of(direction: F64) -> str:
    """Return which side of the patient a direction leads to, in the letters of DICOM.

    The letters of the patient axes it follows, the nearest first, without those it follows by less
    than 15 degrees (PS3.3 C.7.6.1.1.1, which leaves open how little counts).

    >>> letters_of(np.array([-1.0, 0, 0])), letters_of(np.array([0, 0.6, 0.8]))
    ('L', 'SA')
    """
    length = np.linalg.norm(direction)
    order = np.argsort(-np.abs(direction), kind="stable")
    return "".join(LETTERS[axis][int(direction[axis] > 0)] for axis in order
                   if abs(direction[axis]) > np.sin(np.radians(15)) * length)  # fmt: skip


def oblique(grid: Grid) -> float:
    """Return by how many degrees the voxel axis furthest off its patient axis leans away from it.

    >>> oblique(Grid((2, 2, 2), ((2, 0, 0, 0), (0, 2, 0, 0), (0, 0, 5, 0), (0, 0, 0, 1))))
    0.0
    """
    turn = np.abs(grid.matrix[:3, :3] / np.linalg.norm(grid.matrix[:3, :3], axis=0))
    along = [turn[patient, voxel] for patient, voxel in enumerate(aligned_axes(grid))]
    return float(np.degrees(np.arccos(min(1.0, min(along)))))


def own_turn(grid: Grid) -> F64:
    """Return the rotation (3x3) from a volume's own axes to the patient's.

    i and j stay in their plane and the third axis stands upright on it (slices of a leaning gantry
    are cut as they were made); each counts along the patient axis it follows best, so that a volume
    that is not turned has none.

    >>> grid = Grid((2, 2, 2), ((-1, 0, 0, 9), (0, 0, 2, 0), (0, 3, 0, 0), (0, 0, 0, 1)))
    >>> own_turn(grid).tolist()
    [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]]
    """
    first, second = grid.matrix[:3, 0], grid.matrix[:3, 1]
    first = first / np.linalg.norm(first)
    second = second - (second @ first) * first
    second = second / np.linalg.norm(second)
    own = np.stack([first, second, np.cross(first, second)], axis=1)
    ordered = own[:, list(aligned_axes(grid))]
    return np.asarray(ordered * np.sign(np.diag(ordered)) + 0.0)


def turned_by(grid: Grid) -> float:
    """Return by how many degrees a volume's own axes are turned from the patient's, the furthest.

    >>> turned_by(Grid((2, 2, 2), ((1, 0, 0, 0), (0, 1, 1, 0), (0, 0, 2, 0), (0, 0, 0, 1))))
    0.0
    """
    return float(np.degrees(np.arccos(min(1.0, float(np.diag(own_turn(grid)).min())))))


def turned_back(grid: Grid, turn: F64) -> Grid:
    """Return a grid as it lies seen along turned axes, about the patient's origin."""
    back = np.eye(4)
    back[:3, :3] = turn.T
    matrix = back @ grid.matrix
    return replace(grid, affine=tuple(map(tuple, matrix.tolist())))


def axis_apart(one: Grid, other: Grid) -> str:
    """Return along which patient axis two volumes do not meet, in words; "" where they may.

    >>> at = lambda x: Grid((2, 2, 2), ((1, 0, 0, x), (0, 1, 0, 0), (0, 0, 1, 0), (0, 0, 0, 1)))
    >>> axis_apart(at(0), at(10))
    'x reaches from -0.5 to 1.5 mm in one, from 9.5 to 11.5 mm in the other'
    """
    for axis, low, high, least, most in zip("xyz", *reach(one), *reach(other), strict=True):
        if min(high, most) <= max(low, least):
            return (
                f"{axis} reaches from {low:.6g} to {high:.6g} mm in one, from {least:.6g} to "
                f"{most:.6g} mm in the other"
            )
    return ""
