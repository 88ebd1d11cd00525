"""Opening NIfTI: one file, a gzip file, or a pair of head and image."""

from __future__ import annotations

import struct
import zlib
from dataclasses import replace
from typing import TYPE_CHECKING

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.files import file_beside
from spectrane.engine.inflating import MAGIC, InflatedFile, begun
from spectrane.formats.nifti.header import TYPES, NiftiHead, byte_order, parse_head
from spectrane.formats.nifti.source import NiftiSource, check_bytes
from spectrane.model.addresses import file_stem
from spectrane.model.asking import MATRICES
from spectrane.model.errors import FormatError, LookError, MissingFile
from spectrane.model.member import Member, find_member
from spectrane.model.regular_files import found_from
from spectrane.model.telling import warn_caller

if TYPE_CHECKING:
    from spectrane.formats.table import Probe

_MOST_EXTENSIONS = 64 << 20


class NiftiReader:
    """NIfTI-1 and NIfTI-2: ``.nii``, ``.nii.gz``, ``.hdr`` with ``.img``."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether a head begins here, also inside gzip."""
        head = probe.head
        if head.startswith(MAGIC):
            try:
                head = begun(head, 540)
            except zlib.error:
                return False
        return byte_order(head) is not None

    def members(self, file: ByteFile) -> list[Member]:
        """Return the one volume; rows and columns are those of a plane of i and j."""
        return _members(_read(file)[0])

    def open(
        self, file: ByteFile, member: int | str | None = None, *, complex: str | None = None,
        choose: str | None = None,
    ) -> NiftiSource:  # fmt: skip
        """Open the volume; ``complex`` is ``magnitude``, ``phase``, ``real`` or ``imaginary``, and
        ``choose`` the matrix that places it where there are two: ``sform`` or ``qform``.

        Warns of complex numbers of which nobody said what is wanted: their magnitude is read; and
        of two matrices that disagree.
        """
        if choose not in (None, *MATRICES):
            raise LookError(f"choose {choose!r}: expected {' or '.join(MATRICES)}")
        head, single = _read(file, choose)
        find_member(_members(head), member, file.name)
        data = _image_beside(file) if single is None else single
        check_bytes(head, file.name, data, cut_short=file.keeps_damaged)
        source = NiftiSource(head, file, data, complex or "magnitude")
        if complex is None and source.complex:
            warn_caller(
                f"{file.name}: its numbers are complex; their magnitude is read "
                '(complex="phase", "real" or "imaginary" opens another part)'
            )
        smallest = min(source.grid.pixel_size)
        if choose is None and head.disagreement > 0.01 * smallest:
            warn_caller(
                f"{file.name}: sform and qform put the volume up to {head.disagreement:.3g} mm "
                'apart; the sform is used, as the standard says (choose="qform", --choose qform '
                "takes the other)"
            )
        return source


def _members(head: NiftiHead) -> list[Member]:
    i, j, _ = head.shape
    return [Member(1, "", j, i, head.frames, TYPES[head.datatype][1])]


def _read(file: ByteFile, choose: str | None = None) -> tuple[NiftiHead, ByteFile | None]:
    """Return the head, and the file that holds the voxels; None where an image beside it does."""
    inner: ByteFile = InflatedFile(file) if file.read(0, 3) == MAGIC else file
    first = inner.read(0, 348)
    told = byte_order(first)
    length = 540 if told is not None and told[1] == 2 else 348
    head = parse_head(first if length == 348 else inner.read(0, length), file.name,
                      choose)  # fmt: skip
    single = first[344:348] == b"n+1\0" if length == 348 else first[4:8] == b"n+2\0"
    end = head.offset if single else (inner.size if inner is file else length + 4)
    extensions = _extensions(inner, head, length, max(length, end), file.name)
    head = replace(head, extensions=extensions)
    if not single:
        return head, None
    if head.offset < length:
        raise FormatError(
            f"{file.name}: field vox_offset is {head.offset}, inside the head of {length} bytes"
        )
    return head, inner


def _extensions(
    file: ByteFile, head: NiftiHead, start: int, end: int, name: str
) -> tuple[tuple[int, bytes], ...]:
    """Return the head's extensions: (code, data); they are kept, not understood."""
    extensions = []
    place = start + 4
    if end < place or end - start > _MOST_EXTENSIONS or file.read(start, 4)[:1] == b"\0":
        return ()
    while place + 8 <= end:
        size, code = struct.unpack(head.order + "ii", file.read(place, 8))
        if size < 8 or place + size > end:
            raise FormatError(f"{name}: an extension at byte {place} claims {size} bytes")
        extensions.append((code, file.read(place + 8, size - 8)))
        place += size
    return tuple(extensions)


def _image_beside(file: ByteFile) -> ByteFile:
    """Return the image of a pair: the same name with .img, packed or not."""
    stem = file_stem(file.name)
    for ending in (".img", ".img.gz", ".IMG"):
        try:
            data = file_beside(file, stem + ending)
        except MissingFile:
            continue
        return InflatedFile(data) if data.read(0, 3) == MAGIC else data
    raise MissingFile(f"{found_from(f'{stem}.img', file.name)}: no such file; {file.name} is the "
                      "head of a pair, without voxels")  # fmt: skip
