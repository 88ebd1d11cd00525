"""The command and the Python that draw the planes of a live view of volumes again."""

from __future__ import annotations

import shlex
from collections.abc import Iterable

from spectrane.viewing.leaving import look_words
from spectrane.viewing.volume_session import VolumeSession
from spectrane.viewing.volume_state import PANES, ShownVolume, VolumeGiven, free_plane

_OF_ANATOMY = {"limits", "colormap", "invert"}
_OF_MAPS = {"limits", "colormap"}


def slices_command(session: VolumeSession, output: str = "view.png") -> str | None:
    """Return the command that draws the same planes as saving the picture does.

    None where options cannot say how a layer is shown, or a layer is no file.
    """
    roles = [one.role for one in session.given]
    if roles[0] != "anatomy" or len(set(roles)) < len(roles):
        return None
    words: list[str] = []
    shares = []
    for one, shown in zip(session.given, session.state.layers, strict=True):
        said = _anatomy(one, shown) if one.role == "anatomy" else _laid(one, shown)
        if said is None or one.file is None:
            return None
        words += said
        shares += [] if one.role == "anatomy" else [shown.opacity]
    if any(share != 1 for share in shares):
        words += ["--opacity", ",".join(map(repr, shares))]
    words += _place(session)
    file = session.given[0].file
    return shlex.join(["spectrane", "slices", str(file), "-o", output, *words])


def _place(session: VolumeSession) -> list[str]:
    state = session.state
    slab = ["--slab", repr(state.slab), "--project", state.project] if state.slab else []
    axes = [] if state.axes == "patient" else ["--axes", state.axes]
    if state.panels > 1:
        words = [f"--at={_joined(state.point)}", *axes]
    elif PANES[state.panel] == "oblique":
        free = free_plane(state, session.turn)
        words = ["--plane", "oblique", f"--at={_joined(free.center)}", *slab,
                 f"--normal={_joined(free.normal)}", f"--up={_joined(free.up or ())}"]  # fmt: skip
    else:
        pane = session.pane(state.panel)
        words = ["--plane", pane.cut, f"--at={pane.at!r}", *slab, *axes]
    return words + ([] if state.side == "radiological" else ["--side", state.side])


def _joined(values: Iterable[float]) -> str:
    return ",".join(map(repr, values))


def _anatomy(one: VolumeGiven, shown: ShownVolume) -> list[str] | None:
    look = shown.look.to_dict()
    words = look_words(shown.look)
    plain = shown.threshold is None and shown.visible and shown.opacity == 1
    if words is None or not plain or not set(look) <= _OF_ANATOMY:
        return None
    return [*one.words, *words, *_frame(one, shown, "--frame")]


def _laid(one: VolumeGiven, shown: ShownVolume) -> list[str] | None:
    if not shown.visible:
        return None
    if one.role == "labels":
        same = shown.look == one.first_shown().look and shown.threshold is None
        return ["--labels", str(one.file)] if same else None
    look = shown.look.to_dict()
    if not set(look) <= _OF_MAPS or isinstance(look.get("limits"), list):
        return None
    words = ["--map", str(one.file), *_frame(one, shown, "--measure")]
    words += ["--map-limits", str(look["limits"])] if "limits" in look else []
    words += ["--map-colormap", str(look["colormap"])] if "colormap" in look else []
    if isinstance(shown.threshold, str):
        words += ["--threshold", shown.threshold]
    elif shown.threshold is not None:
        words += one.words
    words += ["--least", f"{shown.least:g}{'mm3' if one.layer.in_mm3 else ''}"] * bool(shown.least)
    words += [] if one.layer.neighbours == 26 else ["--neighbours", str(one.layer.neighbours)]
    return words + (["--faded", repr(shown.faded)] if shown.faded else [])


def _frame(one: VolumeGiven, shown: ShownVolume, option: str) -> list[str]:
    return [] if shown.frame == 1 else [option, str(shown.frame)]


def slices_python(session: VolumeSession) -> str:
    """Return the Python that draws the same planes, of files or of volumes of one's own."""
    state = session.state
    lines, names = ["import spectrane as sp", ""], []
    for number, (one, shown) in enumerate(zip(session.given, state.layers, strict=True), 1):
        name = f"volume_{number}"
        if one.file is not None:
            labels = ".as_labels()" if one.role == "labels" and one.layer.look is not None else ""
            lines.append(f"{name} = sp.open_volume({one.file!r}){labels}")
        look = ", ".join(f"{key}={value!r}" for key, value in shown.look.to_dict().items())
        usual = ShownVolume(shown.look)
        more = [f"{key}={getattr(shown, key)!r}"
                for key in ("opacity", "visible", "threshold", "frame", "least", "faded")
                if getattr(shown, key) != getattr(usual, key)]  # fmt: skip
        names.append(f"sp.VolumeLayer({', '.join([name, f'sp.Look({look})', *more])})")
    side = [] if state.side == "radiological" else [f"side={state.side!r}"]
    axes = [] if state.axes == "patient" else [f"axes={state.axes!r}"]
    slab = [f"slab={state.slab!r}", f"project={state.project!r}"] if state.slab else []
    listed = f"[{', '.join(names)}]"
    if state.panels > 1:
        call = ", ".join([f"{listed}, {state.point!r}", *side, *axes])
        lines.append(f"picture = sp.three_planes({call})")
    else:
        pane = session.pane(state.panel)
        where = [repr(pane.cut), f"at={pane.at!r}", *axes]
        if PANES[state.panel] == "oblique":
            free = free_plane(state, session.turn)
            said = f"{tuple(free.center)!r}, {tuple(free.normal)!r}, up={tuple(free.up or ())!r}"
            where = ["'oblique'", f"oblique=sp.Oblique({said})"]
        call = ", ".join([listed, *where, "size=(800, 1280)", *slab, *side])
        lines.append(f"picture = sp.slice_picture({call})")
    return "\n".join([*lines, "picture.save('view.png', overwrite=True)", ""])
