"""Opening DICOM: one file, or a series in a folder."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.folders import Folder, folder_around
from spectrane.formats.dicom.arranging import Arrangement, arranged
from spectrane.formats.dicom.beside import (
    is_map,
    is_presentation,
    map_members,
    mapped_by,
    present,
    presentation_of,
    referred_by,
    with_real_values,
)
from spectrane.formats.dicom.elements import Dataset
from spectrane.formats.dicom.evening import EvenedVolume
from spectrane.formats.dicom.folder import Series, holds_images, object_kind, series_in
from spectrane.formats.dicom.head import (
    Elements,
    begins,
    has_pixels,
    read_dicom_head,
    read_elements,
)
from spectrane.formats.dicom.planes import PlaneRecord, planes_of
from spectrane.formats.dicom.segmentation import Segmentation, is_segmentation
from spectrane.formats.dicom.source import DicomImage, DicomVolume
from spectrane.formats.dicom.structures import StructureSet, is_structure_set
from spectrane.model.errors import FormatError
from spectrane.model.member import Member, find_member
from spectrane.model.resampling import SPACINGS
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller

if TYPE_CHECKING:
    from spectrane.formats.table import Probe


class DicomReader:
    """DICOM files with pixels, and folders of them."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether a file has the prefix at byte 128, or a folder such a file."""
        return begins(probe.head) if probe.folder is None else holds_images(probe.folder)

    def members(self, file: ByteFile) -> list[Member]:
        """Return the one image, the series of a folder, or what an object beside images says."""
        told = None if file.is_folder else read_elements(file)
        if told is not None and speaks(told[0]):
            found = _spoken_of(file, told[0])
            if is_map(told[0]):
                return map_members(told[0], _planes(found[0]))
        else:
            found = _series(file, told)
        return [series.member(k) for k, series in enumerate(found, 1)]

    def open(
        self, file: ByteFile, member: int | str | None = None, *, spacing: str | None = None
    ) -> Source:
        """Open an image as a raster, frames or a series as a volume.

        ``spacing`` says what to do where slices are not evenly spaced: ``resample`` (even ones by
        linear interpolation) or ``nominal``; unsaid, they are refused.
        """
        if spacing not in (None, *SPACINGS):
            raise FormatError(f"spacing {spacing!r}: expected {' or '.join(SPACINGS)}")
        told = None
        if not file.is_folder:
            told = read_elements(file)
            if told is not None and is_structure_set(told[0]) and not has_pixels(told[0]):
                find_member([Member(1, "RTSTRUCT", 0, 0, 1, "")], member, file.name)
                held = StructureSet(told[0], told[2])
                held.told_as = "RTSTRUCT"
                return held
            if told is not None and speaks(told[0]):
                return _as_said(file, told[0], member, spacing)
        found = _series(file, told)
        members = [series.member(k) for k, series in enumerate(found, 1)]
        chosen = find_member(members, member, file.name)
        if member is None and len(found) > 1:
            named = "; ".join(f"{one.number} {one.name}" for one in members[1:5])
            more = f"; and {len(members) - 5} more" if len(members) > 5 else ""
            _warn(f"{file.name}: holds {len(members)} series; {chosen.name} is opened; as other "
                  f"members: {named}{more}")  # fmt: skip
        return _opened(file, found, chosen.number, spacing)

    def each(
        self, file: Folder, broken: list[tuple[str, FormatError]], objects: list[tuple[str, str]]
    ) -> Iterator[tuple[Series, Callable[..., Source]]]:
        """Yield the series of a folder, read once, with what opens each: ``opened(spacing=)``.

        Files that are broken go to ``broken``, and keep nobody else from being listed; those
        without pixels to ``objects``, each with what it is, "" where it can be opened.
        """
        without: list[tuple[str, Dataset]] = []
        found = series_in(file, broken, without)
        attach(found, [data for _, data in without])
        for path, data in without:
            opens = is_structure_set(data) and bool(data.items("ROIContourSequence"))
            of = [one.title for one in found if data in one.beside]
            said = f" of {', '.join(of)}; it opens them as it says" if of else " without pixels"
            objects.append((path, "" if opens else f"{object_kind(data)}{said}"))
        for number, series in enumerate(found, 1):
            yield series, partial(_opened, file, found, number)


def _planes(series: Series) -> list[PlaneRecord]:
    return [plane for head in series.heads for plane in planes_of(head)]


def _opened(file: ByteFile, found: list[Series], number: int, spacing: str | None = None) -> Source:
    """Open one of several series: an image as a raster, all else as a volume."""
    series = found[number - 1]
    states = [data for data in series.beside if is_presentation(data)]
    maps = [data for data in series.beside if is_map(data)]
    planes = with_real_values(_planes(series), maps)
    alone = len(planes) == 1 and (series.heads[0].name == file.name or (
        len(found) > 1 and planes[0].position is None))  # fmt: skip
    source = _made(file, series, planes, spacing, alone=alone, states=states)
    source.members = len(found)
    return source


