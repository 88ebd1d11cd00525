"""Objects beside images that speak of them: presentation states (PS3.3 A.33) and files of maps to
real values (A.46).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from spectrane.formats.dicom.elements import Dataset
from spectrane.formats.dicom.head import DicomHead
from spectrane.formats.dicom.meaning import lookup_in, macros_of, unit_of, windows_through
from spectrane.formats.dicom.planes import PlaneRecord
from spectrane.formats.dicom.real_values import RealValues, maps_in
from spectrane.kernels.records import record
from spectrane.model.display_window import DisplayWindow
from spectrane.model.errors import FormatError
from spectrane.model.look import Look
from spectrane.model.member import Member, find_member

_MAPS = "ReferencedImageRealWorldValueMappingSequence"


@record(frozen=True)
class Referred:
    """Which images an object speaks of: single ones, and series as a whole."""

    instances: frozenset[str]
    series: frozenset[str]

    def covers(self, head: DicomHead) -> bool:
        """Tell whether an image is among them."""
        return (head.data.text("SOPInstanceUID") in self.instances
                or head.data.text("SeriesInstanceUID") in self.series)  # fmt: skip


def referred_by(data: Dataset) -> Referred:
    """Return what an object refers to, series by series and image by image."""
    maps = data.items(_MAPS)
    instances = {uid for item in maps for uid in _images(item)}
    series = set()
    for item in data.items("ReferencedSeriesSequence"):
        single = _images(item)
        if not single:
            series.add(item.text("SeriesInstanceUID"))
        if not maps:
            instances |= single
    return Referred(frozenset(instances - {""}), frozenset(series - {""}))


def _images(item: Dataset) -> set[str]:
    listed = [*item.items("ReferencedImageSequence"), *item.items("ReferencedInstanceSequence")]
    return {one.text("ReferencedSOPInstanceUID") for one in listed}


def is_presentation(data: Dataset) -> bool:
    """Tell whether an object says how images are to be shown."""
    return data.text("Modality") == "PR" and bool(data.items("ReferencedSeriesSequence"))


def is_map(data: Dataset) -> bool:
    """Tell whether an object says what images' numbers mean."""
    return data.text("Modality") == "RWV" and bool(data.items(_MAPS))


def with_real_values(planes: Sequence[PlaneRecord], beside: Sequence[Dataset]) -> list[PlaneRecord]:
    """Return planes with the maps of their own images, where nothing else tells their unit; else
    with the one map of files beside them. Several maps are left alone: none is meant before others.
    """
    if any(one.head.layout.samples > 1 or lookup_in(one) is not None or unit_of(one) is not None
           for one in planes[:1]):  # fmt: skip
        return list(planes)
    found = [_own_maps(plane) for plane in planes]
    if not any(found):
        found = [[one for data in beside for one in _maps_for(data, plane)] for plane in planes]
    if any(len(maps) != 1 for maps in found):
        return list(planes)
    return [replace(plane, real=maps[0]) for plane, maps in zip(planes, found, strict=True)]


def _own_maps(plane: PlaneRecord) -> list[RealValues]:
    holders = (*macros_of(plane), plane.head.data)
    found = (maps_in(one, plane.head.layout.signed) for one in holders)
    return next((some for some in found if some), [])


def _maps_for(data: Dataset, plane: PlaneRecord) -> list[RealValues]:
    """Return the maps of a file for one plane."""
    uid, signed = plane.head.data.text("SOPInstanceUID"), plane.head.layout.signed
    return [one for item in data.items(_MAPS) if uid in _images(item)
            for one in maps_in(item, signed)]  # fmt: skip


def map_members(data: Dataset, planes: Sequence[PlaneRecord]) -> list[Member]:
    """Return the maps of a file by their labels, as members."""
    layout = planes[0].head.layout
    labels = dict.fromkeys(_label(one, k) for plane in planes
                           for k, one in enumerate(_maps_for(data, plane), 1))  # fmt: skip
    return [Member(k, label, layout.rows, layout.columns, layout.samples, "float32")
            for k, label in enumerate(labels, 1)]  # fmt: skip


