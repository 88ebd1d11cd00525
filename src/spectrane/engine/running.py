"""Where the parts of a long job run: in this process's threads, or on the workers of a cluster."""

from __future__ import annotations

import asyncio
import hashlib
import logging
import pickle
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent import futures
from contextlib import contextmanager
from typing import Any, TypeVar

from spectrane.model.errors import AccessError, ChangedFile, LookError, MissingFile, SpectraneError

Item = TypeVar("Item")
Answer = TypeVar("Answer")
PATIENCE = 10.0
"""Seconds until a scheduler that does not answer is given up."""
STALLED = 20.0
"""Seconds until a job is given up on which no worker is at work."""
_LOOK = 0.5
"""Seconds between looks at the workers, while a part is waited for."""
_ANSWERS = 3.0
"""Seconds in which a scheduler says which workers it has."""
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

    Raises AccessError where the cluster cannot be reached, loses its scheduler, has no worker at
    work for half a minute, does not see the files, or gives up on a part.
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
    except ImportError as error:
        raise AccessError(
            f"engine {address}: clusters need pip install 'spectrane[cluster]'"
        ) from error
    part = JobPart.of(function)
    with _what_it_logs_is_told_once():
        try:
            client = Client(address, timeout=PATIENCE, set_as_default=False)
        except (OSError, TimeoutError, ValueError) as error:
            raise AccessError(f"engine {address}: no scheduler answers there: {error}") from error
        cluster = _Cluster(client, address)
        waiting: deque[Any] = deque()
        left = deque(items)
        try:
            while left or waiting:
                while left and len(waiting) < _AHEAD * cluster.workers:
                    waiting.append(client.submit(part, left.popleft(), pure=False))
                answer: Answer = cluster.result(waiting.popleft())
                yield answer
        finally:
            for future in waiting:
                future.cancel()
            client.close(timeout=_ANSWERS)


@contextmanager
def _what_it_logs_is_told_once() -> Iterator[None]:
    """Keep the cluster library from writing about what is told as one error."""
    logger = logging.getLogger("distributed.client")
    before = logger.level
    logger.setLevel(logging.CRITICAL + 1)
    try:
        yield
    finally:
        logger.setLevel(before)


class _Cluster:
    """A cluster's workers, waited for as long as one is at work."""

    def __init__(self, client: Any, address: str) -> None:
        self.client, self.address = client, address
        self.workers = 1
        self._heard: set[tuple[str, float]] = set()
        self._known: dict[str, Any] = {}
        self._answers = True
        self._at_work()

    def result(self, future: Any) -> Any:
        """Return what a part gives. Raises AccessError where nobody makes it."""
        heard = time.monotonic()
        while True:
            try:
                return future.result(timeout=_LOOK)
            except TimeoutError as error:
                if future.status == "error":  # its own, not that of waiting
                    raise self._told(error) from error
            except (Exception, asyncio.CancelledError) as error:
                raise self._told(error) from error
            if self._at_work():
                heard = time.monotonic()
            elif time.monotonic() - heard > STALLED:
                raise AccessError(
                    f"engine {self.address}: no part was finished or worked on for "
                    f"{STALLED:.0f} seconds: {self._state()}"
                )

    def _at_work(self) -> bool:
        """Tell whether a worker that is making something was heard of since the last look."""
        try:
            said = self.client.sync(self.client.scheduler.identity, callback_timeout=_ANSWERS)
        except (Exception, asyncio.CancelledError):  # gone, or going: the part itself tells
            self._answers = False
            return False
        self._answers = True
        self._known = said["workers"]
        self.workers = max(1, len(said["workers"]))
        signs = {
            (name, worker["last_seen"])
            for name, worker in said["workers"].items()
            if {"executing", "long-running"} & worker["metrics"].get("task_counts", {}).keys()
        }
        news = bool(signs - self._heard)
        self._heard = signs
        return news

    def _state(self) -> str:
        if not self._answers:
            return "its scheduler does not answer"
        if not self._known:
            return "it has no workers; start some (dask worker ADDRESS), and give the job again"
        return f"its {len(self._known)} workers do not answer, or do nothing"

    def _told(self, error: BaseException) -> SpectraneError:
        """Return what became of a part, as one error."""
        from distributed.scheduler import KilledWorker

        if isinstance(error, MissingFile | ChangedFile):
            return AccessError(
                f"engine {self.address}: a worker does not see the file as it is here: {error}; "
                "every worker must find the files at the same paths"
            )
        if isinstance(error, SpectraneError):
            return error
        if isinstance(error, KilledWorker):
            return AccessError(
                f"engine {self.address}: a part was given up, as the workers that took it kept "
                f"dying (of too little memory, maybe): {error}"
            )
        if isinstance(error, asyncio.CancelledError | futures.CancelledError | OSError):
            return AccessError(f"engine {self.address}: lost its scheduler; start the cluster "
                               "again, and give the job again")  # fmt: skip
        return AccessError(
            f"engine {self.address}: a worker could not make a part; does it have this version of "
            f"spectrane? {type(error).__name__}: {error}"
        )


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
