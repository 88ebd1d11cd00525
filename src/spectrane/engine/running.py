"""Where the parts of a long job run: in this process's threads, or on the workers of a cluster."""

from __future__ import annotations

import hashlib
import pickle
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from typing import Any, TypeVar

from spectrane.model.errors import AccessError, LookError

Item = TypeVar("Item")
Answer = TypeVar("Answer")
PATIENCE = 10.0
"""Seconds until a scheduler that does not answer is given up."""
_AHEAD = 2
"""Parts in flight per worker: one being made, one waiting, so that memory stays bounded."""
_KEPT = 4
_made: dict[str, Any] = {}
"""What this worker has unpickled, so that files are opened once and not per part."""


def in_order(
    function: Callable[[Item], Answer], items: Sequence[Item], engine: str | None = None
) -> Iterator[Answer]:
    """Yield a function's answers in the order of the items.

    ``engine`` is ``threads`` (or None): each part in turn, which uses this machine's threads
    itself; or the address of a running ``dask.distributed`` scheduler, whose workers get the
    function pickled. A worker that dies has its parts made again by the others.

    Raises AccessError where the cluster cannot be reached or gives up on a part.
    """
    if engine in (None, "threads"):
        return map(function, items)
    if "://" not in str(engine):
        raise LookError(
            f"engine {engine!r}: expected threads, or the address of a cluster's scheduler such "
            "as tcp://127.0.0.1:8786"
        )
    return _on_cluster(function, items, str(engine))


def _on_cluster(
    function: Callable[[Item], Answer], items: Sequence[Item], address: str
) -> Iterator[Answer]:
    try:
        from distributed import Client
        from distributed.scheduler import KilledWorker
    except ImportError as error:
        raise AccessError(
            f"engine {address}: clusters need pip install 'spectrane[cluster]'"
        ) from error
    try:
        client = Client(address, timeout=PATIENCE, set_as_default=False)
    except (OSError, TimeoutError) as error:
        raise AccessError(f"engine {address}: no scheduler answers there: {error}") from error
    with client:
        part = JobPart.of(function)
        waiting: deque[Any] = deque()
        left = deque(items)
        try:
            while left or waiting:
                ahead = _AHEAD * max(1, len(client.scheduler_info()["workers"]))
                while left and len(waiting) < ahead:
                    waiting.append(client.submit(part, left.popleft(), pure=False))
                answer: Answer = waiting.popleft().result()
                yield answer
        except KilledWorker as error:
            raise AccessError(
                f"engine {address}: a part was given up, as the workers that took it kept dying: "
                f"{error}"
            ) from error
        finally:
            for future in waiting:
                future.cancel()


class JobPart:
    """A pickled function that a worker unpickles once, however many parts it makes with it."""

    def __init__(self, payload: bytes, key: str) -> None:
        self.payload, self.key = payload, key

    @classmethod
    def of(cls, function: Callable[..., Any]) -> JobPart:
        """Pickle a function; its key is its content's."""
        payload = pickle.dumps(function)
        return cls(payload, hashlib.sha256(payload).hexdigest())

    def __call__(self, item: Any) -> Any:
        """Make one part."""
        function = _made.get(self.key)
        if function is None:
            function = pickle.loads(self.payload)
            while len(_made) >= _KEPT:
                _made.pop(next(iter(_made)))
            _made[self.key] = function
        return function(item)
