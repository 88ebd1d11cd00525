"""Putting planes in order: by where they lie in the patient, never by name or number."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.formats.dicom.planes import KEYS, PlaneRecord
from spectrane.kernels.records import record
from spectrane.model.addresses import file_name
from spectrane.model.errors import FormatError

F64 = NDArray[np.float64]
EVEN = 0.01
"""Gaps may differ from the spacing by such a share of it (PS3.3 leaves it to us)."""
_SAME_PLACE = 1e-3
"""Millimetres within which two planes lie at one place, where no thickness says otherwise."""
_MOST_LINES, _MOST_PITCHES = 16, 4
_TIMES = ("TriggerTime", "NominalCardiacTriggerDelayTime", "FrameReferenceTime")
"""What tells times apart, in milliseconds."""


class UnevenSlices(FormatError):
    """Slices of a series are not evenly spaced; ``reason`` says how."""

    def __init__(self, message: str, reason: str = "") -> None:
        super().__init__(message)
        self.reason = reason


@record(frozen=True)
class Arrangement:
    """Planes by frame and place: ``planes[frame][k]``, the voxels' affine (RAS+), what to tell.

    ``depths`` are the places along the normal where they are uneven and are to be evened out.
    """

    planes: list[list[PlaneRecord]]
    names: list[str]
    affine: F64
    placed_by: str
    told: list[str]
    depths: F64 | None = None
    times: list[float | None] | None = None


def arranged(planes: Sequence[PlaneRecord], spacing: str | None, series: str) -> Arrangement:
    """Sort planes along the slice normal and find the volume's affine.

    Raises FormatError, which names the file and the element, where planes do not belong together;
    with the table of positions where gaps are uneven and ``spacing`` does not say what to do.
    """
    _check_alike(planes)
    placed = [
        plane for plane in planes if plane.position is not None and plane.orientation is not None
    ]
    if not placed:
        return _as_listed(planes)
    if len(placed) < len(planes):
        missing = next(plane for plane in planes if plane not in placed)
        element = "ImagePositionPatient (0020,0032)" if missing.position is None else (
            "ImageOrientationPatient (0020,0037)")  # fmt: skip
        raise FormatError(f"{missing.name}: {element} is missing; {len(placed)} other slices of "
                          f"{series} have it")  # fmt: skip
    kept, told = _without_copies(placed)
    normal = kept[0].normal / np.linalg.norm(kept[0].normal)
    stacks = _by_place(kept, normal)
    frames, names, more = _frames(stacks)
    arrangement = _measured(frames, names, normal, spacing, [*told, *more], series)
    return replace(arrangement, times=[_time_of(frame[0], names) for frame in frames])


def _time_of(plane: PlaneRecord, names: Sequence[str]) -> float | None:
    """Return a frame's time in seconds, where that is what frames are named by."""
    for (keyword, _, name), value in zip(KEYS, plane.keys, strict=True):
        if keyword in _TIMES and isinstance(value, float) and name.format(value) in names:
            return value / 1000
    return None


def _check_alike(planes: Sequence[PlaneRecord]) -> None:
    """Raise FormatError for a plane of another size, orientation or kind than most."""
    tests: tuple[tuple[str, Callable[[PlaneRecord], Any], float], ...] = (
        ("Rows (0028,0010)", lambda p: p.head.layout.rows, 0),
        ("Columns (0028,0011)", lambda p: p.head.layout.columns, 0),
        ("PhotometricInterpretation (0028,0004)", lambda p: p.head.layout.photometric, 0),
        ("ImageOrientationPatient (0020,0037)", lambda p: p.orientation, 2e-3),
        ("PixelSpacing (0028,0030)", lambda p: p.spacing, 1e-4),
    )
    for element, value, near in tests:
        counts: Counter[Hashable] = Counter(_rough(value(plane)) for plane in planes)
        most = counts.most_common(1)[0][0]
        usual = next(value(plane) for plane in planes if _rough(value(plane)) == most)
        others = [plane for plane in planes if not _alike(value(plane), usual, near)]
        if not others:
            continue
        odd = others[0]
        raise FormatError(
            f"{odd.name}: {element} is {_format_value(value(odd))}; {len(planes) - len(others)} of "
            f"the {len(planes)} slices have {_format_value(usual)}; move what does not belong to "
            "the series out of the folder"
        )


def _rough(value: Any) -> Hashable:
    """Return a value to count by; numbers that nearly agree mostly count as one."""
    return tuple(np.round(value, 2) + 0.0) if isinstance(value, tuple) else value


