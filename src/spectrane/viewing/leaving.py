"""What a live view leaves with: the command and the Python that make the same picture again."""

from __future__ import annotations

import os
import shlex

from spectrane.model.look import Look
from spectrane.viewing.session import Session
from spectrane.viewing.state import Opened, ShownLayer

_FLAGS = ("shared", "exact", "invert")
_FIELDS = {"channels", "limits", "curve", "colormap"}
"""Fields of a look that may be said of one file alone: FILE,KEY=VALUE."""
LAYERS = "view.layers.toml"


def render_command(session: Session, output: str = "view.png", folder: str = ".") -> str | None:
    """Return the command that draws the same picture of the active panel.

    One layer is rendered; several are laid over one another, and where options cannot say how,
    by the layer file that saving the layers into ``folder`` writes. None where a layer is no file.
    """
    return _render(session, output) or _overlay(session, output, folder)


def _render(session: Session, output: str) -> str | None:
    number = session.state.active
    seen = _seen(session)
    one, shown = session.opened[number], session.state.layers[number]
    words = look_words(shown.look)
    if seen != [number] or one.file is None or shown != ShownLayer(shown.look) or words is None:
        return None
    if _needs_base(session):
        return None
    return shlex.join(
        ["spectrane", "render", one.file, *one.words, *words, *_area(session, output)]
    )


def _overlay(session: Session, output: str, folder: str) -> str | None:
    opened = session.opened
    listed = session.state.order if _needs_base(session) else _seen(session)
    said = [_with_fields(opened[number], session.state.layers[number]) for number in listed]
    if None not in said:
        return shlex.join(["spectrane", "overlay", *map(str, said), *_area(session, output)])
    if any(one.table is None for one in opened):
        return None
    return shlex.join(["spectrane", "overlay", "--layers", os.path.join(folder, LAYERS),
                       *_area(session, output)])  # fmt: skip


def _seen(session: Session) -> list[int]:
    return [number for number in session.state.order if session.state.layers[number].visible]


def _needs_base(session: Session) -> bool:
    """Tell whether the lowest raster, whose map the place is on, is not to be seen."""
    rasters = [n for n in session.state.order if session.opened[n].source is not None]
    return not session.state.layers[rasters[0]].visible


def _area(session: Session, output: str) -> list[str]:
    rows, columns = session.size
    x, y = session.state.center
    return [f"--center={x!r},{y!r}", "--pixel-size", repr(session.state.pixel),
            "--size", f"{columns}x{rows}", "-o", output]  # fmt: skip


def _with_fields(one: Opened, shown: ShownLayer) -> str | None:
    """Return FILE,KEY=VALUE,… of a layer; None where that cannot say how it is shown."""
    look = shown.look.to_dict()
    simple = one.file is not None and one.source is not None and shown.visible
    if not simple or shown.threshold is not None or not set(look) <= _FIELDS:
        return None
    if not all(isinstance(value, str) for value in look.values()):
        return None
    if one.words[:1] not in ((), ("--nodata",)) or len(one.words) > 2:
        return None
    given = {"nodata": one.words[1]} if one.words else {}
    given |= {key: str(value) for key, value in look.items()}
    given |= {} if shown.opacity == 1 else {"opacity": repr(shown.opacity)}
    given |= {} if shown.mode == "normal" else {"blend": shown.mode}
    return ",".join([str(one.file), *(f"{key}={value}" for key, value in given.items())])


def render_python(session: Session) -> str:
    """Return the Python that draws the same, of files or of rasters of one's own."""
    lines = ["import spectrane as sp", ""]
    names = []
    listed = session.state.order if _needs_base(session) else _seen(session)
    for place, number in enumerate(session.state.order, 1):
        one, shown = session.opened[number], session.state.layers[number]
        if number not in listed or one.source is None:
            continue
        name = f"layer_{place}"
        if one.file is not None:
            lines.append(f"{name} = sp.open_raster({one.file!r}){one.code}")
        look = ", ".join(f"{key}={value!r}" for key, value in shown.look.to_dict().items())
        usual = ShownLayer(shown.look)
        more = [f"{key}={getattr(shown, key)!r}"
                for key in ("opacity", "visible", "mode", "threshold")
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
