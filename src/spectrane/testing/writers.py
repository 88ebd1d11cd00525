"""What every writer promises, as tests."""

from __future__ import annotations

import itertools
import warnings
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine import cache
from spectrane.engine.memory import ArraySource
from spectrane.formats.registry import open_source
from spectrane.formats.table import writer_for
from spectrane.model.band import Band
from spectrane.model.errors import ExistingFile, FormatError
from spectrane.model.source import Source
from spectrane.model.window import whole

RULES: dict[str, Any] = {"no no-data": None, "a value": 9, "values and a range": (9, (40, 44))}
MASKS = ("no mask", "one mask", "a mask per band")


class WriterTests:
    """Subclass it and name the ``ending``; pytest does the rest.

    The file that is written is read by whatever reader knows it: what counts is that numbers and
    validity come back.
    """

    ending: str
    types: tuple[str, ...] = ("u1", "u2", "u4", "u8", "i1", "i2", "i4", "i8", "f4", "f8")
    """Types that it writes as they are."""
    refused: tuple[str, ...] = ()
    """Types that it refuses with a FormatError."""
    bands: tuple[int, ...] = (1, 3)
    upside_down = False
    """Whether its first row is the lowest: rows come back as they were all the same."""

    # What is tested ------------------------------------------------------------------------

    def test_numbers_and_validity_come_back(self, tmp_path: Path) -> None:
        """Over types, numbers of bands, no-data and masks: what is valid stays so, and equal."""
        number = itertools.count()
        for dtype, count, (rule, nodata), mask in itertools.product(
            self.types, self.bands, RULES.items(), MASKS
        ):
            source = made(np.dtype(dtype), count, nodata, mask)
            target = tmp_path / f"{next(number)}{self.ending}"
            self.write(source, target)
            values, valid = _read(target)
            wanted, shown = _all_of(source)
            told = f"{dtype}, {count} bands, {rule}, {mask}"
            np.testing.assert_array_equal(valid, shown, err_msg=told)
            np.testing.assert_array_equal(values[shown], wanted[shown], err_msg=told)

    def test_what_it_cannot_hold_is_refused(self, tmp_path: Path) -> None:
        """Another type is a FormatError, and nothing is written."""
        for dtype in self.refused:
            source = made(np.dtype(dtype), self.bands[0], None, "no mask")
            try:
                self.write(source, tmp_path / f"a{self.ending}")
            except FormatError:
                assert not list(tmp_path.iterdir())
                continue
            raise AssertionError(f"{dtype}: expected a FormatError")

    def test_the_old_file_or_the_whole_new_one(self, tmp_path: Path) -> None:
        """Nothing is overwritten unasked; a run that is stopped leaves what there was."""
        target = tmp_path / f"a{self.ending}"
        source = made(np.dtype(self.types[0]), self.bands[0], None, "no mask")
        self.write(source, target)
        before = _read(target)[0]
        try:
            self.write(source, target)
        except ExistingFile:
            pass
        else:
            raise AssertionError("expected ExistingFile")
        left = sorted(tmp_path.iterdir())
        other = _Breaking(made(np.dtype(self.types[0]), self.bands[0], None, "no mask", seed=5))
        for fresh in (target, tmp_path / f"b{self.ending}"):
            try:
                self.write(other, fresh, overwrite=True)
            except KeyboardInterrupt:
                pass
            else:
                raise AssertionError("the source was never read")
            assert sorted(tmp_path.iterdir()) == left
        np.testing.assert_array_equal(_read(target)[0], before)

    def test_progress_goes_to_the_end(self, tmp_path: Path) -> None:
        """Steps only rise, and the last is the whole."""
        steps: list[tuple[int, int]] = []
        source = made(np.dtype(self.types[0]), self.bands[-1], None, "no mask")
        self.write(source, tmp_path / f"a{self.ending}", progress=lambda *step: steps.append(step))
        assert steps
        assert [done for done, _ in steps] == sorted(done for done, _ in steps)
        assert steps[-1][0] == steps[-1][1]

    def write(self, source: Source, target: Path, **options: Any) -> None:
        """Write a source as the library does, by the target's ending."""
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            writer_for(target)(source, target, **options)


class _Breaking(ArraySource):
    """A source whose last numbers never come: somebody stops the run while it is read."""

    def __init__(self, source: ArraySource) -> None:
        super().__init__(_all_of(source)[0], bands=source.bands, grid=source.grid)

    def read(self, bands: Any, window: Any, size: Any = None, resample: str = "nearest") -> Any:
        """Stop at the last row."""
        if window[0][1] == self.shape[0]:
            raise KeyboardInterrupt
        return super().read(bands, window, size, resample)

    def blocks(self, bands: Any, window: Any) -> Iterator[Any]:
        """Stop at once."""
        raise KeyboardInterrupt


def made(dtype: np.dtype[Any], count: int, nodata: Any, mask: str, seed: int = 1) -> ArraySource:
    """Return a raster of numbers that use a good part of their type, some of them no-data."""
    random = np.random.default_rng(seed)
    array: NDArray[Any] = random.integers(0, 120, (count, 37, 45)).astype(dtype)
    if dtype.kind == "f":
        array = (array * np.dtype(dtype).type(0.75)).astype(dtype)
    array[:, 3, 5:9] = 9
    shape = {"no mask": None, "one mask": (1, 37, 45), "a mask per band": array.shape}[mask]
    shown = None if shape is None else random.random(shape) > 0.25
    return ArraySource(array, mask=shown, bands=[Band(f"b{k}", nodata=nodata)
                                                 for k in range(count)])  # fmt: skip


def _all_of(source: Source) -> tuple[NDArray[Any], NDArray[np.bool_]]:
    pixels = source.read(range(len(source.bands)), whole(source.shape))
    return pixels.values, pixels.validity


def _read(path: Path) -> tuple[NDArray[Any], NDArray[np.bool_]]:
    cache.blocks.clear()
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        source = open_source(path)
        pixels = _all_of(source)
        source.close()
    return pixels
