"""What every reader promises, as tests."""

from __future__ import annotations

import pickle
import shutil
import warnings
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine import cache
from spectrane.engine.files import LocalFile
from spectrane.formats.registry import members_of, open_source
from spectrane.kernels.records import record
from spectrane.model.errors import SpectraneError
from spectrane.model.source import Source
from spectrane.model.window import Window, block_window, blocks_touching, whole


@record(frozen=True)
class Example:
    """A file made without the code under test, and what stands in it.

    ``values`` are (bands, rows, columns), or (frames, i, j, k) of volumes, in the stored type;
    ``valid`` tells which count (None: all). ``within`` is how far they may be off: 0 unless the
    format itself changes numbers.
    """

    path: Path
    values: NDArray[Any]
    valid: NDArray[np.bool_] | None = None
    member: int | str | None = None
    within: float = 0.0


class ReaderTests:
    """Subclass it, name the ``format`` and answer ``examples``; pytest does the rest.

    ``large`` may return a file of a megabyte or more, to see that opening it, and reading a corner,
    fetches a part of it. ``told`` are warnings (regular expressions) that belong to the examples.
    """

    format: str
    """What ``source.format`` says."""
    by_content = True
    """Whether a file is known whatever its name and what lies beside it."""
    part_alone = True
    """Whether a window can be read without fetching everything."""
    cuts = 24
    """At how many places each example is cut, and changed."""

    def examples(self, folder: Path) -> Iterable[Example]:
        """Make files in a folder, by other means than the reader and its writer."""
        raise NotImplementedError

    def large(self, folder: Path) -> Path | None:
        """Make a file of a megabyte or more; None where there is none to test with."""
        return None

    # What is tested ------------------------------------------------------------------------

    def test_numbers_and_validity_are_those_of_the_file(self, tmp_path: Path) -> None:
        """What is read is what was put in, in its own type."""
        for example in self._examples(tmp_path):
            with _Opened(example) as source:
                assert source.format == self.format
                assert source.dtype == example.values.dtype.newbyteorder("=")
                pixels = _everything(source)
                assert pixels.values.shape == example.values.shape
                valid = (
                    np.ones(example.values.shape, bool) if example.valid is None else example.valid
                )
                np.testing.assert_array_equal(pixels.validity, valid)
                np.testing.assert_allclose(
                    pixels.values[valid].astype(np.float64),
                    example.values[valid].astype(np.float64), rtol=0, atol=example.within,
                )  # fmt: skip

    def test_it_is_known_by_its_content(self, tmp_path: Path) -> None:
        """Another name changes nothing."""
        for one in self._examples(tmp_path) if self.by_content else []:
            other = one.path.with_name(f"renamed-{one.path.stem}.xyz")
            (shutil.copytree if one.path.is_dir() else shutil.copy)(one.path, other)
            with _Opened(Example(other, one.values, member=one.member)) as source:
                assert source.format == self.format

    def test_windows_are_parts_of_the_whole(self, tmp_path: Path) -> None:
        """A window, some bands, or the blocks one after another give the same numbers."""
        for example in self._examples(tmp_path):
            with _Opened(example) as source:
                everything = _everything(source)
                for window in _windows(source.shape):
                    where = (slice(None), *(slice(*pair) for pair in window))
                    bands = list(range(len(source.bands)))[::-1]
                    part = source.read(bands, window)
                    np.testing.assert_array_equal(part.values, everything.values[::-1][where])
                    np.testing.assert_array_equal(part.validity, everything.validity[::-1][where])
                seen = np.zeros(source.shape, int)
                for window, pixels in source.blocks([0], whole(source.shape)):
                    inside = tuple(slice(*pair) for pair in window)
                    seen[inside] += 1
                    np.testing.assert_array_equal(pixels.values[0], everything.values[0][inside])
                assert (seen == 1).all()

    def test_it_can_be_pickled(self, tmp_path: Path) -> None:
        """Another process reads the same."""
        for example in self._examples(tmp_path):
            with _Opened(example) as source:
                again = pickle.loads(pickle.dumps(source))
                np.testing.assert_array_equal(_everything(again).values, _everything(source).values)
                again.close()

    def test_members_are_listed_and_opened_by_number_and_name(self, tmp_path: Path) -> None:
        """Each member opens as it is listed; one that is not there is an error."""
        for example in self._examples(tmp_path):
            listed = _quietly(members_of, example.path)
            assert [member.number for member in listed] == list(range(1, len(listed) + 1))
            names = [member.name for member in listed]
            for member in listed:
                unique = bool(member.name) and names.count(member.name) == 1
                for called in (member.number, *([member.name] if unique else [])):
                    source = _quietly(open_source, example.path, member=called)
                    flat = len(source.shape) == 2
                    shape = source.shape if flat else (source.shape[1], source.shape[0])
                    facts = (*shape, len(source.bands), source.dtype.name)
                    assert facts == (member.rows, member.columns, member.bands, member.dtype)
                    source.close()
            _refused(open_source, example.path, member=len(listed) + 1)

    def test_opening_and_a_window_fetch_a_part(self, tmp_path: Path, monkeypatch: Any) -> None:
        """Opening reads little of a large file, and a corner not all of it."""
        path = self.large(tmp_path)
        if path is None:
            return
        fetched: list[int] = []
        fetch, mapped = LocalFile.fetch, LocalFile.mapped

        def counted(self: LocalFile, ranges: Any) -> Any:
            fetched.extend(length for _, length in ranges)
            return fetch(self, ranges)

        def told(self: LocalFile) -> Any:
            fetched.append(0)  # mapped: only what is touched is read
            return mapped(self)

        monkeypatch.setattr(LocalFile, "fetch", counted)
        monkeypatch.setattr(LocalFile, "mapped", told)
        size = path.stat().st_size
        assert size >= 1 << 20
        source = _quietly(open_source, path)
        assert sum(fetched) <= size // 2, f"opening fetched {sum(fetched)} of {size} bytes"
        fetched.clear()
        if self.part_alone:
            _quietly(source.read, [0], tuple((0, min(n, 16)) for n in source.shape))
            assert sum(fetched) <= size // 2, f"a corner fetched {sum(fetched)} of {size} bytes"
        source.close()

    def test_what_is_cut_or_changed_is_refused_or_read(self, tmp_path: Path) -> None:
        """Whatever bytes there are, a raster comes, or an error of ours that names the file."""
        random = np.random.default_rng(1)
        for example in self._examples(tmp_path):
            if example.path.is_dir():
                continue
            data = example.path.read_bytes()
            for kind in ("cut", "changed"):
                for place in np.linspace(0, len(data) - 1, self.cuts).astype(int).tolist():
                    broken = bytearray(data[:place] if kind == "cut" else data)
                    if kind == "changed":
                        broken[place : place + 4] = random.bytes(len(broken[place : place + 4]))
                    example.path.write_bytes(broken)
                    told = _problem(example)
                    assert told is None or example.path.name in told
            example.path.write_bytes(data)

    def _examples(self, folder: Path) -> list[Example]:
        made = list(self.examples(folder))
        assert made, "examples: expected one file or more"
        return made