def _made(
    file: ByteFile, series: Series, planes: list[PlaneRecord], spacing: str | None, *, alone: bool,
    states: Sequence[Dataset], asked: bool = False,
) -> Source:  # fmt: skip
    """Return the source of planes, shown as presentation states say."""
    for head in series.heads:
        head.file.keeps_damaged = file.keeps_damaged
    segments = is_segmentation(series.heads[0].data)
    alone = alone and not segments
    source: Source
    if segments:
        source = Segmentation(planes, file.name)
    else:
        shown = [presentation_of(data, planes) for data in states]
        made = DicomImage(planes[0]) if alone else DicomVolume(
            _arranged(planes, spacing, file.name), file.name)  # fmt: skip
        present(made, shown, asked=asked)
        source = _evened(made, spacing) if isinstance(made, DicomVolume) else made
        apart = sorted({one for state in shown for one in state.apart})
        if asked and apart:
            _warn(f"{file.name}: not shown of this presentation state: {', '.join(apart)}")
    kind = f"{series.modality} {'image' if alone else 'series'}"
    source.told_as = f"{kind} {series.number}" if series.number else kind
    source.state = (*(head.file.key for head in series.heads), spacing)
    if series.heads[0].data.text("BurnedInAnnotation") == "YES":
        _warn(f"{file.name}: BurnedInAnnotation (0028,0301) is YES: the pixels themselves may "
              "show who the patient is")  # fmt: skip
    return source


def _as_said(
    file: ByteFile, data: Dataset, member: int | str | None, spacing: str | None
) -> Source:
    """Open the images that an object beside them speaks of, as it says."""
    found = _spoken_of(file, data)
    if is_map(data):
        series, number = found[0], 1
        planes = mapped_by(data, _planes(series), member, file.name)
    else:
        members = [one.member(k) for k, one in enumerate(found, 1)]
        number = find_member(members, member, file.name).number
        series = found[number - 1]
        planes = with_real_values(_planes(series), ())
    states = [data] if is_presentation(data) else []
    source = _made(file, series, planes, spacing, alone=len(planes) == 1, states=states,
                   asked=bool(states))  # fmt: skip
    source.state = (file.key, source.state)
    return source


def _spoken_of(file: ByteFile, data: Dataset) -> list[Series]:
    """Return the series in a file's folder that an object speaks of, with those images alone."""
    refers = referred_by(data)
    folder = folder_around(file)
    every = [] if folder is None else series_in(folder, [], [])
    found = [replace(one, heads=[head for head in one.heads if refers.covers(head)])
             for one in every]  # fmt: skip
    found = [one for one in found if one.heads]
    kind = object_kind(data)
    if not found:
        raise FormatError(f"{file.name}: {kind} of images that are not beside it: nothing to "
                          "show; put it into their folder")  # fmt: skip
    here = {head.data.text("SOPInstanceUID") for one in found for head in one.heads}
    missing = len(refers.instances - here)
    if missing:
        _warn(f"{file.name}: {kind} of {len(refers.instances)} images, of which {missing} are not "
              "beside it")  # fmt: skip
    return found


def speaks(data: Dataset) -> bool:
    """Tell whether an object says how others' pixels are to be shown, or what they mean."""
    return not has_pixels(data) and (is_presentation(data) or is_map(data))


def attach(found: Sequence[Series], objects: Sequence[Dataset]) -> None:
    """Give each series the objects that speak of its images."""
    for data in filter(speaks, objects):
        refers = referred_by(data)
        for series in found:
            if any(refers.covers(head) for head in series.heads):
                series.beside.append(data)


def _series(file: ByteFile, told: Elements | None = None) -> list[Series]:
    """Return the series of a folder, or of one file, whose elements may be read already."""
    if isinstance(file, Folder):
        objects: list[tuple[str, Dataset]] = []
        found = series_in(file, objects=objects)
        attach(found, [data for _, data in objects])
        return found
    return [Series.begun_by(read_dicom_head(file, told))]


def _arranged(planes: list[PlaneRecord], spacing: str | None, name: str) -> Arrangement:
    arrangement = arranged(planes, spacing, name)
    for text in arrangement.told:
        _warn(f"{name}: {text}")
    return arrangement


def _evened(volume: DicomVolume, spacing: str | None) -> Source:
    """Return a volume with its uneven slices interpolated, and with what is said of them."""
    arrangement = volume.arrangement
    plane = arrangement.planes[0][0]
    usual = plane.real is not None or plane.head.data.text("Modality") == "PT"  # all PET does
    if volume.meaning.rescaled and not usual:
        _warn(f"{volume.name}: slope and intercept differ from slice to slice; physical values are "
              "read")  # fmt: skip
    made: Source = volume
    if arrangement.depths is not None:
        step = abs(float(arrangement.affine[:3, 2] @ (plane.normal * [-1, -1, 1])))
        made = EvenedVolume(volume, arrangement.depths, step)
    if spacing is not None:  # pictures of it say so
        taken = "nominal" if spacing == "nominal" else "even, by interpolation"
        made.metadata = {**made.metadata, "spacing taken as": taken}
    return made


def _warn(message: str) -> None:
    warn_caller(message)
