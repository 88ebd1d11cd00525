"""A live view of rasters: what its page may ask and save."""

from __future__ import annotations

import base64
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from spectrane.analysis.spectra import Spectra
from spectrane.viewing import keeping
from spectrane.viewing.counting import spread_of, thumbnails, view_counts
from spectrane.viewing.cures import cures_of
from spectrane.viewing.drawing import Drawer
from spectrane.viewing.reading import numbers_in, outlines_of, spectra_of, values_at
from spectrane.viewing.session import Session
from spectrane.viewing.telling import choices, fitting_map, frame_facts, sampled_maps, state_of
from spectrane.viewing.viewed import Answer, Asked, Drawn

_INSET = 150
"""Longest side of the overview, in pixels."""


@dataclass
class RasterView:
    """A session of rasters with its drawer: see ``Viewed``."""

    session: Session
    folder: str | None = None
    library: Spectra | None = None
    drawer: Drawer = field(default_factory=Drawer)
    kind: str = "raster"

    def frozen(self) -> RasterView:
        """Return it as it is now; what was drawn is shared."""
        return replace(self, session=replace(self.session))

    def change(self, action: Mapping[str, Any]) -> None:
        """Carry out a change."""
        self.session.carry_out(action)

    def draw(self, before: bool) -> list[Drawn]:
        """Draw every panel."""
        session = self._as_it_came() if before else self.session
        frames = [self.drawer.frame(session, panel) for panel in range(len(session.state.panels))]
        return [(frame.rgba, frame_facts(frame)) for frame in frames]

    def _as_it_came(self) -> Session:
        first = replace(self.session)
        first.change({"do": "reset"})
        return first

    def state(self) -> dict[str, Any]:
        """Tell how everything is shown."""
        return state_of(self.session, self.folder)

    def choices(self) -> dict[str, Any]:
        """Tell what there is to choose from."""
        return choices()

    @property
    def answers(self) -> Mapping[str, Answer]:
        """What may be asked by name."""
        session, drawer = self.session, self.drawer
        return {
            "counts": lambda asked: view_counts(session, drawer),
            "values": lambda asked: values_at(session, *_position(asked)),
            "numbers": lambda asked: numbers_in(session),
            "spectra": lambda asked: spectra_of(session, self.library),
            "outlines": lambda asked: outlines_of(session),
            "spread": lambda asked: spread_of(session, drawer, asked["text"]),
            "thumbnails": lambda asked: thumbnails(session, drawer, asked.get("of")),
            "fitting": lambda asked: fitting_map(session),
            "doubts": lambda asked: self._doubts(),
            "inset": lambda asked: self._inset(),
            "beyond": lambda asked: self._beyond(),
            "swatches": lambda asked: sampled_maps(),
        }

    def _doubts(self) -> dict[str, Any]:
        """Return what of the active panel is to be looked at twice, with what cures it."""
        frame = self.drawer.frame(self.session)
        return {"doubts": cures_of(self.session, frame, self.drawer.judged(frame))}

    def _inset(self) -> dict[str, Any]:
        """Return all of the lowest raster, small, and the map bounds it covers."""
        frame = self.drawer.overview(self.session, _INSET)
        rows, columns = frame.rgba.shape[:2]
        return {"rows": rows, "columns": columns, "bounds": frame.grid.bounds,
                "rgba": base64.b64encode(frame.rgba.tobytes()).decode()}  # fmt: skip

    def _beyond(self) -> dict[str, Any]:
        """Return where values lie below (255) and above (1) the limits of the active layer."""
        frame = self.drawer.frame(self.session)
        place = self.session.active_place
        planned = frame.planned[place]
        if planned is None or frame.drawn[place] is None or not planned.plan.shadings:
            return {"rows": 0, "columns": 0, "way": ""}
        way = self.drawer.beyond(planned, frame.grid)
        rows, columns = way.shape
        return {"rows": rows, "columns": columns, "way": base64.b64encode(way.tobytes()).decode()}

    @property
    def savers(self) -> Mapping[str, Callable[[str, int], list[str]]]:
        """What may be saved by name."""
        ways = {"picture": keeping.save_picture, "look": keeping.save_look,
                "python": keeping.save_python, "layers": keeping.save_layers,
                "spectra": keeping.save_spectra, "marks": keeping.save_marks}  # fmt: skip

        def bound(way: Callable[[Session, str, int], list[str]]) -> Callable[[str, int], list[str]]:
            return lambda folder, bits: way(self.session, folder, bits)

        return {name: bound(way) for name, way in ways.items()}

    def kept_text(self) -> str:
        """Say what keeping the active layer's look with its file writes."""
        return keeping.kept_text(self.session)

    def keep(self) -> str:
        """Keep the active layer's look with its file."""
        return keeping.keep_look(self.session)


def _position(asked: Asked) -> tuple[float, float]:
    return float(asked["column"]), float(asked["row"])
