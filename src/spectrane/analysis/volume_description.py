"""What a volume is, said so that a person can check it at a glance."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import asdict, replace
from itertools import pairwise
from typing import Any

from spectrane.analysis.description import (
    Description,
    kept_facts,
    look_facts,
    members_row,
    spoken_kept,
    spoken_look,
    spoken_type,
    used_bits,
)
from spectrane.analysis.statistics import BandStatistics
from spectrane.model.band import band_facts
from spectrane.model.patient import LETTERS, directions, oblique, reach
from spectrane.model.source import Source, called
from spectrane.model.statistic import statistic_of

_MOST_FRAMES = 16
"""A longer series of like frames is summarised."""


class VolumeDescription(Description):
    """A volume's voxels, frames and place in the patient; prints as text and as HTML."""

    unit_of_bands = "frame"

    def format_facts(self) -> list[tuple[str, str]]:
        """Return what there is to say, a title and a text each."""
        facts = self.facts
        voxels = " x ".join(map(str, facts["voxels"]))
        rows = [
            ("File", f"{facts['file'] or 'an array in memory'} ({facts['format']})"),
            *members_row(facts),
            ("Voxels", f"{voxels} (i x j x k), {spoken_type(facts)}"),
            ("Spacing", " x ".join(f"{side:.6g}" for side in facts["spacing_mm"]) + " mm"),
        ]
        if not facts["placed"]:
            rows.append(("Place", "not known: millimetres are along i, j and k alone"))
            return rows + self._kept()
        for title, letter, way in zip(("Axes", "", ""), "ijk", facts["directions"], strict=True):
            rows.append((title, f"{letter} runs {way}"))
        if facts["oblique_degrees"]:
            lean = f"{facts['oblique_degrees']:.3g} degrees off the patient's axes"
            rows.append(("Oblique", lean))
        ends = [f"{low} {least:.6g} to {high} {most:.6g}" for (low, high), least, most in
                zip(LETTERS, *facts["reach_mm"], strict=True)]  # fmt: skip
        rows.append(("Reaches", ", ".join(ends) + " mm"))
        if facts["placed_by"]:
            space = f", which leads to: {facts['space']}" if facts["space"] else ""
            rows.append(("Placed by", f"{facts['placed_by']}{space}"))
        if facts["repetition_s"]:
            slices = f"; {facts['slice_timing']}" if facts["slice_timing"] else ""
            rows.append(("Repetition", f"every {facts['repetition_s']:.6g} s{slices}"))
        elif facts["slice_timing"]:
            rows.append(("Slices", facts["slice_timing"]))
        if facts["statistic"]:
            rows.append(("Statistic", facts["statistic"]))
        return rows + self._kept()

    def _band_lines(self) -> list[str]:
        """Return the table of frames; of a long series only its first and last, and its step."""
        first, last = self.bands[0], self.bands[-1]
        varies = [name for name in first if len({repr(band[name]) for band in self.bands}) > 1]
        if len(self.bands) <= _MOST_FRAMES or set(varies) - {"number", "name", "time"}:
            return super()._band_lines()
        shown = replace(self, bands=(first, last))
        lines = super(VolumeDescription, shown)._band_lines()
        count = f"{len(self.bands)} frames, of which these are the first and the last"
        step = _step([band["time"] for band in self.bands])
        return [*lines, f"{count}{step}; --json and to_dict() list all"]

    def _kept(self) -> list[tuple[str, str]]:
        facts = self.facts
        look = [("Display", spoken_look(facts["look"]))] if facts["look"] else []
        return look + spoken_kept(facts)


def _step(times: Sequence[float | None]) -> str:
    """Say in which steps frames follow one another."""
    steps = _steps(times)
    if not steps:
        return ""
    even = _even(steps)
    if even is not None:
        return f", every {even:.6g} s"
    return f", in steps of {min(steps):.6g} to {max(steps):.6g} s"


def _statistic(source: Source) -> str | None:
    """Say what statistic all frames hold, in words."""
    said = {band.statistic for band in source.bands}
    known = said.pop() if len(said) == 1 else None
    return None if known is None else statistic_of(known).spoken


def _repetition(source: Source) -> float | None:
    """Return the seconds from frame to frame, where they are even."""
    return _even(_steps([band.time for band in source.bands]))


def _steps(times: Sequence[float | None]) -> list[float]:
    """Return the seconds from each frame to the next; none where a time is not known."""
    known = [float(time) for time in times if time is not None]
    return [] if len(known) < len(times) else [b - a for a, b in pairwise(known)]


def _even(steps: Sequence[float]) -> float | None:
    """Return the one step that all are, to a ten-thousandth; None of others and of none."""
    even = steps and max(steps) - min(steps) <= 1e-4 * abs(steps[0])
    return sum(steps) / len(steps) if even else None


def describe_volume(source: Source, statistics: Sequence[BandStatistics] = ()) -> VolumeDescription:
    """Describe a volume from its head alone; lengths are millimetres of the patient (RAS+).

    >>> import numpy as np
    >>> from spectrane import volume_from_array
    >>> held = volume_from_array(np.zeros((4, 5, 6)), affine=np.diag([1, 2, 3, 1]))
    >>> describe_volume(held._source).to_dict()["reach_mm"]
    [[-0.5, -1.0, -1.5], [3.5, 9.0, 16.5]]
    """
    grid = source.grid
    lean = oblique(grid)
    facts: dict[str, Any] = {
        "file": called(source, "") or None,
        "format": source.format,
        "voxels": list(source.shape),
        "type": source.stored_type.name,
        "bits": used_bits(source),
        "spacing_mm": list(grid.pixel_size),
        "directions": list(directions(grid)),
        "oblique_degrees": lean if lean > 1e-3 and math.isfinite(lean) else 0.0,
        "reach_mm": [side.tolist() for side in reach(grid)],
        "affine": grid.matrix.tolist(),
        "placed": grid.placed,
        "placed_by": source.metadata.get("placed by"),
        "space": source.metadata.get("space"),
        "repetition_s": _repetition(source),
        "slice_timing": source.metadata.get("slice timing"),
        "statistic": _statistic(source),
        "members": source.members,
        "look": look_facts(source),
        **kept_facts(source),
    }
    return VolumeDescription(
        facts, band_facts(source.bands), tuple(asdict(statistic) for statistic in statistics)
    )