def _alike(value: Any, usual: Any, near: float) -> bool:
    if not isinstance(value, tuple) or not isinstance(usual, tuple):
        return bool(value == usual)
    return bool(np.abs(np.subtract(value, usual)).max() <= near)


def _format_value(value: Any) -> str:
    if isinstance(value, tuple):
        return "\\".join(f"{float(number):g}" for number in value)
    return "missing" if value is None else str(value)


def _without_copies(planes: Sequence[PlaneRecord]) -> tuple[list[PlaneRecord], list[str]]:
    """Return planes without those whose instance is there already, and what to tell of them."""
    first: dict[str, PlaneRecord] = {}
    copies = []
    for plane in planes:
        if plane.instance.startswith(" ") or first.setdefault(plane.instance, plane) is plane:
            continue
        copies.append(f"{_short(plane)} is a copy of {_short(first[plane.instance])}")
    gone = [plane for plane in planes if first.get(plane.instance, plane) is plane]
    if not copies:
        return gone, []
    more = f", and {len(copies) - 4} more" if len(copies) > 4 else ""
    count = f"{len(copies)} duplicate{'s' if len(copies) > 1 else ''} left out"
    return gone, [f"{count}: {'; '.join(copies[:4])}{more}"]


def _short(plane: PlaneRecord) -> str:
    return file_name(plane.name)


def _by_place(planes: Sequence[PlaneRecord], normal: F64) -> list[list[PlaneRecord]]:
    """Return planes grouped by their place along the normal, from low to high."""
    places = np.array([plane.position for plane in planes]) @ normal
    order = np.argsort(places, kind="stable")
    stacks: list[list[PlaneRecord]] = []
    before = -np.inf
    thickness = planes[0].thickness
    near = _SAME_PLACE if thickness is None else EVEN * thickness
    for index in order:
        if places[index] - before > near:
            stacks.append([])
        stacks[-1].append(planes[index])
        before = places[index]
    return stacks


def _frames(
    stacks: list[list[PlaneRecord]],
) -> tuple[list[list[PlaneRecord]], list[str], list[str]]:
    """Return planes by frame, the frames' names, and what to tell."""
    counts = {len(stack) for stack in stacks}
    if counts == {1}:
        return [[stack[0] for stack in stacks]], [""], []
    sorted_stacks = _by_keys(stacks) if len(counts) == 1 else None
    if sorted_stacks is not None:
        found, names = sorted_stacks
        return [list(frame) for frame in zip(*found, strict=True)], names, []
    ordered = [sorted(stack, key=lambda p: (p.number, p.frame, p.head.name)) for stack in stacks]
    if len(counts) == 1:
        count = counts.pop()
        told = (f"{count} slices lie at each of {len(stacks)} places and nothing says what tells "
                "them apart; they are frames in the order of InstanceNumber")  # fmt: skip
        frames = [list(frame) for frame in zip(*ordered, strict=True)]
        return frames, [f"frame {k}" for k in range(1, count + 1)], [told]
    many = [stack for stack in ordered if len(stack) > 1]
    named = "; ".join(", ".join(_short(plane) for plane in stack) for stack in many[:4])
    told = (f"several slices lie at {len(many)} places; the lowest InstanceNumber is taken, the "
            f"others are left out: {named}{'; …' if len(many) > 4 else ''}")  # fmt: skip
    return [[stack[0] for stack in ordered]], [""], [told]


def _by_keys(
    stacks: list[list[PlaneRecord]],
) -> tuple[list[list[PlaneRecord]], list[str]] | None:
    """Return stacks sorted by what tells their planes apart, the same at every place."""
    varying = [k for k in range(len(KEYS)) if len({stack.keys[k] for stack in stacks[0]}) > 1]
    for chosen in [*((k,) for k in varying), tuple(varying)]:
        stacks_sorted = [sorted(stack, key=lambda p, c=chosen: _sortable(p, c)) for stack in stacks]  # type: ignore[misc]
        rows = [[_sortable(plane, chosen) for plane in stack] for stack in stacks_sorted]
        if chosen and all(row == rows[0] and len(set(row)) == len(row) for row in rows):
            names = [", ".join(KEYS[k][2].format(one.keys[k]) for k in chosen
                               if one.keys[k] is not None) for one in stacks_sorted[0]]  # fmt: skip
            return stacks_sorted, names
    return None


def _sortable(plane: PlaneRecord, chosen: tuple[int, ...]) -> tuple[tuple[str, Any], ...]:
    return tuple((type(plane.keys[k]).__name__, plane.keys[k] or 0) for k in chosen)


