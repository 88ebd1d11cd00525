"""The cheapest way through a grid of costs; always bulk, so there is the compiled loop alone."""

from __future__ import annotations

import heapq
from typing import Any

import numpy as np

from spectrane.kernels.compiling import loop


@loop
def cheapest_path(cost: Any, starts: Any, ends: Any) -> Any:
    """Return (n, 2) rows and columns of the cheapest path between two sets of pixels.

    ``cost`` (rows, columns) is paid for each pixel entered, times √2 on diagonals; infinite ones
    are closed. ``starts`` is (n, 2), ``ends`` a bool array. Dijkstra's algorithm (1959), eight
    neighbours. Empty where there is no way.
    """
    rows, columns = cost.shape
    paid = np.full(cost.shape, np.inf)
    came = np.full(cost.shape, -1, np.int64)
    heap = [(0.0, np.int64(-1))]
    heap.clear()
    for k in range(starts.shape[0]):
        r, c = starts[k, 0], starts[k, 1]
        paid[r, c] = cost[r, c]
        heapq.heappush(heap, (cost[r, c], np.int64(r * columns + c)))
    last = np.int64(-1)
    while len(heap) > 0:
        price, place = heapq.heappop(heap)
        r, c = place // columns, place % columns
        if price > paid[r, c]:
            continue
        if ends[r, c]:
            last = place
            break
        for dr in range(-1, 2):
            for dc in range(-1, 2):
                i, j = r + dr, c + dc
                if (dr == 0 and dc == 0) or i < 0 or j < 0 or i >= rows or j >= columns:
                    continue
                step = cost[i, j] * (1.4142135623730951 if dr != 0 and dc != 0 else 1.0)
                if price + step < paid[i, j]:
                    paid[i, j] = price + step
                    came[i, j] = place
                    heapq.heappush(heap, (price + step, np.int64(i * columns + j)))
    count = 0
    place = last
    while place >= 0:
        count += 1
        place = came[place // columns, place % columns]
    path = np.empty((count, 2), np.int64)
    place = last
    for k in range(count):
        path[k, 0], path[k, 1] = place // columns, place % columns
        place = came[path[k, 0], path[k, 1]]
    return path
