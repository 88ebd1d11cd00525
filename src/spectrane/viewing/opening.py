"""A live view that is open: its address, what it shows, and its end."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Self

from spectrane.analysis.spectra import Spectra
from spectrane.display.layers import Layer
from spectrane.display.outlines import Outline
from spectrane.model.grid import Bounds
from spectrane.model.look import Look
from spectrane.viewing.naming import named_places
from spectrane.viewing.rasters import RasterView
from spectrane.viewing.running import Running
from spectrane.viewing.server import Live, served_page
from spectrane.viewing.session import Session
from spectrane.viewing.state import Opened
from spectrane.viewing.viewed import Viewed

if TYPE_CHECKING:
    from spectrane.display.volume_layers import VolumeLayer
    from spectrane.viewing.volume_state import VolumeGiven


class LiveView:
    """A live view that is served: its address, and its end; shows itself inside a notebook."""

    def __init__(self, viewed: Viewed, port: int, save_to: str | None) -> None:
        self._live = Live(viewed, save_to)
        self._running = Running(lambda: served_page(self._live), port)
        threading.Thread(target=self._live.warm, daemon=True).start()

    @property
    def url(self) -> str:
        """The address, with the token that lets in."""
        return f"{self._running.address}/?token={self._live.token}"

    def wait(self) -> None:
        """Wait until the page ends it, or the terminal does.

        >>> import numpy as np, spectrane as sp
        >>> view = sp.view(sp.from_array(np.eye(9)))
        >>> view.close()
        >>> view.wait()
        """
        while self._running.alive and not self._live.ended.wait(0.2):
            pass

    def close(self) -> None:
        """End it.

        >>> import numpy as np, spectrane as sp
        >>> sp.view(sp.from_array(np.eye(9))).close()
        """
        self._live.ended.set()
        self._live.ask("stop", {})  # a long read would hold up the end
        self._running.stop()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def __repr__(self) -> str:
        return f"<Live view at {self.url}>"

    def _repr_html_(self) -> str:
        return (f'<iframe src="{self.url}&amp;inside=yes" width="100%" height="640" '
                'style="border:0"></iframe>')  # fmt: skip


class OpenedView(LiveView):
    """A live view of rasters: ``url`` is its address, until ``close``.

    >>> import numpy as np, spectrane as sp
    >>> with sp.view(sp.from_array(np.eye(9))) as view:
    ...     view.url.startswith("http://127.0.0.1:"), len(view.layers)
    (True, 1)
    """

    def __init__(
        self, layers: Sequence[Any], files: Sequence[tuple[Any, ...]] = (), *, port: int = 0,
        save_to: str | None = None, library: Spectra | None = None, points: Sequence[str] = (),
        points_crs: str | None = None,
    ) -> None:  # fmt: skip
        known = [Opened(layer, *one) for layer, one in zip(layers, files, strict=False)]
        self.session = Session.of(layers, known)
        outlines = [layer for layer in layers if isinstance(layer, Outline)]
        self.session.names = named_places(self.session.base, points, outlines, points_crs)
        super().__init__(RasterView(self.session, save_to, library), port, save_to)

    @property
    def look(self) -> Look:
        """The look of the active layer, as it is just now.

        >>> import numpy as np, spectrane as sp
        >>> with sp.view(sp.from_array(np.eye(9))) as view:
        ...     view.look == sp.Look()
        True
        """
        return self.session.state.layers[self.session.state.active].look

    @property
    def layers(self) -> list[Layer | Outline]:
        """The layers as they are shown just now, the lowest first: ``render`` takes them.

        >>> import numpy as np, spectrane as sp
        >>> with sp.view(sp.from_array(np.eye(9))) as view:
        ...     sp.render(view.layers).rgba.shape
        (9, 9, 4)
        """
        return self.session.layers()

    @property
    def area(self) -> Bounds:
        """What is seen just now: bounds on the lowest raster's map.

        >>> import numpy as np, spectrane as sp
        >>> with sp.view(sp.from_array(np.eye(9))) as view:
        ...     view.area[1], view.area[3]
        (0.0, 9.0)
        """
        rows, columns = self.session.size
        corners = [self.session.at(c, r) for c in (0, columns) for r in (0, rows)]
        xs, ys = zip(*corners, strict=True)
        return min(xs), min(ys), max(xs), max(ys)

    def look_at(
        self, bounds: Bounds | None, center: str | None = None, crs: str | None = None
    ) -> None:
        """Show bounds on the lowest raster's map (or in ``crs``), or a position as people write it.

        >>> import numpy as np, spectrane as sp
        >>> with sp.view(sp.from_array(np.eye(9))) as view:
        ...     view.look_at((2, 2, 8, 8))
        ...     [round(side, 3) for side in view.area]
        [0.5, 2.0, 9.5, 8.0]
        """
        if center is not None:
            self.session.change({"do": "goto", "text": center})
        if bounds is None:
            return
        from spectrane.model.systems import way_between

        if crs is not None and self.session.base.crs_text is not None:
            bounds = way_between(crs, self.session.base.crs_text).transform_bounds(*bounds)
        x_min, y_min, x_max, y_max = bounds
        rows, columns = self.session.size
        pixel = max((x_max - x_min) / columns, (y_max - y_min) / rows)
        self.session.change({"do": "place", "x": (x_min + x_max) / 2, "y": (y_min + y_max) / 2,
                             "pixel": pixel})  # fmt: skip


class OpenedVolumes(LiveView):
    """A live view of volumes: planes through a point, until ``close``.

    >>> import numpy as np, spectrane as sp
    >>> ball = sp.volume_from_array(np.ones((5, 6, 7)), affine=np.eye(4))
    >>> with sp.view(ball) as view:
    ...     view.point, len(view.layers)
    ((2.0, 2.5, 3.0), 1)
    """

    def __init__(
        self, layers: Sequence[Any], known: Sequence[VolumeGiven] = (), *, port: int = 0,
        save_to: str | None = None,
    ) -> None:  # fmt: skip
        from spectrane.viewing.volume_session import VolumeSession
        from spectrane.viewing.volumes import VolumeView  # which views of rasters do without

        self.session = VolumeSession.of(layers, known)
        super().__init__(VolumeView(self.session, save_to), port, save_to)

    @property
    def look(self) -> Look:
        """The look of the active layer, as it is just now.

        >>> import numpy as np, spectrane as sp
        >>> ball = sp.volume_from_array(np.ones((5, 6, 7)), affine=np.eye(4))
        >>> with sp.view(ball) as view:
        ...     view.look == sp.Look()
        True
        """
        return self.session.state.layers[self.session.state.active].look

    @property
    def layers(self) -> list[VolumeLayer]:
        """The layers as they are shown just now, the lowest first: ``three_planes`` takes them.

        >>> import numpy as np, spectrane as sp
        >>> ball = sp.volume_from_array(np.ones((5, 6, 7)), affine=np.eye(4))
        >>> with sp.view((ball, sp.Look(limits=(0, 2)))) as view:
        ...     sp.three_planes(view.layers, view.point, size=(60, 200), labels=False).rgba.shape[0]
        60
        """
        return self.session.layers()

    @property
    def point(self) -> tuple[float, float, float]:
        """Where the planes meet: x, y, z in mm of the patient.

        >>> import numpy as np, spectrane as sp
        >>> ball = sp.volume_from_array(np.ones((5, 6, 7)), affine=np.eye(4))
        >>> with sp.view(ball) as view:
        ...     view.point
        (2.0, 2.5, 3.0)
        """
        return self.session.state.point

    @property
    def area(self) -> tuple[tuple[float, float], ...]:
        """What the three planes show just now: from where to where along x, y and z, in mm.

        >>> import numpy as np, spectrane as sp
        >>> ball = sp.volume_from_array(np.ones((5, 6, 7)), affine=np.eye(4))
        >>> with sp.view(ball) as view:
        ...     [low < high for low, high in view.area]
        [True, True, True]
        """
        state = self.session.state
        rows, columns = self.session.size
        reach = state.pixel * max(rows, columns) / 2
        return tuple((middle - reach, middle + reach) for middle in state.center)
