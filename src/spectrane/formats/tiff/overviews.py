"""Making a file's overviews anew, where a correction says that other pixels are invalid."""

from __future__ import annotations

from collections.abc import Sequence
from typing import BinaryIO

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.formats.tiff import tags
from spectrane.formats.tiff.layout import tiff_layout
from spectrane.formats.tiff.plan import COMPRESSIONS, Image, make_plan
from spectrane.formats.tiff.reader import open_tiff
from spectrane.formats.tiff.structure import Directory
from spectrane.formats.tiff.tags import Tag
from spectrane.formats.tiff.writer import OverviewWriting
from spectrane.formats.validity import KeptValidity
from spectrane.kernels.records import record
from spectrane.model.nodata import NoDataRule
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window


@record(frozen=True)
class Overviews:
    """What becomes of a file's overviews: they ``stay``, or are ``stale``, or these are new.

    ``images`` are those of the new ones and of their masks, whose tiles lie in a file of their own.
    """

    stay: bool = False
    stale: bool = False
    images: tuple[Image, ...] = ()


class _Watched(Derived, FullSource):
    """The corrected source, which finds out whether any pixel is invalid now that was not, or the
    other way round.
    """

    def __init__(self, parent: Source, before: Sequence[NoDataRule]) -> None:
        super().__init__(parent)
        self.before = before
        self.differs = False

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer as the parent does, and look once whether anything differs."""
        pixels = self.parent.read(bands, window)
        if not self.differs:
            for band, values in zip(bands, pixels.values, strict=True):
                old = self.before[band].invalid(values)
                if (old != self.bands[band].rule.invalid(values)).any():
                    self.differs = True
                    break
        return pixels


def overviews_under(
    changed: Source, file: ByteFile, main: Directory, tail: BinaryIO, *, asked: bool = False
) -> Overviews:
    """Say what becomes of the overviews of a file's first image under other no-data.

    Where they are ``asked`` for, they are made whatever there is.

    They stay where the rule reaches no pixel; else new ones are written to ``tail``, of the same
    samples and byte order. Those that cannot be made are stale. The image is read once.
    """
    own = open_tiff(file)
    if not own.overviews and not own.stale_overviews and not asked:
        return Overviews(stay=True)
    layout = tiff_layout(main)
    alpha_last = own.alpha_sample in (None, layout.samples - 1)
    if layout.packed or not alpha_last or layout.samples != len(own.bands) + bool(own.alpha):
        return Overviews(stale=True)
    watched = _Watched(changed, [band.rule for band in own.bands])
    watched.differs = asked or own.stale_overviews or own.nodata_when != changed.nodata_when
    kept = KeptValidity(watched, changed.bands, None, alpha=True, masked=own.has_mask)
    compression = main.integer(Tag.Compression, tags.NONE)
    name = next((n for n, code in COMPRESSIONS.items() if code == compression), "deflate")
    plan = make_plan(kept, tile=256, compress=name, separate=layout.separate, overviews=True,
                     order=layout.byte_order)  # fmt: skip
    OverviewWriting(kept, plan, tail, None).run()
    if not watched.differs:
        tail.truncate(0)
        return Overviews(stay=True)
    return Overviews(images=(*plan.images[1:], *plan.masks[1:]))
