"""What a live view writes: pictures, looks and Python into a folder, a look beside its file."""

from __future__ import annotations

import os
from typing import Any

from spectrane.display.layers import draw_layers
from spectrane.model.errors import ExistingFile, LookError
from spectrane.model.whole_files import written_whole
from spectrane.opening import amend
from spectrane.viewing.leaving import render_python
from spectrane.viewing.session import Session


def _free(folder: str, stem: str, ending: str) -> str:
    """Return a path in a folder that is not taken: view.png, view-2.png …"""
    os.makedirs(folder, exist_ok=True)
    for number in range(1, 10_000):
        name = f"{stem}{'' if number == 1 else f'-{number}'}{ending}"
        if not os.path.exists(os.path.join(folder, name)):
            return os.path.join(folder, name)
    raise ExistingFile(f"{folder}: holds too many files of the name {stem}{ending}")


def save_picture(session: Session, folder: str, bits: int = 8) -> str:
    """Write what is seen as PNG of 8 or 16 bits, and return its path."""
    path = _free(folder, "view", ".png")
    draw_layers(session.layers(), grid=None, view=session.view()).save(path, bits=bits)
    return path


def save_look(session: Session, folder: str, bits: int = 8) -> str:
    """Write the active layer's look, and return its path."""
    path = _free(folder, "view", ".look.toml")
    session.state.layers[session.state.active].look.save(path)
    return path


def save_python(session: Session, folder: str, bits: int = 8) -> str:
    """Write the Python that draws the same, and return its path."""
    path = _free(folder, "view", ".py")
    with written_whole(path, overwrite=False) as file:
        file.write(render_python(session).encode())
    return path


def _file(session: Session) -> tuple[str, Any]:
    number = session.state.active
    file = session.opened[number].file
    if file is None:
        raise LookError("the active layer is no file: nothing can be kept with it")
    return file, session.state.layers[number].look


def kept_text(session: Session) -> str:
    """Say what keeping the active layer's look with its file writes."""
    file, look = _file(session)
    said = ", ".join(f"{key} = {value}" for key, value in look.to_dict().items()) or "no look"
    return f"{os.path.basename(file)}.spectrane.toml: {said}"


def keep_look(session: Session) -> str:
    """Keep the active layer's look in its file's sidecar, and return the sidecar's path."""
    file, look = _file(session)
    amend(file, look=look)
    return f"{file}.spectrane.toml"
