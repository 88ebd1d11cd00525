"""What a live view leaves with: the command and the Python that make the same picture again."""

from __future__ import annotations

import shlex

from spectrane.model.look import Look
from spectrane.viewing.session import Session, ShownLayer

_FLAGS = ("shared", "exact", "invert")


def render_command(session: Session, output: str = "view.png") -> str | None:
    """Return the command that draws the same picture; None where no command alone does: a layer is
    no file, several are seen, or a look holds classes or a region.
    """
    number = session.state.active
    seen = [k for k in session.state.order if session.state.layers[k].visible]
    one, shown = session.opened[number], session.state.layers[number]
    words = look_words(shown.look)
    if seen != [number] or one.file is None or shown != ShownLayer(shown.look) or words is None:
        return None
    rows, columns = session.size
    x, y = session.state.center
    return shlex.join([
        "spectrane", "render", one.file, *one.words, *words, f"--center={x!r},{y!r}",
        "--pixel-size", repr(session.state.pixel), "--size", f"{columns}x{rows}", "-o", output,
    ])  # fmt: skip


def render_python(session: Session) -> str:
    """Return the Python that draws the same picture, of files or of rasters of one's own."""
    lines = ["import spectrane as sp", ""]
    names = []
    for place, number in enumerate(session.state.order, 1):
        one, shown = session.opened[number], session.state.layers[number]
        if not shown.visible or one.source is None:
            continue
        name = f"layer_{place}"
        if one.file is not None:
            lines.append(f"{name} = sp.open_raster({one.file!r}){one.code}")
        look = ", ".join(f"{key}={value!r}" for key, value in shown.look.to_dict().items())
        usual = ShownLayer(shown.look)
        more = [f"{key}={getattr(shown, key)!r}" for key in ("opacity", "mode", "threshold")
                if getattr(shown, key) != getattr(usual, key)]  # fmt: skip
        names.append(f"sp.Layer({', '.join([name, f'sp.Look({look})', *more])})")
    x, y = session.state.center
    rows, columns = session.size
    lines += [
        f"view = sp.View(center=({x!r}, {y!r}), pixel={session.state.pixel!r}, "
        f"size=({rows}, {columns}))",
        f"sp.render([{', '.join(names)}], view=view).save('view.png', overwrite=True)",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def look_words(look: Look) -> list[str] | None:
    """Return a look's fields as options of the command line; None where options cannot say it.

    >>> look_words(Look(channels="natural", limits=(0, 9), invert=True))
    ['--channels', 'natural', '--limits', 'fixed:0,9', '--invert']
    """
    words: list[str] = []
    for name, value in look.to_dict().items():
        option = "--" + name.replace("_", "-")
        if name == "classes" or isinstance(value, dict) or (name in _FLAGS and value is False):
            return None
        if name in _FLAGS:
            words.append(option)
        elif name == "limits" and isinstance(value, list):
            words += [part for one in value for part in (option, str(one))]
        else:
            words += [option, ",".join(map(str, value)) if isinstance(value, list) else str(value)]
    return words
