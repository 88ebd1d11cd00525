"""Opening DICOM: one file, or a series in a folder."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from typing import TYPE_CHECKING

from spectrane.engine.byte_file import ByteFile
from spectrane.formats.dicom.arranging import arranged
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
        return holds_images(probe.name) if probe.folder else begins(probe.head)

    def members(self, file: ByteFile) -> list[Member]:
        """Return the one image, or the series of a folder."""
        return [series.member(k) for k, series in enumerate(_series(file), 1)]

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
        if not isinstance(file, _folder_file()):
            told = read_elements(file)
            if told is not None and is_structure_set(told[0]) and not has_pixels(told[0]):
                find_member([Member(1, "RTSTRUCT", 0, 0, 1, "")], member, file.name)
                held = StructureSet(told[0], told[2])
                held.told_as = "RTSTRUCT"
                return held
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
        self, file: ByteFile, broken: list[tuple[str, FormatError]], objects: list[tuple[str, str]]
    ) -> Iterator[tuple[Member, str | None, Callable[..., Source]]]:
        """Yield the series of a folder, read once, with what opens each: ``opened(spacing=)``, and
        the path of those that one file holds.

        Files that are broken go to ``broken``, and keep nobody else from being listed; those
        without pixels to ``objects``, each with what it is, "" where it can be opened.
        """
        without: list[tuple[str, Dataset]] = []
        found = series_in(file.name, broken, without)
        for path, data in without:
            opens = is_structure_set(data) and bool(data.items("ROIContourSequence"))
            objects.append((path, "" if opens else f"{object_kind(data)} without pixels"))
        for number, series in enumerate(found, 1):
            yield series.member(number), series.path, partial(_opened, file, found, number)


def _opened(file: ByteFile, found: list[Series], number: int, spacing: str | None = None) -> Source:
    """Open one of several series: an image as a raster, all else as a volume."""
    series = found[number - 1]
    for head in series.heads:
        head.file.keeps_damaged = file.keeps_damaged
    planes = [plane for head in series.heads for plane in planes_of(head)]
    alone = len(planes) == 1 and (series.heads[0].name == file.name or (
        len(found) > 1 and planes[0].position is None))  # fmt: skip
    segments = is_segmentation(series.heads[0].data)
    alone = alone and not segments
    source: Source
    if segments:
        source = Segmentation(planes, file.name)
    else:
        source = DicomImage(planes[0]) if alone else _volume(planes, file.name, spacing, series)
    kind = f"{series.modality} {'image' if alone else 'series'}"
    source.told_as = f"{kind} {series.number}" if series.number else kind
    source.members = len(found)
    source.state = (*(head.file.key for head in series.heads), spacing)
    if series.heads[0].data.text("BurnedInAnnotation") == "YES":
        _warn(f"{file.name}: BurnedInAnnotation (0028,0301) is YES: the pixels themselves may "
              "show who the patient is")  # fmt: skip
    return source


def _folder_file() -> type[ByteFile]:
    from spectrane.formats.registry import FolderFile

    return FolderFile


def _series(file: ByteFile, told: Elements | None = None) -> list[Series]:
    """Return the series of a folder, or of one file, whose elements may be read already."""
    if isinstance(file, _folder_file()):
        return series_in(file.name)
    return [Series.begun_by(read_dicom_head(file, told))]


def _volume(planes: list[PlaneRecord], name: str, spacing: str | None, series: Series) -> Source:
    arrangement = arranged(planes, spacing, name)
    for text in arrangement.told:
        _warn(f"{name}: {text}")
    volume = DicomVolume(arrangement, name)
    if volume.meaning.rescaled and planes[0].head.data.text("Modality") != "PT":  # as all PET does
        _warn(f"{name}: slope and intercept differ from slice to slice; physical values are read")
    made: Source = volume
    if arrangement.depths is not None:
        normal = planes[0].normal
        step = abs(float(arrangement.affine[:3, 2] @ (normal * [-1, -1, 1])))
        made = EvenedVolume(volume, arrangement.depths, step)
    if spacing is not None:  # pictures of it say so
        taken = "nominal" if spacing == "nominal" else "even, by interpolation"
        made.metadata = {**made.metadata, "spacing taken as": taken}
    return made


def _warn(message: str) -> None:
    warn_caller(message)
