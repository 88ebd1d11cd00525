"""Drawing the planes of a live view of volumes, as slices are drawn; what is ready is kept."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from spectrane.display.panels import dark
from spectrane.display.slice_layers import Ready, ready_along
from spectrane.display.slice_page import drawn_slice
from spectrane.display.volume_layers import laid_over
from spectrane.engine.threads import made_ahead
from spectrane.engine.watching import watched, watching
from spectrane.model.errors import GridMismatch
from spectrane.viewing.volume_session import VolumeSession
from spectrane.viewing.volume_state import Pane

T = TypeVar("T")
_READY, _PICTURES = 24, 12
"""Volumes made ready, and pictures, that are kept."""
_LOCK = threading.Lock()


@dataclass
class VolumeDrawer:
    """Draws the panels of a session, each only when something about it has changed."""

    reads: int = 0
    _ready: OrderedDict[Any, Ready] = field(default_factory=OrderedDict)
    _pictures: OrderedDict[Any, NDArray[np.uint8]] = field(default_factory=OrderedDict)

    def ready(self, session: VolumeSession, pane: Pane | None = None) -> list[Ready]:
        """Return the volumes ready to be cut along the axes of a panel, limits found once."""
        state = session.state
        free = pane is not None and pane.name == "oblique"
        found = []
        for number, shown in enumerate(state.layers):
            key: tuple[Any, ...] = (number, repr(shown), state.axes)
            one = _kept(self._ready, key, _READY, partial(_ready_of, session, number))
            if free and pane is not None:
                turn = one.turn.T @ pane.turn
                key = (*key, pane.turn.tobytes())
                one = _kept(self._ready, key, _READY, partial(one.turned, turn))
            found.append(one)
        return found

    def pictures(self, session: VolumeSession) -> list[NDArray[np.uint8]]:
        """Return the pixels (rows, columns, 4) of each panel that is to be seen: what
        ``slice_picture`` draws, on its grid.

        Several that have changed are drawn side by side, each by one thread: they are small.
        """
        asked = {_key(session, number): session.pane(number) for number in session.state.shown}
        new = {key: pane for key, pane in asked.items() if key not in self._pictures}
        made: dict[str, NDArray[np.uint8]] = {}
        if len(new) > 1:
            self.ready(session)  # limits are found once
            watcher = watching()

            def draw(pane: Pane) -> NDArray[np.uint8]:
                with watched(watcher):
                    return self._draw(session, pane)

            made = dict(zip(new, made_ahead(new.values(), draw), strict=True))

        def picture(key: str) -> NDArray[np.uint8]:
            return made[key] if key in made else self._draw(session, asked[key])

        return [_kept(self._pictures, key, _PICTURES, partial(picture, key)) for key in asked]

    def _draw(self, session: VolumeSession, pane: Pane) -> NDArray[np.uint8]:
        with _LOCK:
            self.reads += 1
        state = session.state
        side = "radiological" if pane.plane.columns[1] < 0 else state.side
        where: dict[str, Any] = {"at": pane.at, "side": side, "slab": state.slab,
                                 "project": state.project}  # fmt: skip
        try:
            drawn = drawn_slice(self.ready(session, pane), pane.cut, 1.0, where, pane.grid)
        except GridMismatch:  # the plane does not meet the volume, or not what is in view of it
            return dark(*pane.grid.shape)
        return np.ascontiguousarray(drawn.rgba)


def _key(session: VolumeSession, number: int) -> str:
    """Return what a panel's pixels depend on."""
    state, pane = session.state, session.pane(number)
    return repr((number, [repr(one) for one in state.layers], pane.grid, pane.at, state.axes,
                 state.slab, state.project, state.turn, state.tilt))  # fmt: skip


def _ready_of(session: VolumeSession, number: int) -> Ready:
    layer = session.layers()[number]
    return ready_along(laid_over(layer) if number else layer, session.turn, tell=False)


def _kept(held: OrderedDict[Any, T], key: Any, most: int, make: Callable[[], T]) -> T:
    """Return what is kept under a key, or make it and keep it; the longest unused go first."""
    with _LOCK:
        if key in held:
            held.move_to_end(key)
            return held[key]
    made = make()
    with _LOCK:
        held[key] = made
        while len(held) > most:
            held.popitem(last=False)
    return made
