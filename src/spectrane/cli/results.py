"""The JSON document of every command, as a schema: what ``--json`` answers is checked against it.

docs/command-line.md (for people) and docs/answers.schema.json (for programs) are made from it.
"""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict

SCHEMA = 1
"""The number of the document's form; it changes when a field is taken away or altered."""
Number = float | Literal["inf", "-inf"] | None
"""A number; JSON has no infinities, which are words, and no NaN, which is null."""
Bounds = tuple[float, float, float, float]


class Result(BaseModel):
    """What all results have in common: nothing that is not declared."""

    model_config = ConfigDict(extra="forbid")


class FailedResult(Result):
    """A file that failed, among several."""

    error: str
    input: str | None = None


class WrittenResult(Result):
    """A file or folder that was written."""

    output: str
    bytes: int
    dry_run: bool | None = None
    """Set where nothing was written: the rest is what would be."""
    seconds: float | None = None
    """Of a dry run: about how long writing takes, from a sample."""
    bounds: list[float] | Bounds | None = None


class DrawnResult(WrittenResult):
    """A picture or figure that was written, with its size in pixels, key and caption included."""

    rows: int
    columns: int


class RenderedResult(DrawnResult):
    """A picture of one raster."""

    input: str
    bit_depth: int
    bounds: Bounds
    scales: list[dict[str, Any]]
    notes: list[str]
    legend: str | None
    look: str | None
    limits_of: str


class ComparedResult(DrawnResult):
    """A figure of panels at the same place."""

    inputs: list[str]
    mode: str
    panels: list[dict[str, Any]]
    limits_of: str
    note: str | None


class OverlaidResult(DrawnResult):
    """A picture of several layers, the lowest first."""

    bounds: Bounds
    layers: list[dict[str, Any]]
    notes: list[str]


class CutResult(DrawnResult):
    """Slices of a volume; ``outputs`` are all files, ``output`` is the first."""

    input: str
    outputs: list[str]
    scales: list[str]
    groups: list[dict[str, Any]]
    axes: str
    turned_degrees: float
    point: list[dict[str, Any]]


class CountedResult(Result):
    """Counts of values per channel; ``output`` is the figure, where one was drawn."""

    input: str
    output: str | None
    bytes: int | None = None
    dry_run: bool | None = None
    channels: list[dict[str, Any]]


class StoredBandResult(Result):
    """How a band's stored numbers are to be read."""

    name: str
    unit: str | None
    scale: float
    offset: float
    nodata: Any


class DataResult(WrittenResult):
    """A data file that was written, as a reader of it finds it; ``shape`` counts bands first."""

    shape: list[int]
    type: str
    mask: bool
    bands: list[StoredBandResult]
    crs: str | None


class ExportedResult(DataResult):
    """Data in another form."""

    input: str
    preview: str | None
    inputs: list[str] | None = None


class AreasResult(WrittenResult):
    """Areas as shapes: how many of each class, or of ``True`` where an expression is true."""

    input: str
    areas: dict[str, int]
    crs: str | None


class ClippedResult(DataResult):
    """A part of a raster; ``kept`` is the share of its pixels that a mask kept."""

    input: str
    bounds: Bounds
    kept: float | None
    preview: str | None = None


class PlacedResult(WrittenResult):
    """A picture with a place, and how well its points fit."""

    input: str
    bounds: Bounds
    placement: dict[str, Any]
    preview: str | None = None
    shape: list[int] | None = None
    type: str | None = None
    mask: bool | None = None
    bands: list[StoredBandResult] | None = None
    crs: str | None = None


class JoinedResult(DataResult):
    """A mosaic: how its files differ where they overlap, and how they were moved."""

    inputs: list[str]
    bounds: Bounds
    overlaps: list[dict[str, Any]]
    alignment: list[dict[str, Any]]
    preview: str | None
    verdict: str | None


class SheetResult(WrittenResult):
    """A finished sheet; places of maps and elements are left, top, width, height in mm."""

    inputs: list[str]
    paper: tuple[float, float]
    scale: float | None
    maps: list[tuple[float, float, float, float]]
    elements: dict[str, tuple[float, float, float, float]]
    notes: list[str]
    layer_file: str | None


class SceneResult(Result):
    """A scene of a catalogue: how much of the area it shows, its cloud, and why it is left out."""

    rank: int | None
    id: str
    date: str | None
    share: float | None
    cloud: float | None
    cloud_over: float | None
    in_fewest: bool
    collection: str | None
    left_out: str
    note: str
    href: str


