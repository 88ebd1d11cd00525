"""What is made ahead comes in order, no further ahead than said, and an error at its turn."""

from __future__ import annotations

import gc
import threading
import time
import weakref
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

import spectrane as sp
from spectrane.engine.threads import as_they_come, in_parallel, made_ahead, thread_count
from spectrane.model.settings import settings


def _slow_when_even(number: int) -> tuple[int, int, int]:
    time.sleep(0.004 * (number % 2 == 0))
    return number, thread_count(), threading.get_ident()


@pytest.mark.parametrize("threads", [1, 2, 3])
def test_in_order_and_each_by_one_thread(threads: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(settings, "threads", threads)
    found = list(made_ahead(range(20), _slow_when_even))
    assert [number for number, _, _ in found] == list(range(20))
    assert {inside for _, inside, _ in found} == {1}, "what a thread calls starts no others"
    assert len({who for _, _, who in found}) <= threads
    assert thread_count() == threads


def test_no_further_than_a_few_and_an_error_at_its_turn(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(settings, "threads", 2)
    begun: list[int] = []

    def make(number: int) -> int:
        begun.append(number)
        if number == 5:
            raise ValueError("the fifth")
        return number

    walk = made_ahead(iter(range(1000)), make)
    assert [next(walk) for _ in range(3)] == [0, 1, 2]
    walk.close()
    assert len(begun) <= 3 + 3
    taken: list[int] = []
    with pytest.raises(ValueError, match="the fifth"):
        taken.extend(made_ahead(range(1000), make))
    assert taken == [0, 1, 2, 3, 4]
    assert len(begun) < 20


def test_a_walk_of_a_file_with_a_damaged_tile_tells_its_caller(tmp_path: Any) -> None:
    values = np.arange(6_000_000, dtype=np.uint16).reshape(2000, 3000)
    path = tmp_path / "whole.tif"
    sp.from_array(values).save(path)
    data = bytearray(path.read_bytes())
    where = len(data) // 2
    data[where : where + 4000] = bytes(4000)
    path.write_bytes(data)
    with pytest.warns(sp.DataWarning, match=r"found damaged") as told:
        found = sp.open(path, damaged="keep").statistics(1)
    assert 0 < found["valid"].iloc[0] < values.size
    assert {warning.filename for warning in told} == {__file__}
    with pytest.raises(sp.FormatError, match=r"damaged there.*damaged='keep'"):
        sp.open(path).statistics(1)


@pytest.mark.parametrize(
    "shared_out",
    [
        lambda one: in_parallel([one] * 4, lambda: id),
        lambda one: as_they_come(iter([one] * 4), lambda: id),
        lambda one: list(made_ahead([one] * 4, id)),
    ],
    ids=["in parallel", "as they come", "made ahead"],
)
def test_nothing_is_held_when_work_is_done(
    shared_out: Callable[[Any], object], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(settings, "threads", 3)
    block = np.zeros(4)
    left = weakref.ref(block)
    gc.disable()  # rings of garbage would keep megabytes until the next search
    try:
        shared_out(block)
        del block
        assert left() is None
    finally:
        gc.enable()