def _measured(
    frames: list[list[PlaneRecord]], names: list[str], normal: F64, spacing: str | None,
    told: list[str], series: str,
) -> Arrangement:  # fmt: skip
    """Find the step from plane to plane, which may lean (a tilted gantry), and check it."""
    stack = frames[0]
    places = np.array([plane.position for plane in stack], float)
    count = len(stack)
    first = stack[0]
    placed_by = "ImagePositionPatient and ImageOrientationPatient"
    if first.spacing is None:
        told = [*told, "no PixelSpacing (0028,0030): pixels are taken as 1 mm wide and high"]
    if count == 1:
        gap = first.thickness or 1.0
        if first.thickness is None:
            told = [*told, "one slice without a thickness (0018,0050): it is taken as 1 mm"]
        affine = affine_of(first, normal * gap)
        return Arrangement(frames, names, affine, placed_by, told)
    depths = places @ normal
    gaps = np.diff(depths)
    usual = _usual(gaps)
    # The median of the steps' directions, so that one plane that is off does not bend the line.
    lean = np.median(np.diff(places, axis=0) / gaps[:, np.newaxis], axis=0)
    lean += (1 - lean @ normal) * normal
    uneven = bool((np.abs(gaps - usual) > EVEN * usual).any())
    if uneven:
        reason = _missing(stack, gaps, usual)
        if spacing is None:
            raise UnevenSlices(
                f"{series}: the slices are not evenly spaced: {reason}; ask for spacing=resample "
                f"(even slices by linear interpolation) or nominal. Positions along the normal:\n"
                f"{_table(stack, depths, usual)}", reason,
            )  # fmt: skip
        told = [*told, f"the slices are not evenly spaced: {reason}; "
                + ("even ones are interpolated" if spacing == "resample"
                   else f"they are taken as {usual:g} mm apart")]  # fmt: skip
    _check_line(stack, places, depths, lean, usual)
    step = lean * usual if uneven else (places[-1] - places[0]) / (count - 1)
    affine = affine_of(first, step)
    if uneven and spacing == "resample":
        return Arrangement(frames, names, affine, placed_by, told, depths - depths[0])
    tilt = float(np.degrees(np.arccos(np.clip(normal @ lean / np.linalg.norm(lean), -1, 1))))
    if tilt > 0.1:
        placed_by += f"; slices {usual:.6g} mm apart lean by {tilt:.4g} degrees (gantry tilt)"
    return Arrangement(frames, names, affine, placed_by, told)


def _usual(gaps: F64) -> float:
    """Return the gap that occurs most often, within what counts as even; else the median."""
    near = (np.abs(gaps - gaps[:, np.newaxis]) <= EVEN * gaps[:, np.newaxis]).sum(axis=1)
    best = int(near.max())
    return float(np.median(gaps[near == best])) if best > 1 else float(np.median(gaps))


def _check_line(
    stack: Sequence[PlaneRecord], places: F64, depths: F64, lean: F64, usual: float
) -> None:
    """Raise FormatError where first pixels do not lie on one line."""
    starts = places - depths[:, np.newaxis] * lean
    away = np.linalg.norm(starts - np.median(starts, axis=0), axis=1)
    worst = int(np.argmax(away))
    if away[worst] > max(EVEN * usual, 0.05):
        raise FormatError(
            f"{stack[worst].name}: ImagePositionPatient (0020,0032) lies {away[worst]:.4g} mm off "
            f"the line of the other {len(stack) - 1} slices; they make no regular volume"
        )


def _missing(stack: Sequence[PlaneRecord], gaps: F64, usual: float) -> str:
    """Say where the pitch changes, which slices are missing, or how uneven the gaps are."""
    changes = _pitches(stack, gaps)
    if changes:
        return changes
    whole = np.round(gaps / usual)
    if (np.abs(gaps - whole * usual) <= EVEN * usual).all() and (whole >= 1).all():
        wide = np.flatnonzero(whole > 1)
        lost = int((whole - 1).sum())
        named = [f"between {_short(stack[k])} and {_short(stack[k + 1])}" for k in wide[:4]]
        verb = "is" if lost == 1 else "are"
        more = ", …" if len(wide) > 4 else ""
        return f"{lost} {verb} missing, {', '.join(named)}{more}"
    return f"gaps from {gaps.min():.6g} to {gaps.max():.6g} mm"


