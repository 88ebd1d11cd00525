"""Frames of a moving picture: rasters over one area, between one pair of limits, with captions."""

from __future__ import annotations

from collections.abc import Sequence

from spectrane.display.common_limits import common_limits
from spectrane.display.finishing import with_key_and_caption
from spectrane.display.linked import linked
from spectrane.display.picture import Picture
from spectrane.model.grid import Grid
from spectrane.model.look import Look, look_of
from spectrane.model.said import filled_in
from spectrane.model.source import Source, called
from spectrane.model.view import View


def frames_of(
    sources: Sequence[Source], look: Look | None, view: View, size: tuple[int, int], caption: str
) -> list[Picture]:
    """Return a picture per raster, all of one size, with their captions below."""
    scenes = [(source, look_of(look) or source.look or Look()) for source in sources]
    looks = common_limits(scenes)
    names = [called(source, "an array") for source in sources]
    panels = linked(list(zip(names, sources, looks, strict=True)), view, size)
    pictures = []
    for source, name, panel in zip(sources, names, panels, strict=True):
        text = filled_in(caption, source.metadata, name)
        rgba = with_key_and_caption(panel.rgba, (), None, text or " ")
        pictures.append(Picture(rgba, Grid(rgba.shape[:2]), panel.plan.scales, name))
    return pictures
