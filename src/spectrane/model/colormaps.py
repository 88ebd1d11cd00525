"""Colour maps: the built-in ones by name, and anybody's, from points."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.oklab import from_oklab, to_oklab
from spectrane.kernels.quiet import quiet_methods
from spectrane.kernels.records import record
from spectrane.model.addresses import file_stem, has_ending
from spectrane.model.colors import THEIRS, color_text, parse_color, rgba_bytes
from spectrane.model.errors import LookError, nearest
from spectrane.model.html import escaped, in_row, picture_html
from spectrane.model.purposes import ENTRIES, KINDS, PURPOSES, ColormapKind
from spectrane.model.regular_files import ReadingAs, given_name, parsed_toml, read_small_text
from spectrane.model.shortly import short_repr
from spectrane.model.targets import Target, written_to

if TYPE_CHECKING:
    from matplotlib.colors import Colormap as TheirColormap

    from spectrane.model.addresses import FileLike

_LARGEST = 4 << 20
_REVERSED = " reversed"


@quiet_methods
@record(frozen=True, eq=False)
class Colormap:
    """Colours from first to last: ``entries`` is (n, 4) uint8.

    ``under`` and ``over`` (``#rrggbb``) paint what lies beyond the limits, ``nodata`` what is
    invalid; None: the end's colour, and transparent. ``kind`` is ``sequential``, ``diverging``
    (its middle is meant for 0), ``cyclic`` or ``categorical``. Equal by what it holds.

    >>> grey = Colormap.from_points([(0.0, "#000000"), (1.0, "#ffffff")])
    >>> grey.sample(3)[:, 0].tolist()
    [0, 100, 255]
    """

    name: str
    entries: NDArray[np.uint8]
    under: str | None = None
    over: str | None = None
    nodata: str | None = None
    kind: ColormapKind = "sequential"

    __repr__ = short_repr

    def __post_init__(self) -> None:
        """Check the entries and colours, and protect the entries."""
        entries = np.array(self.entries, np.uint8)
        entries.setflags(write=False)
        object.__setattr__(self, "entries", entries)
        if self.kind not in KINDS:
            hint = nearest(self.kind, KINDS)
            raise LookError(f"colour map {self.name}: kind {self.kind!r}{hint}")
        if self.entries.ndim != 2 or self.entries.shape[1] != 4 or len(self.entries) < 1:
            raise LookError(f"colour map {self.name}: expected (n, 4) entries")
        for color in (self.under, self.over, self.nodata):
            if color is not None:
                parse_color(color)

    @classmethod
    def from_points(
        cls, points: Sequence[tuple[float, str]], *, name: str = "own", entries: int = ENTRIES,
        under: str | None = None, over: str | None = None, nodata: str | None = None,
        kind: ColormapKind = "sequential",
    ) -> Colormap:  # fmt: skip
        """Return the map through (position 0...1, ``#rrggbb``) points, even in OKLab between them.

        Two points at one position make a sharp edge.

        >>> Colormap.from_points([(0.0, "#000000"), (1.0, "#ff0000")], name="red").entries.shape
        (256, 4)
        """
        placed = [(float(place), parse_color(color)) for place, color in points]
        places = [place for place, _ in placed]
        if len(placed) < 2 or places != sorted(places) or (places[0], places[-1]) != (0.0, 1.0):
            raise LookError("colour map: expected two points or more, positions from 0 to 1")
        colors = np.array([color for _, color in placed], np.float64) / 255
        lab = np.column_stack([to_oklab(colors[:, :3]), colors[:, 3]])
        at = np.linspace(0, 1, entries)
        mixed = np.column_stack([_between(at, np.array(places), lab[:, k]) for k in range(4)])
        rgb = np.clip(from_oklab(mixed[:, :3]), 0, 1)
        return cls(name, rgba_bytes(np.column_stack([rgb, mixed[:, 3]])), under, over, nodata, kind)

    def clearing(self, where: Literal["first", "middle", "last"]) -> Colormap:
        """Return the map with an opacity that falls to nothing at its first or last colour, or in
        its middle; evenly, times what it has.

        >>> grey = Colormap.from_points([(0.0, "#000000"), (1.0, "#ffffff")], entries=3)
        >>> grey.clearing("first").entries[:, 3].tolist()
        [0, 128, 255]
        """
        at = np.linspace(0, 1, len(self.entries))
        share = {"first": at, "last": 1 - at, "middle": np.abs(2 * at - 1)}[where]
        entries = self.entries.copy()
        entries[:, 3] = np.floor(entries[:, 3] * share + 0.5)
        return replace(self, name=f"{self.name}, clear at its {where}", entries=entries)

    def _repr_html_(self) -> str:
        return in_row(self.swatch(), escaped(f"{self.name}, {self.kind}"))

    def swatch(self, width: int = 256, height: int = 24) -> str:
        """Return the colours from first to last as HTML, in so many pixels.

        >>> colormaps["kiln"].swatch()[:8]
        '<img alt'
        """
        from spectrane.model.swatches import strip_png

        return picture_html(strip_png(self.entries), self.name, width=width, height=height)

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Colormap):
            return NotImplemented
        return self._said() == other._said() and np.array_equal(self.entries, other.entries)

    def __hash__(self) -> int:
        return hash((self._said(), self.entries.tobytes()))

    def _said(self) -> tuple[str | None, ...]:
        return (self.name, self.kind, self.under, self.over, self.nodata)

    @property
    def anchor(self) -> float | None:
        """Where in 0...1 the colour lies that is meant for 0; None where none is."""
        return 0.5 if self.kind == "diverging" else None

    def sample(self, n: int) -> NDArray[np.uint8]:
        """Return (n, 4) uint8, evenly from first to last.

        >>> colormaps["grey"].sample(3)[:, 0].tolist()
        [0, 128, 255]
        """
        if n < 1:
            raise LookError(f"sample {n}: expected 1 or more")
        at = np.linspace(0, len(self.entries) - 1, n)
        return np.asarray(self.entries[np.floor(at + 0.5).astype(int)])

    def reversed(self) -> Colormap:
        """Return the map from last to first; what lies under stays under.

        >>> colormaps["grey"].reversed().sample(2)[:, 0].tolist()
        [255, 0]
        """
        return replace(self, name=f"{self.name}{_REVERSED}", entries=self.entries[::-1].copy())

    def discrete(self, steps: int) -> Colormap:
        """Return the map in so many even steps.

        >>> len(colormaps["kiln"].discrete(5).entries)
        5
        """
        return replace(self, name=f"{self.name} in {steps}", entries=self.sample(steps))

    def to_dict(self) -> dict[str, Any]:
        """Return plain values for TOML or JSON.

        >>> colormaps["pebbles"].to_dict()["colors"][0]
        '#3b6fb6'
        """
        colors = [color_text(entry) for entry in self.entries]
        fields: dict[str, Any] = {"name": self.name, "kind": self.kind, "colors": colors}
        ends = {"under": self.under, "over": self.over, "nodata": self.nodata}
        return fields | {key: value for key, value in ends.items() if value is not None}

    def to_matplotlib(self) -> TheirColormap:
        """Return the map as one of Matplotlib's: exact at its entries, with what lies under, over
        and is no data.

        >>> colormaps["kiln"].to_matplotlib()(255, bytes=True) == colormaps["kiln"].entries[255]
        array([ True,  True,  True,  True])
        """
        from spectrane.model.their_maps import their_map

        return their_map(self.name, self.entries, self.under, self.over, self.nodata)

    @classmethod
    def from_matplotlib(cls, given: str | TheirColormap) -> Colormap:
        """Return the colours of a Matplotlib colour map, by its name or itself.

        Its name here is ``matplotlib:NAME``. Raises LookError for a name there is not.

        >>> Colormap.from_matplotlib("cividis").name
        'matplotlib:cividis'
        """
        from spectrane.model.their_maps import parts_of

        name, colors, under, over, nodata = parts_of(given)
        return cls(f"{THEIRS}{name}", colors, under, over, nodata)

    @classmethod
    def from_dict(cls, given: Mapping[str, Any]) -> Colormap:
        """Read what ``to_dict`` returns.

        >>> Colormap.from_dict({"name": "two", "colors": ["#000000", "#ffffff"]}).name
        'two'
        """
        known = ("name", "kind", "colors", "under", "over", "nodata")
        for key in given:
            if key not in known:
                raise LookError(f"colour map: no key {key!r}{nearest(key, known)}")
        entries = np.array([parse_color(color) for color in given.get("colors", [])], np.uint8)
        ends = {key: given[key] for key in ("under", "over", "nodata", "kind") if key in given}
        return cls(str(given.get("name", "own")), entries.reshape(-1, 4), **ends)

    def save(
        self, path: Target, *, overwrite: bool = False, ending: str | None = None,
        storage_options: Mapping[str, Any] | None = None,
    ) -> None:  # fmt: skip
        """Write ``.toml`` (everything) or ``.csv`` (red, green, blue, alpha; a row per entry).

        ``path`` may be an fsspec URL, with ``storage_options``, or an open binary file, whose
        format ``ending`` says, else .toml.

        >>> import tempfile, os
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     colormaps["kiln"].save(os.path.join(folder, "kiln.csv"))
        ...     os.listdir(folder)
        ['kiln.csv']
        """
        name = os.fspath(path) if isinstance(path, str | os.PathLike) else ending or ".toml"
        if name.endswith(".toml"):
            import tomlkit

            text = tomlkit.dumps(self.to_dict())
        elif name.endswith(".csv"):
            from spectrane.model.colormap_tables import table_of  # no other way needs it

            text = table_of(self.entries)
        else:
            raise LookError(f"{name}: colour maps are written as .csv or .toml")
        with written_to(path, usual=ending or ".toml", overwrite=overwrite,
                        storage_options=storage_options) as file:  # fmt: skip
            file.write(text.encode())

    @classmethod
    def load(
        cls, path: FileLike, *, storage_options: Mapping[str, Any] | None = None
    ) -> Colormap:  # fmt: skip
        """Read what ``save`` writes; a CSV may lack alpha and its heading.

        ``path`` may be an fsspec URL, with ``storage_options``, bytes or an open binary file.

        >>> import tempfile, os
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = os.path.join(folder, "kiln.toml")
        ...     colormaps["kiln"].save(path)
        ...     Colormap.load(path) == colormaps["kiln"]
        True
        """
        name = given_name(path)
        text = read_small_text(path, _LARGEST, LookError, "a colour map", storage_options)
        says = "=" in text.partition("\n")[0] and not has_ending(name, ".csv", ".txt")
        if has_ending(name, ".toml") or says:
            table = parsed_toml(text, name, LookError, "a colour map")
            with ReadingAs(name, LookError, "a colour map"):
                return cls.from_dict(table)
        from spectrane.model.colormap_tables import entries_of

        with ReadingAs(name, LookError, "a colour map"):
            return cls(file_stem(name), entries_of(text))


def _between(at: NDArray[np.float64], places: NDArray[np.float64], values: Any) -> Any:
    """Interpolate; of two points at one place the later one begins there."""
    later = np.clip(np.searchsorted(places, at, side="right"), 1, len(places) - 1)
    left, right = places[later - 1], places[later]
    share = np.where(right > left, (at - left) / np.where(right > left, right - left, 1), 1.0)
    return values[later - 1] * (1 - share) + values[later] * share


class Colormaps(Mapping[str, Colormap]):
    """The built-in colour maps by name, each made when it is first asked for."""

    def __init__(self) -> None:
        self._made: dict[str, Colormap] = {}

    def __getitem__(self, name: str) -> Colormap:
        if name not in PURPOSES:
            raise LookError(f"colour map {name!r}: there is none{nearest(name, PURPOSES)}")
        if name not in self._made:
            from spectrane.model.own_colormaps import MAKERS

            entries, kind = MAKERS[name]()
            self._made[name] = Colormap(name, entries, kind=kind)
        return self._made[name]

    def __contains__(self, name: object) -> bool:
        return name in PURPOSES

    def _repr_html_(self) -> str:
        rows = "".join(
            f"<tr><th style='text-align:left'>{name}</th><td>{one.swatch()}</td>"
            f"<td>{one.kind}</td><td>{PURPOSES[name]}</td></tr>" for name, one in self.items()
        )  # fmt: skip
        return f"<table>{rows}</table>"

    def _ipython_key_completions_(self) -> list[str]:
        return list(self)

    def __iter__(self) -> Iterator[str]:
        return iter(PURPOSES)

    def __len__(self) -> int:
        return len(PURPOSES)


colormaps = Colormaps()
"""Names -> Colormap."""


def colormap_of(given: Any) -> Colormap:
    """Return a colour map by name (``NAME reversed`` too, ``matplotlib:NAME``), from a dictionary,
    of Matplotlib's, or itself.
    """
    if isinstance(given, Colormap):
        return given
    if isinstance(given, Mapping):
        return Colormap.from_dict(given)
    if hasattr(given, "get_under") and hasattr(given, "N"):
        return Colormap.from_matplotlib(given)
    if not isinstance(given, str):
        raise LookError(f"colour map {given!r}: expected a name, or a Colormap")
    if given.startswith(THEIRS):
        return Colormap.from_matplotlib(given.removeprefix(THEIRS))
    if given.endswith(_REVERSED):
        return colormaps[given.removesuffix(_REVERSED)].reversed()
    return colormaps[given]


def colormap_text(colormap: Colormap) -> str | dict[str, Any]:
    """Return a built-in colour map's name, or any other's dictionary: what ``colormap_of`` takes.

    >>> colormap_text(colormap_of("kiln reversed"))
    'kiln reversed'
    """
    known = colormap.name.removesuffix(_REVERSED) in colormaps
    if colormap.name.startswith(THEIRS):
        import matplotlib

        known = colormap.name.removeprefix(THEIRS) in matplotlib.colormaps
    if known and colormap_of(colormap.name) == colormap:
        return colormap.name
    return colormap.to_dict()
