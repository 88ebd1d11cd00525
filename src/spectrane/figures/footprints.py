"""Footprints of scenes over an area, with quick-looks of the best of them."""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from contextlib import closing
from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.figure import Figure, FigureBase
from matplotlib.patches import PathPatch
from matplotlib.path import Path
from numpy.typing import NDArray

from spectrane.catalogs.dates import moment_text
from spectrane.display.render import draw_raster
from spectrane.engine.files import open_bytes
from spectrane.figures.paper import INK, MUTED, PAPER, chart_page, finished_chart
from spectrane.kernels.quiet import quiet
from spectrane.model.addresses import is_web
from spectrane.model.colormaps import colormaps
from spectrane.model.errors import LookError, SpectraneError
from spectrane.model.printing import share_text

if TYPE_CHECKING:  # catalogues take a while to load, and other charts need none
    from matplotlib.axes import Axes

    from spectrane.catalogs.areas import SoughtArea
    from spectrane.catalogs.finding import Scene, Scenes
    from spectrane.catalogs.items import Item

_LOOKS = 6
_LARGEST = 32 << 20
_AREA = "#b8423a"


@quiet
def footprints(
    scenes: Scenes, *, size: Sequence[int] = (800, 1280), figure: FigureBase | None = None,
    ax: Axes | None = None,
) -> Figure:  # fmt: skip
    """Return a figure of scenes that were found: where each lies over the area, and how the first
    of them look. ``size`` is (rows, columns) in pixels.

    Scenes left out are thin. Small pictures are read, of scenes without one that lie at hand the
    bands. It is drawn on a caller's ``figure`` or part of one, or in the place of axes ``ax``.
    Raises LookError where no scene says where it lies.

    >>> from spectrane.catalogs.finding import find_scenes
    >>> import numpy as np, pathlib, spectrane as sp, tempfile
    >>> grid = sp.Grid.from_corner((40, 50), x=500000, y=7e6, pixel_size=10, crs="EPSG:32727")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     sp.from_array(np.ones((40, 50), "u1"), grid=grid).save(pathlib.Path(folder, "a.tif"))
    ...     len(footprints(find_scenes(folder)).axes)
    2
    """
    placed = [one for one in (*scenes.found, *scenes.left_out) if one.item.geometry is not None]
    if not placed:
        raise LookError("footprints: no scene says where it lies")
    from spectrane.catalogs.areas import area_of

    area = scenes.area or area_of(_around(placed))
    page = chart_page(size, figure, ax)
    inks = [f"#{bytes(entry[:3]).hex()}" for entry in colormaps["pebbles"].entries]
    axes = page.add_axes((0.06, 0.07, 0.52, 0.83))
    _draw_map(axes, scenes, area, inks)
    _write_head(page, scenes)
    if scenes.area is not None:
        page.text(0.06, 0.02, "filled: the area   dashed: left out   ★: one of the fewest that "
                    "show all that can be seen", color=INK, fontsize=8)  # fmt: skip
    few = {one.item.id for one in scenes.fewest}
    shown = scenes.found[:_LOOKS]
    down = max(3, -(-len(shown) // 2))
    for number, scene in enumerate(shown):
        place = (0.62 + number % 2 * 0.19, 0.9 - (number // 2 + 1) * 0.83 / down,
                 0.17, 0.83 / down - 0.085)  # fmt: skip
        _draw_look(page, place, scene, number + 1, inks[number % len(inks)], scene.item.id in few)
    return finished_chart(page)


def _around(scenes: Sequence[Scene]) -> tuple[float, float, float, float]:
    """Return the box around scenes, where no area was asked for."""
    from spectrane.catalogs.areas import box_of

    boxes = []
    for one in scenes:
        try:
            assert one.item.geometry is not None
            boxes.append(box_of(one.item.geometry))
        except Exception:  # told of each scene when it was looked at
            continue
    if not boxes:
        raise LookError("footprints: no scene says where it lies")
    return (min(one[0] for one in boxes), min(one[1] for one in boxes),
            max(one[2] for one in boxes), max(one[3] for one in boxes))  # fmt: skip


def _draw_map(axes: Any, scenes: Scenes, area: SoughtArea, inks: Sequence[str]) -> None:
    """Draw footprints on the area's equal-area map, in kilometres from its middle."""
    for scene in reversed(scenes.left_out):
        shape = _shape(scene, area)
        if shape is not None:
            _outline(axes, shape, edgecolor=MUTED, linewidth=0.8, linestyle=(0, (4, 3)))
    for number, scene in reversed(list(enumerate(scenes.found, 1))):
        shape = _shape(scene, area)
        if shape is None:
            continue
        ink = inks[(number - 1) % len(inks)]
        _outline(axes, shape, edgecolor=ink, linewidth=2.0)
        corner = _corner(shape, number)
        axes.text(*corner, str(number), color="white", fontsize=9, ha="center", va="center",
                  weight="bold", bbox={"boxstyle": "circle,pad=0.25", "fc": ink, "ec": "white"},
                  clip_on=True)  # fmt: skip
    if scenes.area is not None:
        _outline(axes, area.shape, facecolor=(*_rgb(_AREA), 0.25), edgecolor=_AREA, linewidth=1.6)
    axes.set_aspect("equal", adjustable="box", anchor="NW")
    _zoom(axes, scenes, area)
    axes.set_facecolor(PAPER)
    axes.tick_params(colors=INK, labelsize=8)
    lon, lat = area.middle
    middle = f"{abs(lat):.3f}° {'N' if lat >= 0 else 'S'}, {abs(lon):.3f}° "
    axes.set_xlabel(f"km from {middle}{'E' if lon >= 0 else 'W'}", color=INK, fontsize=8)
    for spine in axes.spines.values():
        spine.set_color(MUTED)


def _rgb(text: str) -> tuple[float, float, float]:
    return tuple(int(text[k : k + 2], 16) / 255 for k in (1, 3, 5))  # type: ignore[return-value]


def _zoom(axes: Any, scenes: Scenes, area: SoughtArea) -> None:
    """Show what was found and the area; scenes that lie far off need not be seen whole."""
    shapes = [one for scene in scenes.found if (one := _shape(scene, area)) is not None]
    shapes.append(area.shape)
    x_min, y_min = (min(one.bounds[k] for one in shapes) / 1000 for k in (0, 1))
    x_max, y_max = (max(one.bounds[k] for one in shapes) / 1000 for k in (2, 3))
    rim = 0.06 * max(x_max - x_min, y_max - y_min)
    axes.set_xlim(x_min - rim, x_max + rim)
    axes.set_ylim(y_min - rim, y_max + rim)


def _shape(scene: Scene, area: SoughtArea) -> Any:
    if scene.shape is not None or scene.item.geometry is None:
        return scene.shape
    from spectrane.catalogs.areas import geometry_on

    try:
        return geometry_on(area, scene.item.geometry)
    except LookError:
        return None


def _corner(shape: Any, number: int) -> tuple[float, float]:
    """Return where a scene's number stands: along its outline, so that several are told apart."""
    ring = max(getattr(shape, "geoms", [shape]), key=lambda one: one.area).exterior
    point = ring.interpolate((0.07 + 0.13 * number) % 1, normalized=True)
    return float(point.x) / 1000, float(point.y) / 1000


def _outline(axes: Any, shape: Any, *, facecolor: Any = "none", **how: Any) -> None:
    for part in getattr(shape, "geoms", [shape]):
        if part.geom_type == "Polygon":
            rings = [np.asarray(ring.coords) / 1000 for ring in (part.exterior, *part.interiors)]
            codes = [code for ring in rings for code in
                     (Path.MOVETO, *[Path.LINETO] * (len(ring) - 2), Path.CLOSEPOLY)]  # fmt: skip
            path = Path(np.vstack(rings), codes)
            axes.add_patch(PathPatch(path, facecolor=facecolor, **how))
        elif part.geom_type in ("LineString", "Point"):
            points = np.asarray(part.coords) / 1000
            axes.plot(*points.T, color=how["edgecolor"], marker="o", markersize=4)


def _write_head(figure: FigureBase, scenes: Scenes) -> None:
    count, left = len(scenes.found), len(scenes.left_out)
    over = "" if scenes.area is None else f" over {scenes.area.title.rpartition('/')[2]}"
    figure.text(0.06, 0.955, f"{count} scenes{over}, {left} left out", color=INK, fontsize=14,
                weight="bold")  # fmt: skip
    if scenes.fewest and scenes.covered is not None:
        names = ", ".join(one.item.id for one in scenes.fewest)
        seen = share_text(scenes.covered)
        text = f"{seen} of the area is seen; fewest scenes that show it: {names}"
        figure.text(0.06, 0.925, text, color=INK, fontsize=9)


def _draw_look(
    figure: FigureBase, place: tuple[float, float, float, float], scene: Scene, number: int,
    ink: str, in_fewest: bool,
) -> None:  # fmt: skip
    left, bottom, _, high = place
    rgba = quick_look(scene.item)
    if rgba is not None:
        axes = figure.add_axes(place)
        axes.imshow(rgba, interpolation="nearest", aspect="equal")
        axes.set_anchor("NW")
        axes.set_xticks([])
        axes.set_yticks([])
        for spine in axes.spines.values():
            spine.set(color=ink, linewidth=2.0)
    date = scene.item.date
    when = "no date" if date is None else moment_text(date)[:16].replace("T", " ")
    share = "" if scene.share is None else f"{scene.share:.0%} seen, "
    cloud = "cloud unknown" if scene.cloud is None else f"cloud {_percent(scene.cloud)}"
    cloud += " of it" if scene.cloud_over is not None else ""
    figure.text(left, bottom + high + 0.03, f"{number}  {when}" + ("  ★" if in_fewest else ""),
                color=ink, fontsize=10, weight="bold")  # fmt: skip
    figure.text(left, bottom + high + 0.01, f"{share}{cloud}", color=INK, fontsize=8)


def _percent(number: float) -> str:
    return "under 1 %" if 0 < number < 1 else f"{number:.0f} %"


def quick_look(item: Item) -> NDArray[np.uint8] | None:
    """Return a small picture of a scene: its own, or where its bands lie at hand drawn of them.

    None where there is none, or it cannot be read.
    """
    from PIL import Image

    from spectrane.catalogs.items import storage_options
    from spectrane.catalogs.opening import open_item

    picture = item.picture()
    try:
        if picture is not None:
            with closing(open_bytes(picture.href, storage_options(item, picture))) as file:
                import io

                content = file.read(0, min(file.size, _LARGEST))
            with Image.open(io.BytesIO(content)) as image:
                image.thumbnail((400, 400))
                return np.asarray(image.convert("RGBA"))
        if any(is_web(asset.href) for asset in item.data_assets()) or not item.data_assets():
            return None
        with warnings.catch_warnings(), closing(open_item(item)) as source:
            warnings.simplefilter("ignore")  # a small picture may mislead: it is only a hint
            return draw_raster(source, None, size=(300, 300)).rgba
    except (SpectraneError, OSError, ValueError, Image.DecompressionBombError):
        return None
