"""A live view of volumes: what its page may ask and save."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from spectrane.analysis.clusters import Cluster
from spectrane.analysis.compared import last_number
from spectrane.analysis.expressions import Computed
from spectrane.analysis.walking import sampled
from spectrane.display.slices import said_place, slice_picture, three_planes
from spectrane.display.volume_layers import layer_clusters
from spectrane.display.volume_probing import probed_volumes
from spectrane.engine.csv_text import write_csv
from spectrane.model.addresses import file_name
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.whole_files import written_whole
from spectrane.model.window import whole
from spectrane.opening import amend
from spectrane.spatial.ground import length_text, round_length
from spectrane.spatial.slicing import cut
from spectrane.viewing.counting import counts_in, reach_of
from spectrane.viewing.keeping import free_path, kept_with
from spectrane.viewing.telling import choices, facts, legend_facts, sampled_maps, scale_facts
from spectrane.viewing.viewed import Answer, Asked, Drawn
from spectrane.viewing.volume_drawing import VolumeDrawer
from spectrane.viewing.volume_leaving import slices_command, slices_python
from spectrane.viewing.volume_session import VolumeSession
from spectrane.viewing.volume_state import PANES, ShownVolume, free_plane

_GROUPS, _SAMPLE = 200, 1_000_000
_PICTURE = (800, 1280)


@dataclass
class VolumeView:
    """A session of volumes with its drawer: see ``Viewed``."""

    session: VolumeSession
    folder: str | None = None
    drawer: VolumeDrawer = field(default_factory=VolumeDrawer)
    kind: str = "volume"
    _groups: dict[str, list[Cluster]] = field(default_factory=dict)

    def frozen(self) -> VolumeView:
        """Return it as it is now; what was drawn is shared."""
        return replace(self, session=replace(self.session))

    def change(self, action: Mapping[str, Any]) -> None:
        """Carry out a change."""
        self.session.carry_out(action)

    def draw(self, before: bool) -> list[Drawn]:
        """Draw every panel that is to be seen."""
        session = self.session
        if before:
            session = replace(session)
            session.change({"do": "reset"})
        drawn = self.drawer.pictures(session)
        ready = self.drawer.ready(session)
        alike = {"layers": [scale_facts(one.plan) for one in ready],
                 "legends": [legend_facts(one.plan) for one in ready]}  # fmt: skip
        told = [facts(self._panel(session, number) | alike) for number in session.state.shown]
        return list(zip(drawn, told, strict=True))

    def _panel(self, session: VolumeSession, number: int) -> dict[str, Any]:
        pane = session.pane(number)
        rows, columns = session.size
        across = "xyz"[pane.plane.across] if session.state.axes == "patient" else "own axes"
        place = f"{across} {said_place(pane.at)}"
        if pane.name == "oblique":
            place = f"{session.state.turn:g}°, {session.state.tilt:g}°"
        known = session.given[0].layer.source.grid.placed
        return {
            "rows": rows, "columns": columns, "plane": pane.name, "panel": number, "place": place,
            "letters": pane.letters if known else {}, "cross": pane.position(session.state.point),
            "marks": [pane.position(one) for one in session.state.marks],
        }  # fmt: skip

    def state(self) -> dict[str, Any]:
        """Tell how everything is shown."""
        session, state = self.session, self.session.state
        length = round_length(0.16 * state.pixel)  # metres
        return facts({
            "layers": [_layer(session, number) for number in range(len(session.given))],
            "order": list(range(len(session.given))), "active": state.active,
            "point": state.point, "pixel": state.pixel, "panel": state.panel,
            "panels": len(state.shown), "side": state.side, "axes": state.axes,
            "slab": state.slab, "project": state.project, "turn": state.turn, "tilt": state.tilt,
            "marks": state.marks, "outlines": [], "undo": len(session.before),
            "redo": len(session.after), "back": 0, "forth": 0, "titles": list(PANES),
            "command": slices_command(session), "python": slices_python(session),
            "address": session.to_dict(), "told": session.told,
            "bar": {"length": 1000 * length / state.pixel, "text": length_text(length, small=True)},
        })  # fmt: skip

    def choices(self) -> dict[str, Any]:
        """Tell what there is to choose from."""
        return choices()

    @property
    def answers(self) -> Mapping[str, Answer]:
        """What may be asked by name."""
        return {"counts": lambda asked: self._counts(), "values": self._values,
                "doubts": lambda asked: self._doubts(),
                "spectra": lambda asked: self._courses(),
                "groups": self._group_rows, "spread": self._spread,
                "swatches": lambda asked: sampled_maps()}  # fmt: skip

    def _doubts(self) -> dict[str, Any]:
        """Return what of the volumes' pictures is to be looked at twice."""
        texts = [text for one in self.drawer.ready(self.session) for text in one.plan.warnings]
        return {"doubts": [{"text": text, "cures": []} for text in dict.fromkeys(texts)]}

    def _counts(self) -> dict[str, Any]:
        """Count the active layer's values in the panel that keys move in."""
        session = self.session
        pane = session.pane(session.state.panel)
        one = self.drawer.ready(session, pane)[session.state.active]
        if not one.plan.shadings:
            return {"channels": []}
        try:
            made = cut(one.source, pane.cut, at=pane.at, frames=one.frames, slab=session.state.slab,
                       side=session.state.side, project=session.state.project)  # fmt: skip
        except GridMismatch:
            return {"channels": []}
        pixels = made.read(range(len(one.frames)), whole(made.shape))
        return counts_in(pixels, one.plan)

    def _values(self, asked: Asked) -> dict[str, Any]:
        """Return what stands under a position of a panel, or where the planes meet."""
        point = self.session.state.point
        if "column" in asked:
            pane = self.session.pane(int(asked.get("panel", "0")))
            point = pane.millimetres(float(asked["column"]), float(asked["row"]))
        try:
            rows = probed_volumes(self.session.layers(), [dict(zip("xyz", point, strict=True))])
        except GridMismatch as error:
            return {"point": point, "rows": [], "outside": str(error)}
        return {"point": point, "rows": rows}

    def _courses(self) -> dict[str, Any]:
        """Return the active layer's values at each mark over its frames."""
        layer = self.session.layers()[self.session.state.active]
        found = []
        for mark in self.session.state.marks:
            try:
                rows = probed_volumes([layer], [dict(zip("xyz", mark, strict=True))])
            except GridMismatch:
                rows = []
            found.append([row["physical"] for row in rows])
        bands = layer.source.bands
        names, times = [band.name for band in bands], [band.time for band in bands]
        return {"marks": found, "bands": names, "wavelengths": [None] * len(bands), "times": times}

    def _spread(self, asked: Asked) -> dict[str, Any]:
        """Return the least and the greatest value of an expression over the active volume's frames,
        by a sample of it.
        """
        source = self.session.layers()[self.session.state.active].source
        tested = Computed(source, {"tested": asked["text"]})
        parts = sampled(tested, [0], whole(source.shape), _SAMPLE)()
        return reach_of(np.concatenate([part[0] for part in parts]))

    def groups(self, number: int) -> list[Cluster]:
        """Return the groups that a layer's threshold leaves, found once for each."""
        shown = self.session.state.layers[number]
        key = repr((number, shown.threshold, shown.least, shown.frame))
        if key not in self._groups:
            self._groups[key] = layer_clusters(self.session.layers()[number])
        return self._groups[key]

    def _group_rows(self, asked: Asked) -> dict[str, Any]:
        found = self.groups(int(asked.get("layer", self.session.state.active)))
        rows = [{"number": one.number, "voxels": one.voxels, "volume": one.volume,
                 "peak": one.peak, "at": [one.peak_x, one.peak_y, one.peak_z]}
                for one in found[:_GROUPS]]  # fmt: skip
        return {"count": len(found), "voxels": sum(one.voxels for one in found), "groups": rows}

    # What writes.

    @property
    def savers(self) -> Mapping[str, Callable[[str, int], list[str]]]:
        """What may be saved by name."""
        return {"picture": self._save_picture, "look": self._save_look, "python": self._save_python,
                "marks": self._save_marks}  # fmt: skip

    def _save_picture(self, folder: str, bits: int) -> list[str]:
        """Write three planes through the point with letters and bars, or the panel shown alone."""
        if bits != 8:
            raise LookError("pictures of slices have 8 bits")
        state, path = self.session.state, free_path(folder, ".png")
        given: dict[str, Any] = {"side": state.side, "axes": state.axes, "size": _PICTURE}
        layers = self.session.layers()
        if state.panels > 1:
            three_planes(layers, state.point, **given).save(path)
        elif PANES[state.panel] == "oblique":
            given.pop("axes")
            slice_picture(layers, "oblique", oblique=free_plane(state, self.session.turn),
                          slab=state.slab, project=state.project, **given).save(path)  # type: ignore[arg-type]  # fmt: skip
        else:
            pane = self.session.pane(state.panel)
            slice_picture(layers, pane.cut, at=pane.at, slab=state.slab,
                          project=state.project, **given).save(path)  # type: ignore[arg-type]  # fmt: skip
        return [path]

    def _save_look(self, folder: str, bits: int) -> list[str]:
        path = free_path(folder, ".look.toml")
        self.session.state.layers[self.session.state.active].look.save(path)
        return [path]

    def _save_python(self, folder: str, bits: int) -> list[str]:
        path = free_path(folder, ".py")
        with written_whole(path, overwrite=False) as file:
            file.write(slices_python(self.session).encode())
        return [path]

    def _save_marks(self, folder: str, bits: int) -> list[str]:
        """Write what stands under the marks in every frame of every layer as CSV."""
        import pandas

        marks = self.session.state.marks
        if not marks:
            raise LookError("nothing is marked: M marks the point where the planes meet")
        points = [{"name": f"mark {number}", **dict(zip("xyz", one, strict=True))}
                  for number, one in enumerate(marks, 1)]  # fmt: skip
        path = free_path(folder, ".csv", "marks")
        rows = probed_volumes(self.session.layers(), points)
        write_csv(pandas.DataFrame(rows), path, overwrite=False)
        return [path]

    def _file(self) -> tuple[str, ShownVolume]:
        number = self.session.state.active
        return kept_with(self.session.given[number].file), self.session.state.layers[number]

    def kept_text(self) -> str:
        """Say what keeping the active layer's look with its file writes."""
        file, shown = self._file()
        said = ", ".join(f"{key} = {value}" for key, value in shown.look.to_dict().items())
        return f"{file_name(file)}.spectrane.toml: {said or 'no look'}"

    def keep(self) -> str:
        """Keep the active layer's look with its file."""
        file, shown = self._file()
        amend(file, look=shown.look)
        return f"{file}.spectrane.toml"


def _layer(session: VolumeSession, number: int) -> dict[str, Any]:
    given, shown = session.given[number], session.state.layers[number]
    source = given.layer.source
    test = shown.threshold
    return {
        "title": given.layer.title, "file": given.file, "role": given.role,
        "bands": [{"name": band.name, "role": band.role, "wavelength": None, "unit": band.unit}
                  for band in source.bands],
        "look": shown.look.to_dict(), "opacity": shown.opacity, "visible": shown.visible,
        "mode": "normal", "threshold": test if isinstance(test, str) else None,
        "test": None if test is None else str(test), "frame": shown.frame, "least": shown.least,
        "faded": shown.faded, "tested": last_number(test if isinstance(test, str) else ""),
        "times": [band.time for band in source.bands],
    }  # fmt: skip
