"""KMZ archives as rasters: each ground overlay is a picture with a place of its own."""

from __future__ import annotations

from typing import TYPE_CHECKING

from spectrane.engine.byte_file import ByteFile
from spectrane.kernels.records import record
from spectrane.model.errors import FormatError
from spectrane.model.member import Member, find_member
from spectrane.model.printing import short_name
from spectrane.model.source import Source
from spectrane.pages.kml import overlays_in, read_overlay

if TYPE_CHECKING:
    from spectrane.formats.table import Probe


@record(frozen=True)
class KmzReader:
    """Ground overlays of a KMZ, the lowest first; they are displays, and say so."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether this is an archive that holds a KML document among its first entries."""
        return probe.head.startswith(b"PK\3\4") and b".kml" in probe.head.lower()

    def members(self, file: ByteFile) -> list[Member]:
        """List the overlays; their pictures are looked into for their sizes."""
        archive, elements = overlays_in(file.name, _whole(file))
        found = []
        for number, element in enumerate(elements, 1):
            layer = read_overlay(file, archive, element)
            rows, columns = layer.source.grid.shape
            found.append(Member(number, layer.name or "", rows, columns, len(layer.source.bands),
                                layer.source.dtype.name))  # fmt: skip
        return found

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open one overlay at its place."""
        archive, elements = overlays_in(file.name, _whole(file))
        number = 1
        if member is not None or len(elements) > 1:
            number = find_member(self.members(file), member, file.name).number
        layer = read_overlay(file, archive, elements[number - 1])
        source: Source = layer.source
        source.name, source.format, source.members = file.name, "KMZ", len(elements)
        source.metadata = {**source.metadata, "title": layer.name or short_name(file.name)}
        file.close()
        return source


def _whole(file: ByteFile) -> bytes:
    from spectrane.pages.kml import LARGEST

    if file.size > LARGEST:
        raise FormatError(f"{file.name}: is larger than {LARGEST >> 20} MB")
    return file.read(0, file.size)
