"""A folder of DICOM files: which series lie in it, each a volume."""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterator
from dataclasses import dataclass, field

from spectrane.engine.files import LocalFile
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
from spectrane.model.errors import FormatError
from spectrane.model.member import Member
from spectrane.model.regular_files import open_regular
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


def _files(folder: str) -> Iterator[str]:
    with os.scandir(folder) as entries:
        files = sorted((entry.name, entry.path) for entry in entries if entry.is_file())
    for name, path in files:
        if not name.startswith("."):
            yield path


def holds_images(folder: str) -> bool:
    """Tell whether one of a folder's first files is of this format."""
    try:
        return any(is_one(path) for path in itertools.islice(_files(folder), _LOOKED_AT))
    except OSError:
        return False


def is_one(path: str) -> bool:
    """Tell whether a file is of this format; one that cannot be read is not."""
    try:
        with os.fdopen(open_regular(path), "rb") as file:
            return begins(file.read(132))
    except OSError:
        return False


def series_in(
    folder: str, broken: list[tuple[str, FormatError]] | None = None,
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
    for path in _files(folder):
        try:
            head = _head_of(path, strange, objects)
        except FormatError as error:
            if broken is None:
                raise
            broken.append((path, error))
            continue
        if head is None:
            continue
        data = head.data
        key = data.text("SeriesInstanceUID")
        if head.layout.frames > 1:
            key += f" {data.text('ConcatenationUID') or path}"
        if key in series:
            series[key].heads.append(head)
        else:
            series[key] = Series.begun_by(head)
    if strange:
        warn_caller(
            f"{folder}: {len(strange)} files are packed in a way that is not supported and are "
            f"left out: {', '.join(strange[:4])}"
        )
    if not series and (broken is None or not (broken or objects)):
        raise FormatError(f"{folder}: no image among its files; folders below it are opened by "
                          "their own names")  # fmt: skip
    return sorted(series.values(), key=lambda one: (-one.planes, one.number))


def _head_of(
    path: str, strange: list[str], objects: list[tuple[str, Dataset]] | None
) -> DicomHead | None:
    """Return an image's head; None for other files. Names what is packed strangely."""
    file = LocalFile(path)
    parsed = None
    meta = read_meta(file)
    if meta is not None:
        syntax, directory, _ = meta
        if syntax and syntax not in SYNTAXES and not directory:
            strange.append(f"{os.path.basename(path)} ({syntax})")
        else:
            parsed = read_elements(file, meta)
    if parsed is None or not has_pixels(parsed[0]):
        if parsed is not None and objects is not None:
            objects.append((path, parsed[0]))
        file.close()
        return None
    return read_dicom_head(file, parsed)
