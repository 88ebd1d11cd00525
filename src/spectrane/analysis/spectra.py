"""Spectra: values by band at points or over regions, and named ones to compare with."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.walking import valid_values
from spectrane.kernels.quiet import quiet_methods
from spectrane.model.addresses import FileLike
from spectrane.model.errors import LookError, MetadataError, nearest
from spectrane.model.physical import physical
from spectrane.model.regular_files import ReadingAs, given_name, read_toml
from spectrane.model.source import Source
from spectrane.model.targets import Target, written_to
from spectrane.model.window import Window, window_area

_LARGEST = 16 << 20
OUTSIDE = "outside the raster"


def zone_table(
    source: Source, bands: Sequence[int], zones: Sequence[tuple[str, Source, Window | None]],
    percents: Sequence[float] = (5.0, 50.0, 95.0),
) -> list[dict[str, Any]]:  # fmt: skip
    """Return a row per zone and band: count, share invalid, mean, σ, least, greatest, percentiles.

    ``zones`` are names with a source masked to the zone and the window that holds it; None outside
    the raster, which its ``note`` says. ``nominal`` marks wavelengths that only the band's role
    tells. Physical values; σ divides by N; NaN where nothing is
    valid.
    """
    rows = []
    for name, masked, window in zones:
        inside = 0 if window is None else _inside_count(masked, window)
        every = ([np.empty(0)] * len(bands) if window is None
                 else valid_values(masked.read(bands, window)))  # fmt: skip
        for index, values in zip(bands, every, strict=True):
            band = source.bands[index]
            physical_values = physical(values, band, np.float64)
            rows.append({
                "zone": name, "band": band.name, "wavelength": band.nominal_wavelength,
                "nominal": band.wavelength is None and band.nominal_wavelength is not None,
                "unit": band.unit,
                "count": int(physical_values.size),
                "invalid": 1 - physical_values.size / inside if inside else float("nan"),
                **_figures(physical_values, percents), "note": OUTSIDE if window is None else None,
            })  # fmt: skip
    return rows


def _inside_count(masked: Source, window: Window) -> int:
    zone = getattr(masked, "zone", None)  # a polygon's own pixels, whatever they hold
    return window_area(window) if zone is None else int(zone(window).sum())


def _figures(physical: NDArray[np.float64], percents: Sequence[float]) -> dict[str, float]:
    if not physical.size:
        nothing = float("nan")
        names = ["mean", "std", "min", "max", *(f"p{p:g}" for p in percents)]
        return dict.fromkeys(names, nothing)
    percentiles = np.percentile(physical, percents)
    return {
        "mean": float(physical.mean()), "std": float(physical.std()),
        "min": float(physical.min()), "max": float(physical.max()),
        **{f"p{p:g}": float(v) for p, v in zip(percents, percentiles, strict=True)},
    }  # fmt: skip


@quiet_methods
@dataclass
class Spectra:
    """Named spectra: one number per wavelength (nm; NaN where none is known), with a unit; kept as
    TOML.

    >>> known = Spectra([490.0, 842.0], {"water": [0.05, 0.01], "grass": [0.03, 0.4]})
    >>> [name for name, angle in known.ranked([0.06, 0.012])]
    ['water', 'grass']
    """

    wavelengths: list[float]
    known: dict[str, list[float]] = field(default_factory=dict)
    unit: str | None = None
    nominal: bool = False
    """Whether only the bands' roles told the wavelengths."""

    def add(self, name: str, values: Sequence[float]) -> None:
        """Keep a spectrum under a name. Raises MetadataError where its length does not fit.

        >>> known = Spectra([490.0, 560.0])
        >>> known.add("water", [0.05, 0.02])
        >>> known.known
        {'water': [0.05, 0.02]}
        """
        if len(values) != len(self.wavelengths):
            raise MetadataError(
                f"spectrum {name!r}: {len(values)} values for {len(self.wavelengths)} wavelengths"
            )
        self.known[name] = [float(value) for value in values]

    def ranked(self, values: Sequence[float]) -> list[tuple[str, float]]:
        """Return names with their spectral angle (radians) to a spectrum, the nearest first.

        The angle between two spectra as vectors: brightness does not count (Kruse et al., 1993).
        Wavelengths without a number in either are left out.

        >>> known = Spectra([490.0, 560.0], {"water": [0.05, 0.02], "sand": [0.2, 0.3]})
        >>> [name for name, _ in known.ranked([0.1, 0.05])]
        ['water', 'sand']
        """
        distances = [(name, _angle(np.array(values, float), np.array(one, float)))
                 for name, one in self.known.items()]  # fmt: skip
        return sorted(distances, key=lambda pair: (np.isnan(pair[1]), pair[1]))

    def save(
        self, path: Target, *, overwrite: bool = False,
        storage_options: Mapping[str, Any] | None = None,
    ) -> None:  # fmt: skip
        """Write ``.toml``: wavelengths, unit, and a table of spectra.

        ``path`` may be an fsspec URL, with ``storage_options``, or an open binary file.

        >>> import tempfile, os
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     Spectra([490.0], {"water": [0.05]}).save(os.path.join(folder, "a.toml"))
        ...     os.listdir(folder)
        ['a.toml']
        """
        import tomlkit

        table: dict[str, Any] = {"wavelengths": self.wavelengths}
        table |= {"unit": self.unit} if self.unit else {}
        table |= {"nominal": True} if self.nominal else {}
        table["spectra"] = self.known
        with written_to(path, usual=".toml", overwrite=overwrite,
                        storage_options=storage_options) as file:  # fmt: skip
            file.write(tomlkit.dumps(table).encode())

    @classmethod
    def load(
        cls, path: FileLike, *, storage_options: Mapping[str, Any] | None = None
    ) -> Spectra:  # fmt: skip
        """Read what ``save`` writes: a path, an fsspec URL, bytes or an open binary file.

        >>> import tempfile, os
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = os.path.join(folder, "a.toml")
        ...     Spectra([490.0], {"water": [0.05]}).save(path)
        ...     Spectra.load(path).known
        {'water': [0.05]}
        """
        table: Mapping[str, Any] = read_toml(path, _LARGEST, MetadataError, "a file of spectra",
                                             storage_options)  # fmt: skip
        with ReadingAs(given_name(path), MetadataError, "a file of spectra"):
            made = cls([float(w) for w in table["wavelengths"]], {}, table.get("unit"),
                       bool(table.get("nominal", False)))  # fmt: skip
            for name, values in table.get("spectra", {}).items():
                made.add(name, values)
            return made

    def __getitem__(self, name: str) -> list[float]:
        if name not in self.known:
            raise LookError(f"spectrum {name!r}: there is none{nearest(name, self.known)}")
        return self.known[name]


def _angle(first: NDArray[np.float64], second: NDArray[np.float64]) -> float:
    both = np.isfinite(first) & np.isfinite(second)
    first, second = first[both], second[both]
    length = float(np.linalg.norm(first) * np.linalg.norm(second))
    if not length:
        return float("nan")
    return float(np.arccos(np.clip(first @ second / length, -1.0, 1.0)))
