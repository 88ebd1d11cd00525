"""A folder of DICOM files: which series lie in it, each a volume."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeAlias

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.folders import Folder
from spectrane.engine.threads import in_parallel
from spectrane.formats.dicom.elements import Dataset
from spectrane.formats.dicom.head import (
    SYNTAXES,
    DicomHead,
    begins,
    has_pixels,
    read_dicom_head,
    read_elements,
    read_meta,
)
from spectrane.model.addresses import file_name
from spectrane.model.errors import AccessError, FormatError
from spectrane.model.member import Member
from spectrane.model.telling import warn_caller

_CODES = """
AR ASMT AU BDUS BI BMD CFM CR CT CTPROTOCOL DG DMS DX ECG EEG EMG EOG EPS ES FA FS GM HC HD IO IOL
IVOCT IVUS KER KO LEN LS MG MR M3D NM OAM OCT OP OPM OPT OPTBSV OPTENF OPV OSS OT PA PLAN POS PR PT
PX REG RESP RF RG RTDOSE RTIMAGE RTINTENT RTPLAN RTRAD RTRECORD RTSEGANN RTSTRUCT RWV SEG SM SMR SR
SRF STAIN TEXTUREMAP TG US VA XA XC XAPROTOCOL
"""
MODALITIES = frozenset(_CODES.split())
"""The codes of modalities (PS3.3 C.7.3.1.1.1); another text may be anything."""
_LOOKED_AT = 200
"""So many files are looked at to tell whether a folder holds any of this format."""


@dataclass
class Series:
    """Files of one series: the number it has, what made it, and their heads.

    ``beside`` are objects in the same folder that speak of them.
    """

    number: int
    modality: str
    heads: list[DicomHead]
    beside: list[Dataset] = field(default_factory=list)

    @classmethod
    def begun_by(cls, head: DicomHead) -> Series:
        """Return the series of a first file."""
        said = head.data.text("Modality")
        return cls(head.data.count("SeriesNumber"), said if said in MODALITIES else "OT", [head])

    @property
    def planes(self) -> int:
        """How many frames its files hold."""
        return sum(head.layout.frames for head in self.heads)

    @property
    def title(self) -> str:
        """What it is called; descriptions may name a patient and are not used."""
        plural = "" if self.planes == 1 else "s"
        return f"{self.modality} series {self.number} ({self.planes} slice{plural})"

    @property
    def path(self) -> str | None:
        """The one file that holds all of it; None of several."""
        names = {head.name for head in self.heads}
        return names.pop() if len(names) == 1 else None

    @property
    def bytes(self) -> int:
        """How many bytes its files have."""
        return sum({head.name: head.bytes for head in self.heads}.values())

    def member(self, number: int) -> Member:
        """Return it as a member of the folder."""
        layout = self.heads[0].layout
        return Member(number, self.title, layout.rows, layout.columns, layout.samples,
                      layout.dtype.name)  # fmt: skip


_KINDS = {"SR": "a structured report", "PR": "a presentation state", "RTPLAN": "a treatment plan",
          "KO": "a selection of objects", "REG": "a registration", "RWV": "a map to real values",
          "RTSTRUCT": "a structure set"}  # fmt: skip


def object_kind(data: Dataset) -> str:
    """Say what an object without pixels is."""
    said = data.text("Modality")
    if said in _KINDS:
        return f"{_KINDS[said]} ({said})"
    return f"an object of modality {said}" if said in MODALITIES else "an object"


def holds_images(folder: Folder) -> bool:
    """Tell whether one of a folder's first files is of this format."""
    try:
        return any(map(begins, folder.starts(folder.names()[:_LOOKED_AT], 132)))
    except (OSError, AccessError):
        return False


def series_in(
    folder: Folder, broken: list[tuple[str, FormatError]] | None = None,
    objects: list[tuple[str, Dataset]] | None = None,
) -> list[Series]:  # fmt: skip
    """Return a folder's series, the one of most slices first.

    Files of other formats and those without pixels are passed over; those packed in a way that is
    not supported (video, say) too, with a warning; a broken one is a FormatError, or goes to
    ``broken`` with it; objects without pixels to ``objects``. An image of many frames is a series
    of its own.
    """
    series: dict[str, Series] = {}
    strange: list[str] = []
    for path, found in _read(folder):
        if isinstance(found, FormatError):
            if broken is None:
                raise found
            broken.append((path, found))
        elif isinstance(found, str):
            strange.append(f"{file_name(path)} ({found})")
        elif isinstance(found, Dataset):
            (objects if objects is not None else []).append((path, found))
        elif found is not None:
            key = found.data.text("SeriesInstanceUID")
            if found.layout.frames > 1:
                key += f" {found.data.text('ConcatenationUID') or path}"
            if key in series:
                series[key].heads.append(found)
            else:
                series[key] = Series.begun_by(found)
    if strange:
        warn_caller(
            f"{folder.name}: {len(strange)} files are packed in a way that is not supported and "
            f"are left out: {', '.join(strange[:4])}"
        )
    if not series and (broken is None or not (broken or objects)):
        raise FormatError(f"{folder.name}: no image among its files; folders below it are opened "
                          "by their own names")  # fmt: skip
    return sorted(series.values(), key=lambda one: (-one.planes, one.number))


_Found: TypeAlias = "DicomHead | Dataset | FormatError | str | None"
"""An image, an object without pixels, what is broken, a packing that is not supported, or nothing
of this format.
"""


def _read(folder: Folder) -> list[tuple[str, _Found]]:
    """Read the heads of a folder's files; many at once where each must be waited for."""
    names = folder.names()
    found: list[_Found] = [None] * len(names)

    def read(number: int) -> None:
        try:
            found[number] = _head_of(folder.inside(names[number]))
        except FormatError as error:
            found[number] = error

    in_parallel(range(len(names)), lambda: read, threads=folder.at_once)
    return [(folder.path_of(name), one) for name, one in zip(names, found, strict=True)]


def _head_of(file: ByteFile) -> _Found:
    meta = read_meta(file)
    if meta is None:
        file.close()
        return None
    syntax, directory, _ = meta
    if syntax and syntax not in SYNTAXES and not directory:
        file.close()
        return syntax
    parsed = read_elements(file, meta)
    if parsed is None or not has_pixels(parsed[0]):
        file.close()
        return None if parsed is None else parsed[0]
    return read_dicom_head(file, parsed)