class FetchedResult(WrittenResult):
    """A scene that was brought home; ``output`` is its document, which opens."""

    files: list[str]


class ViewResult(Result):
    """A live view: its address, and how many layers it has."""

    url: str
    layers: int


class PageResult(WrittenResult):
    """A page, or ground overlays."""

    title: str | None
    layers: list[dict[str, Any]]


class TiledResult(WrittenResult):
    """A folder of tiles; ``bounds`` are longitudes and latitudes."""

    tiles: int
    zooms: tuple[int, int]
    bounds: list[float]
    scheme: str


class DemoFileResult(WrittenResult):
    """A file of the demo."""

    what: str


class LayoutResult(Result):
    """How the numbers of a headerless binary are laid out."""

    rows: int
    columns: int
    bands: int
    type: str
    order: str
    header: int
    interleave: str


class KeptLayoutResult(WrittenResult):
    """A layout kept in a sidecar."""

    input: str
    layout: LayoutResult


class GuessResult(Result):
    """A layout that fits, the likeliest of rank 1, and what seems wrong with the one said."""

    input: str
    rank: int
    roughness: float
    layout: LayoutResult
    faults: list[str]


class AmendedResult(Result):
    """Corrections kept with a file, or taken back."""

    input: str
    output: str | None
    bytes: int | None = None
    dry_run: bool | None = None
    inside: bool | None = None
    kept: list[str] | None = None
    undone: str | None = None
    alignment: dict[str, Any] | None = None


class SurveyedResult(Result):
    """A raster or volume below a folder, or a file that should be one."""

    path: str
    format: str | None
    rows: int | None
    columns: int | None
    planes: int | None
    bands: int | None
    type: str | None
    members: int | None
    crs: str | None
    pixel_size: float | None
    bytes: int
    unusual: list[str]
    problem: str
    member: int | None = None
    name: str = ""


class MemberResult(Result):
    """A raster inside a file."""

    input: str
    member: int
    name: str
    rows: int
    columns: int
    bands: int
    type: str


class FindingResult(Result):
    """Something about a file to be looked at twice, and what mends it."""

    code: str
    text: str
    fix: str


class DescribedResult(BaseModel):
    """What a raster or a volume is; a raster has ``bands``, a volume ``frames``."""

    model_config = ConfigDict(extra="allow")

    input: str
    file: str
    format: str
    type: str
    bands: list[dict[str, Any]] | None = None
    frames: list[dict[str, Any]] | None = None
    statistics: list[dict[str, Any]] | None = None
    warnings: list[dict[str, Any]]
    cure: str


class ItemResult(Result):
    """A STAC Item of a raster."""

    input: str
    item: dict[str, Any]


class ProbedResult(BaseModel):
    """What stands under a point in one band of one layer, or a value of a profile."""

    model_config = ConfigDict(extra="allow")


class LineResult(Result):
    """Values along a line: its length, direction, and a row per sample and band."""

    length: float
    unit: str
    azimuth: float
    line: list[dict[str, Any]]


class AngleResult(Result):
    """An angle in degrees, at a position."""

    angle: float
    at: list[float]


class NearestResult(Result):
    """Known spectra, the nearest to that of a point or zone first."""

    zone: str
    nearest: list[dict[str, Any]]


class NamedColorsResult(Result):
    """A built-in colour map."""

    name: str
    kind: str
    purpose: str


RESULTS: dict[str, tuple[type[BaseModel], ...]] = {
    "demo": (DemoFileResult,),
    "survey": (SurveyedResult,),
    "describe": (DescribedResult, MemberResult, ItemResult),
    "raw": (KeptLayoutResult, GuessResult, WrittenResult),
    "amend": (AmendedResult,),
    "render": (RenderedResult,),
    "view": (ViewResult,),
    "compare": (ComparedResult,),
    "histogram": (CountedResult,),
    "probe": (WrittenResult, NearestResult, LineResult, AngleResult, ProbedResult),
    "export": (ExportedResult, AreasResult),
    "place": (PlacedResult,),
    "clip": (ClippedResult,),
    "mosaic": (JoinedResult, WrittenResult),
    "overlay": (OverlaidResult,),
    "slices": (CutResult,),
    "sheet": (SheetResult,),
    "scenes": (SceneResult, FetchedResult, WrittenResult),
    "page": (PageResult,),
    "tiles": (TiledResult,),
    "colormaps": (NamedColorsResult, WrittenResult),
}
"""The results of each command; a failure may stand among them."""
