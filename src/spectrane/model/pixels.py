"""Pixels: what one read of a source answers with."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.nodata import NoDataRule

ALL_VALID: NDArray[np.bool_] = np.ones((1, 1, 1), bool)
ALL_VALID.setflags(write=False)


def full_alpha(dtype: np.dtype[Any]) -> float:
    """Return the alpha of a type that is opaque: its greatest number, 1 for floats.

    >>> full_alpha(np.dtype("uint8")), full_alpha(np.dtype("float32"))
    (255.0, 1.0)
    """
    return 1.0 if dtype.kind == "f" else float(np.iinfo(dtype).max)


class Pixels:
    """Values of some bands over one window.

    ``values`` is (bands, rows, columns), or (frames, i, j, k), in the stored type where nothing
    was interpolated and in float32 or float64 where something was. ``mask`` is what the file or
    a clip says is valid (bool, broadcasts to ``values``; None: everything). ``rules`` are the
    no-data rules still to be applied, one per band: display kernels fold them into their
    tables, everybody else asks for ``valid``. ``when`` is ``any`` (a band's pixel is invalid by
    its own number) or ``all`` (only where that of every band here is). ``alpha`` is the optional
    coverage, rows by columns, from 0 to the greatest value of its type (1 for floats). ``known`` is
    ``valid`` where whoever makes them has found it already.

    >>> pixels = Pixels(np.array([[[0, 7]]], np.uint8), rules=(NoDataRule((0,)),))
    >>> pixels.valid.tolist()
    [[[False, True]]]
    """

    __slots__ = ("_valid", "alpha", "mask", "rules", "values", "when")

    def __init__(
        self,
        values: NDArray[Any],
        *,
        mask: NDArray[np.bool_] | None = None,
        rules: Sequence[NoDataRule] = (),
        alpha: NDArray[Any] | None = None,
        when: str = "any",
        known: NDArray[np.bool_] | None = None,
    ) -> None:
        self.values = values
        self.when = when
        self.mask = mask
        self.rules = tuple(rules) or (NoDataRule(),) * len(values)
        self.alpha = alpha
        self._valid = known

    @property
    def valid(self) -> NDArray[np.bool_]:
        """Where each band holds a number: bool, broadcasts to ``values``."""
        if self._valid is None:
            self._valid = self._find_valid()
        return self._valid

    def _find_valid(self) -> NDArray[np.bool_]:
        given = self.given_mask()
        if not any(rule.applies_to(self.values.dtype) for rule in self.rules):
            everything = ALL_VALID.reshape((1,) * self.values.ndim)
            return everything if given is None else self._agreed(given)
        valid = np.stack([~r.invalid(v) for r, v in zip(self.rules, self.values, strict=True)])
        if given is not None:
            valid &= given
        return self._agreed(valid)

    def _agreed(self, valid: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """Return where any band is valid, where only all together are invalid; else as it is."""
        return np.asarray(valid.any(axis=0, keepdims=True) if self.when == "all" else valid)

    @property
    def validity(self) -> NDArray[np.bool_]:
        """``valid`` of every single number: of the shape of ``values``, as a view."""
        return np.broadcast_to(self.valid, self.values.shape)

    @property
    def coverage(self) -> NDArray[np.float64] | None:
        """The alpha as a share 0...1 of each pixel; None where there is none."""
        return None if self.alpha is None else self.alpha / full_alpha(self.alpha.dtype)

    def given_mask(self) -> NDArray[np.bool_] | None:
        """Return the mask, with pixels of alpha 0 taken out; None where all are valid."""
        if self.alpha is None:
            return self.mask
        covered: NDArray[np.bool_] = self.alpha[np.newaxis] > 0
        return covered if self.mask is None else self.mask & covered

    @property
    def shown(self) -> NDArray[np.bool_]:
        """Where all bands here hold a number, or (for ``all``) one of them: one bool a pixel."""
        return np.broadcast_to(self.valid.all(axis=0), self.values.shape[1:])

    def only(self, kept: NDArray[np.bool_]) -> Pixels:
        """Return the same numbers, valid only where ``kept`` (of the spatial axes) is too."""
        wanted = kept[np.newaxis]
        mask = wanted if self.mask is None else self.mask & wanted
        return Pixels(self.values, mask=mask, rules=self.rules, alpha=self.alpha, when=self.when)

    def flattened(self) -> Pixels:
        """Return a volume's voxels as rows and columns, in some order: to be counted."""
        rows = int(self.values.shape[1])
        mask = self.mask
        if mask is not None:
            whole = np.broadcast_to(mask, (len(mask), *self.values.shape[1:]))
            mask = whole.reshape(len(mask), rows, -1)
        values = self.values.reshape(len(self.values), rows, -1)
        return Pixels(values, mask=mask, rules=self.rules, when=self.when)

    def cut(self, where: tuple[slice, ...]) -> Pixels:
        """Return a part, as views; ``where`` has a slice per spatial axis."""
        return Pixels(
            self.values[(slice(None), *where)],
            mask=None if self.mask is None else _cut(self.mask, where),
            rules=self.rules,
            alpha=None if self.alpha is None else self.alpha[where],
            when=self.when,
        )


def _cut(mask: NDArray[np.bool_], where: tuple[slice, ...]) -> NDArray[np.bool_]:
    along = (w if n > 1 else slice(None) for w, n in zip(where, mask.shape[1:], strict=True))
    return mask[(slice(None), *along)]
