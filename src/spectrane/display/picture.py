"""A finished picture: what a person sees, and what it says of itself."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.legends import Legend
from spectrane.display.plan import RenderPlan
from spectrane.display.shading import Scale, channel_names
from spectrane.formats.png.encoding import encode_png
from spectrane.kernels.quiet import quiet_methods
from spectrane.kernels.records import record
from spectrane.model.errors import FormatError, LookError
from spectrane.model.grid import Grid
from spectrane.model.marks import NO_SYSTEM, PICTURE, SOURCE
from spectrane.model.targets import Target, local_place
from spectrane.model.whole_files import written_whole

if TYPE_CHECKING:
    from spectrane.display.keys import Shown
    from spectrane.model.asking import BarSide

Rgba = NDArray[np.uint8]


def check_picture_name(path: str | os.PathLike[str]) -> None:
    """Raise FormatError for another ending than ``.png``."""
    if not os.fspath(path).lower().endswith(".png"):
        raise FormatError(f"{os.fspath(path)}: pictures are written as .png")


@quiet_methods
@record(frozen=True, eq=False)
class Picture:
    """A display of a raster: levels and colours, not data.

    ``rgba`` is (rows, columns, 4) uint8 with straight alpha; ``grid`` says where it lies, and
    ``scales`` how each channel was shown. ``source`` is the file's name, without its folder.
    ``plan`` is how it was drawn, where it was drawn from one raster; ``shown`` is what
    its key tells of, layer by layer. Pictures are equal where their
    pixels, their place and what they say are; they can be pickled.

    >>> import numpy as np, spectrane as sp
    >>> picture = sp.render(sp.from_array(np.arange(64.0).reshape(8, 8)))
    >>> picture.rgba.shape, picture.scales[0].band
    ((8, 8, 4), 'band 1')
    """

    rgba: NDArray[np.uint8]
    grid: Grid
    scales: tuple[Scale, ...]
    source: str
    notes: tuple[str, ...] = ()
    plan: RenderPlan | None = field(default=None, repr=False)
    in_sixteen_bits: Callable[[], NDArray[np.uint16]] | None = field(default=None, repr=False)
    shown: tuple[Shown, ...] = field(default=(), repr=False)

    @cached_property
    def rgba16(self) -> NDArray[np.uint16]:
        """The same picture in 16 bits, computed from the values where it is of one raster.

        >>> import numpy as np, spectrane as sp
        >>> sp.render(sp.from_array(np.arange(64.0).reshape(8, 8))).rgba16.dtype
        dtype('uint16')
        """
        if self.in_sixteen_bits is None:
            return self.rgba.astype(np.uint16) * np.uint16(257)
        return self.in_sixteen_bits()

    @property
    def extent(self) -> tuple[float, float, float, float]:
        """(left, right, bottom, top) of its outer edges on the map, as plots of images take it.

        >>> Picture(np.zeros((2, 3, 4), np.uint8), Grid((2, 3)), (), "array").extent
        (0.0, 3.0, 2.0, 0.0)
        """
        (left, top), _, (right, bottom), _ = self.grid.corners
        return left, right, bottom, top

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> NDArray[Any]:
        """Return ``rgba``: what NumPy's functions, and plots of images, take."""
        array = self.rgba if dtype is None else self.rgba.astype(dtype)
        return array.copy() if copy else array

    def legend(self) -> Legend:
        """Return what its legend says, of classes those that occur.

        Raises LookError for one blended of several layers.

        >>> import numpy as np, spectrane as sp
        >>> sp.render(sp.from_array(np.arange(64.0).reshape(8, 8))).legend().channels
        ()
        """
        if self.plan is None:
            raise LookError("legend: the picture is blended of layers, and each has its own; draw "
                            "one alone")  # fmt: skip
        legend = self.plan.legend()
        if not legend.classes or not self.shown:
            return legend
        from spectrane.display.keys import classes_seen, occurring_in

        return replace(legend, classes=classes_seen(self.plan, occurring_in(self.shown[0].pixels)))

    def __repr__(self) -> str:
        rows, columns = self.rgba.shape[:2]
        return f"<Picture of {self.source}: {rows} rows x {columns} columns>"

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Picture):
            return NotImplemented
        return self._said() == other._said() and np.array_equal(self.rgba, other.rgba)

    def __hash__(self) -> int:
        return hash((self._said(), self.rgba.tobytes()))

    def _said(self) -> tuple[Any, ...]:
        return self.grid, self.scales, self.source, self.notes

    @property
    def channels(self) -> tuple[str, ...]:
        """What the channels of ``scales`` are called: grey; or red, green, blue, alpha."""
        return channel_names(len(self.scales))

    @property
    def description(self) -> str:
        """What the picture says of itself when it is saved."""
        return self._said_of(placed=self.grid.placed)

    def _said_of(self, *, placed: bool) -> str:
        """Say what the picture is; and where, if its edges are those of what is saved."""
        lines = [PICTURE, f"{SOURCE}{self.source}"]
        named = zip(self.channels, self.scales, strict=False)
        channels = ", ".join(f"{name} = {scale.band}" for name, scale in named)
        lines.append(f"Channels: {channels or 'classes'}")
        lines.append(f"Limits: {'; '.join(map(str, self.scales)) or 'none'}")
        lines += [f"Curve: {self.scales[0].curve}"] if self.scales else []
        lines += self.notes
        if placed and not self.grid.rotated:
            bounds = ", ".join(f"{value:.10g}" for value in self.grid.bounds)
            lines.append(f"Bounds: {bounds} ({self.grid.crs_text or NO_SYSTEM})")
        return "\n".join(lines)

    def finished(self, *, bar: BarSide | None = None, caption: str | None = None) -> Rgba:
        """Return (rows, columns, 4) uint8 to hand on: the picture on dark ground, with its key at
        one side and a caption below.

        ``bar`` is ``right``, ``left`` or ``bottom``: a colour bar from end to end, with points
        where values lie beyond; the classes that occur; or what the colours of a composite mean.
        Of layers each has its own. Raises LookError for another side, or nothing to tell.

        >>> import numpy as np, spectrane as sp
        >>> picture = sp.render(sp.from_array(np.arange(64.0).reshape(8, 8)))
        >>> picture.finished(bar="right", caption="Depth").shape[1] > 8
        True
        """
        from spectrane.display.finishing import with_key_and_caption

        return with_key_and_caption(self.rgba, self.shown, bar, caption)

    def save(
        self, path: Target, *, bits: int = 8, bar: BarSide | None = None,
        caption: str | None = None, overwrite: bool = False,
        storage_options: Mapping[str, Any] | None = None,
    ) -> None:  # fmt: skip
        """Write a PNG of 8 or 16 bits per channel, with its description in a text chunk.

        ``path`` may be an fsspec URL, with ``storage_options``, or an open binary file.

        ``bar`` and ``caption`` are as ``finished`` has them, in 8 bits. Raises ExistingFile,
        AccessError; FormatError for another ending than ``.png``.

        >>> import numpy as np, spectrane as sp, tempfile, os
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     picture = sp.render(sp.from_array(np.arange(64.0).reshape(8, 8)))
        ...     picture.save(os.path.join(folder, "a.png"), bits=16)
        ...     os.listdir(folder)
        ['a.png']
        """
        if bits not in (8, 16):
            raise LookError(f"bits {bits}: expected 8 or 16")
        framed = bar is not None or bool(caption)
        if framed and bits != 8:
            raise LookError(f"bits {bits}: a bar or a caption is drawn in 8 bits")
        shown = self.rgba if bits == 8 else self.rgba16
        ending = None if isinstance(path, str | os.PathLike) else ".png"
        with local_place(path, ending=ending, overwrite=overwrite,
                         storage_options=storage_options) as place:  # fmt: skip
            check_picture_name(place)
            with written_whole(place, overwrite=overwrite) as file:
                if framed:
                    drawn = self.finished(bar=bar, caption=caption)
                    said = self._said_of(placed=False)
                    said += f"\nCaption: {caption}" if caption else ""
                    file.write(self._png(drawn, said))
                else:
                    file.write(self._png(shown))

    def _png(self, rgba: NDArray[Any], said: str | None = None) -> bytes:
        text = {"Description": said or self.description, "Software": "Spectrane"}
        return encode_png(rgba, text)

    def _repr_png_(self) -> bytes:
        return self._png(self.rgba)