class _Opened:
    """A source that is closed afterwards, opened anew: nothing of it stays in the cache."""

    def __init__(self, example: Example) -> None:
        cache.blocks.clear()
        self.source: Source = _quietly(open_source, example.path, member=example.member)

    def __enter__(self) -> Source:
        return self.source

    def __exit__(self, *_: object) -> None:
        self.source.close()


def _problem(example: Example) -> str | None:
    """Return what an error of ours says of a file; None where it could be read."""
    try:
        with _Opened(example) as source:
            _everything(source)
    except SpectraneError as error:
        return str(error)
    return None


def _quietly(action: Any, *given: Any, **options: Any) -> Any:
    """Do something whose warnings are of no matter here."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return action(*given, **options)


def _everything(source: Source) -> Any:
    return _quietly(source.read, range(len(source.bands)), whole(source.shape))


def _refused(action: Any, *given: Any, **options: Any) -> None:
    try:
        _quietly(action, *given, **options)
    except SpectraneError:
        return
    raise AssertionError(f"{given} {options}: expected an error")


def _windows(shape: tuple[int, ...]) -> Iterator[Window]:
    """Yield the first and last pixel, a line along each axis, blocks, and random windows."""
    yield tuple((0, 1) for _ in shape)
    yield tuple((n - 1, n) for n in shape)
    for axis in range(len(shape)):
        yield tuple((n // 2, n // 2 + 1) if k == axis else (0, n) for k, n in enumerate(shape))
    block = tuple(max(1, n // 2) for n in shape)
    for position in blocks_touching(whole(shape), block):
        yield block_window(position, block, shape)
    random = np.random.default_rng(2)
    for _ in range(4):
        ends = [np.sort(random.integers(0, n + 1, 2)) for n in shape]
        if all(a < b for a, b in ends):
            yield tuple((int(a), int(b)) for a, b in ends)
