"""Writing data as PNG: one band of grey or three of colour, 8 or 16 bits, exactly as stored."""

from __future__ import annotations

import os
from typing import Any

import numpy as np

from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.png.encoding import encode_png
from spectrane.formats.storing import check_picture
from spectrane.formats.validity import PNG, keeping, masks_disagree
from spectrane.model.marks import RESCALED
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.whole_files import check_target, written_whole
from spectrane.model.window import whole


def write_png(
    source: Source,
    target: str | os.PathLike[str],
    *,
    overwrite: bool = False,
    progress: Progress = no_progress,
) -> None:
    """Write one or three bands of uint8 or uint16 as PNG; invalid pixels become transparent.

    Raises FormatError for other types and numbers of bands. Place, units and band names are
    kept as text only, which is warned of.
    """
    check_target(os.fspath(target), overwrite=overwrite)
    check_picture(source, "PNG", (np.uint8, np.uint16))
    source, pixels = _kept(source)
    alpha = pixels.alpha
    shown = np.broadcast_to(pixels.valid.any(axis=0), source.shape)
    if alpha is None and not shown.all():
        alpha = np.where(shown, np.iinfo(source.dtype).max, 0).astype(source.dtype)
    planes = [*pixels.values, *([alpha] if alpha is not None else [])]
    text = png_text(source)
    if source.grid.placed:
        warn_caller(
            "PNG has no field for the place and the coordinate system; they are kept in a text "
            "that other programs do not read"
        )
    with written_whole(target, overwrite=overwrite) as file:
        file.write(encode_png(np.stack(planes, axis=-1), text))
    progress(1, 1)


def _kept(source: Source) -> tuple[Source, Pixels]:
    """Return what to declare, and all pixels: alpha hides where no band holds a number."""
    bands, everything = range(len(source.bands)), whole(source.shape)
    kept = keeping(source, PNG)
    pixels = kept.read(bands, everything)
    if masks_disagree(pixels):
        kept = keeping(source, PNG, masks_differ=True)
        pixels = kept.read(bands, everything)
    return kept, pixels


def png_text(source: Source) -> dict[str, str]:
    """Return the texts that go with a picture of data: what it is from, and how to read it."""
    from spectrane.formats.keeping import sidecar_text

    text: dict[str, Any] = {"Software": "Spectrane"}
    history = source.metadata.get("provenance", ())
    if history:
        text["Source"] = "; ".join(map(str, history))
    if source.metadata.get("display only"):
        text["Description"] = RESCALED
    kept = sidecar_text(source)
    return text | ({"spectrane": kept} if kept else {})
