"""A picture to check by eye: what was read, and what was made of it."""

from __future__ import annotations

import warnings
from typing import Any

from spectrane.cli.written import size_text
from spectrane.model.look import Look
from spectrane.model.trials import now_trying
from spectrane.model.whole_files import written_whole


def before_and_after(before: Any, after: Any, target: str, picture: str, overwrite: bool) -> str:
    """Draw a raster and what was made of it side by side; return a line that says so.

    What was written is drawn from its file; of a dry run ``after``, from which it would be, and the
    picture itself is kept.
    """
    from spectrane.display.side_by_side import side_by_side
    from spectrane.formats.png.encoding import encode_png
    from spectrane.looking import render
    from spectrane.opening import open_raster

    made = after if now_trying() is not None else open_raster(target)
    pictures, captions = [], []
    for name, one in (("before", before), ("after", made)):
        shown = one.bands[:3] if len(one.bands) >= 3 else one.bands[:1]
        look = Look(channels=tuple(range(1, len(shown) + 1)), limits="percentile:2,98")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # the stored order is what is to be seen
            pictures.append(render(one, look, size=(640, 600)))
        captions.append(f"{name}: {', '.join(b.name for b in shown)} as stored ({one.dtype})")
    if made is not after:
        made.close()
    with written_whole(picture, overwrite=overwrite, tried=False) as file:
        text = {"Description": "Preview of what was made, not data."}
        file.write(encode_png(side_by_side(pictures, captions), text))
    return f"{picture}: before and after, {size_text(picture)}"