def _pitches(stack: Sequence[PlaneRecord], gaps: F64) -> str:
    """Say at which places the pitch changes; "" where gaps do not stay alike over runs of them."""
    ends = np.flatnonzero(np.abs(np.diff(gaps)) > EVEN * gaps[:-1]) + 1
    runs = np.split(gaps, ends)
    if not 1 < len(runs) <= _MOST_PITCHES or min(map(len, runs)) < 2:
        return ""
    told = []
    for before, after, k in zip(runs, runs[1:], ends.tolist(), strict=False):
        at = int(k)
        place = np.asarray(stack[at].position) * (-1.0, -1.0, 1.0)
        axis = int(np.argmax(np.abs(stack[at].normal)))
        told.append(f"from {np.median(before):.4g} to {np.median(after):.4g} mm at "
                    f"{'xyz'[axis]} = {place[axis]:.6g}")  # fmt: skip
    return f"pitch changes {', and '.join(told)}"


def _table(stack: Sequence[PlaneRecord], depths: F64, usual: float) -> str:
    """Return the positions as lines: number, mm along the normal, gap before, file."""
    gaps = np.diff(depths, prepend=depths[0] - usual)
    odd = np.abs(gaps - usual) > EVEN * usual
    near = np.convolve(odd, [1, 1, 1, 1, 1], mode="same") > 0
    shown = [k for k in range(len(stack)) if len(stack) <= _MOST_LINES or near[k]][:_MOST_LINES]
    lines = []
    for number, k in enumerate(shown):
        skipped = k - (shown[number - 1] + 1 if number else 0)
        lines += [f"  … {skipped} even ones"] if skipped else []
        mark = " <-" if odd[k] else ""
        gap = "" if k == 0 else f", {gaps[k]:.6g} mm after the one before"
        lines.append(f"  {k + 1}: {depths[k]:.6g} mm, {_short(stack[k])}{gap}{mark}")
    rest = int(odd.sum()) - sum(bool(odd[k]) for k in shown)
    return "\n".join([*lines, *([f"  … and {rest} more uneven ones"] if rest else [])])


def affine_of(plane: PlaneRecord, step: F64) -> F64:
    """Return (i, j, k) of a voxel's centre to patient millimetres, brought from LPS to RAS+.

    i runs along a row (to the next column), j down a column, k by ``step`` (PS3.3 C.7.6.2.1.1).
    """
    assert plane.orientation is not None
    assert plane.position is not None
    down, across = plane.spacing or (1.0, 1.0)
    affine = np.eye(4)
    affine[:3, 0] = np.asarray(plane.orientation[:3]) * across
    affine[:3, 1] = np.asarray(plane.orientation[3:]) * down
    affine[:3, 2] = step
    affine[:3, 3] = plane.position
    return np.diag([-1.0, -1.0, 1.0, 1.0]) @ affine


def _cine_times(planes: Sequence[PlaneRecord]) -> list[float] | None:
    """Return when each frame of a cine is, in seconds from the first (C.7.6.5); None of others."""
    data = planes[0].head.data
    if len(planes) < 2 or len({plane.head.name for plane in planes}) > 1:
        return None
    steps = [float(one) for one in data.values("FrameTimeVector")]
    if len(steps) == len(planes) and min(steps[1:]) > 0:
        return [float(one) for one in np.cumsum([0.0, *steps[1:]]) / 1000]
    rate = data.number("CineRate") or data.number("RecommendedDisplayFrameRate")
    step = data.number("FrameTime") or (1000.0 / rate if rate else None)
    if step is None or not step > 0:
        return None
    return [k * float(step) / 1000 for k in range(len(planes))]


def _as_listed(planes: Sequence[PlaneRecord]) -> Arrangement:
    """Stack planes that no element places: in the order of their numbers, and say so."""
    ordered = sorted(planes, key=lambda p: (p.number, p.head.name, p.frame))
    first = ordered[0]
    down, across = first.spacing or (1.0, 1.0)
    gap = first.thickness or 1.0
    affine = np.diag([-across, -down, gap, 1.0])
    times = _cine_times(ordered)
    if times is not None:
        names = [f"frame {k}" for k in range(1, len(ordered) + 1)]
        by = "nothing: the frames of a cine, over time"
        return Arrangement([[one] for one in ordered], names, affine, by, [], times=list(times))
    told = [] if len(ordered) == 1 else [
        "no ImagePositionPatient (0020,0032): the frames lie one on another in the order they are "
        f"numbered, {gap:g} mm apart; where they lie in the patient is not known"]  # fmt: skip
    return Arrangement([ordered], [""], affine, "nothing: the frames as they are numbered", told)