def _label(one: RealValues, number: int) -> str:
    return one.label or (one.unit or f"map {number}")


def mapped_by(
    data: Dataset, planes: Sequence[PlaneRecord], member: int | str | None, name: str
) -> list[PlaneRecord]:
    """Return planes in the real values of a file's map; ``member`` says which, else the first.

    Raises FormatError where it says nothing of a plane.
    """
    if planes[0].head.layout.samples > 1:
        raise FormatError(f"{name}: a map to real values of colours; expected of one sample")
    label = find_member(map_members(data, planes), member, name).name
    found = []
    for plane in planes:
        maps = [one for k, one in enumerate(_maps_for(data, plane), 1) if _label(one, k) == label]
        if not maps:
            raise FormatError(f"{name}: its map {label} says nothing of {plane.name}")
        found.append(replace(plane, real=maps[0]))
    return found


@record(frozen=True)
class Presentation:
    """How images are to be shown: windows, whether inverted, and what of it is not done here."""

    windows: tuple[DisplayWindow, ...]
    invert: bool | None
    apart: tuple[str, ...]


def presentation_of(data: Dataset, planes: Sequence[PlaneRecord]) -> Presentation:
    """Return what a presentation state says of planes; the middle one speaks for all.

    Its windows are of what its own modality transformation gives; where it has none, of the stored
    numbers (C.11.1, C.11.6). INVERSE is black for what is high, whatever the photometric
    interpretation says.
    """
    plane = planes[len(planes) // 2]
    uid = plane.head.data.text("SOPInstanceUID")
    items = data.items("SoftcopyVOILUTSequence")
    items = [one for one in items if not _images(one) or uid in _images(one)]
    apart = [said for said, there in (
        ("graphics", bool(data.items("GraphicAnnotationSequence"))),
        ("a shutter", bool(data.text("ShutterShape"))),
        ("turning", data.count("ImageRotation") % 360 != 0
         or data.text("ImageHorizontalFlip") == "Y"),
        ("a palette", "RedPaletteColorLookupTableDescriptor" in data),
        ("a table of presentation", bool(data.items("PresentationLUTSequence"))),
    ) if there]  # fmt: skip
    windows: list[DisplayWindow] = []
    tables = ("ModalityLUTSequence" in data, lookup_in(plane) is not None)
    if items and any(tables) and not all(tables):
        apart.append("windows of another modality table")
    else:
        slope = 1.0 if all(tables) else float(data.number("RescaleSlope", 1.0))
        intercept = 0.0 if all(tables) else float(data.number("RescaleIntercept", 0.0))
        label = data.text("ContentLabel")
        for item in items if slope else ():
            windows += windows_through(plane, item, slope, intercept, label)
    said = data.text("PresentationLUTShape")
    return Presentation(tuple(windows), {"INVERSE": True, "IDENTITY": False}.get(said),
                        tuple(apart))  # fmt: skip


def present(source: Any, given: Sequence[Presentation], *, asked: bool) -> None:
    """Add presentations to a source: their windows come after its own; first, and as its look,
    where one was ``asked`` for.
    """
    own, told = tuple(source.windows), []
    added = tuple(window for one in given for window in one.windows)
    source.windows = (*added, *own) if asked else (*own, *added)
    drawn = bool(source.look is not None and source.look.invert)
    number = 0 if asked else len(own)
    for one in given:
        for _ in one.windows:
            number += 1
            way = "" if one.invert in (None, drawn) or asked else ", to be shown inverted"
            told.append(f"window {number} is of a presentation state{way}")
        told += [f"not shown: {', '.join(one.apart)}"] if one.apart else []
    if told:
        source.metadata = {**source.metadata, "presentation states": told}
    if asked or (added and not own):
        look = source.look or Look()
        if added:
            look = replace(look, limits=Look(limits="window:1").limits)
        invert = given[0].invert
        source.look = look if invert is None else replace(look, invert=invert)
