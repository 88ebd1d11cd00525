"""The one chooser between a kernel's two forms.

Loading numba costs about a second, whatever is done with it; a display of a megapixel costs
milliseconds. So work starts in NumPy, and takes the compiled loop when that is loaded already or
when the work, or all that was done before it, would have paid for loading it. Both forms give the
same result. Where address space is scarce the loops are never loaded.
"""

from __future__ import annotations

import contextlib
import importlib
import threading
from collections.abc import Callable, Iterator
from typing import Any

from spectrane.kernels.address_space import share_of_space

LOADING_COST = 1.0
"""Seconds to import numba and fetch a first kernel from its cache."""
FETCHING_COST = 0.005
"""Seconds to fetch another kernel once a first one runs."""

LATE = 0.03
"""Seconds that a single job within ``weighed_alone`` may be late before the loops are loaded."""

_SPACE = 320 << 20
"""Bytes of addresses that numba takes, which must leave room for the work."""

process_is_ours = False
"""Whether nobody else compiles loops in this process: numba is loaded without what ours do not use.
"""

_forced: str | None = None
_loaded = False
_forgone = 0.0
"""Seconds that the loops would have saved so far: many small jobs are a large one."""


_alone = 0
_alone_lock = threading.Lock()


@contextlib.contextmanager
def weighed_alone() -> Iterator[None]:
    """Weigh each job by itself for a while, in all threads: many small ones do not load the loops,
    and the memory that they take; one that would be late does. Once they are loaded all is as ever.
    """
    global _alone
    with _alone_lock:
        _alone += 1
    try:
        yield
    finally:
        with _alone_lock:
            _alone -= 1


class Twin:
    """A kernel with two forms.

    ``saving`` is the time in seconds that the loop saves per million elements on one thread.
    ``choose(work)`` answers the form that suits a whole job of so many elements. Where it is asked
    block by block, ``choose(work, part)`` says how large the block is: the job is weighed once.
    """

    def __init__(
        self, reference: Callable[..., Any], module: str, name: str, saving: float
    ) -> None:
        self.reference = reference
        self.module = module
        self.name = name
        self.saving = saving
        self._warm = False
        self._job = self._done = 0
        self._forgone = 0.0  # seconds, since any loop is loaded

    def choose(self, work: int, part: int | None = None) -> Callable[..., Any]:
        """Return the form to use for a job of ``work`` elements, or for a ``part`` of them."""
        if _forced is not None:
            return self.reference if _forced == "numpy" else self.loop()
        if share_of_space(_SPACE, 3) < _SPACE:
            return self.reference
        if self._warm:
            return self.loop()
        global _forgone
        part = work if part is None else part
        work = max(work, part)
        if work != self._job or self._done >= work:
            self._job, self._done = work, 0
        saved = (work - self._done) * 1e-6 * self.saving
        alone = _alone > 0 and not _loaded
        before = self._forgone if _loaded else 0.0 if alone else _forgone
        cost = FETCHING_COST if _loaded else LATE if alone else LOADING_COST
        if saved + before > cost:
            return self.loop()
        self._done += part
        if _loaded:
            self._forgone += part * 1e-6 * self.saving
        elif not alone:
            _forgone += part * 1e-6 * self.saving
        return self.reference

    def loop(self) -> Callable[..., Any]:
        """Return the compiled form, loading it if need be."""
        global _loaded
        self._warm = _loaded = True
        function: Callable[..., Any] = getattr(importlib.import_module(self.module), self.name)
        return function


def force(form: str | None) -> None:
    """Make every choice ``"numpy"`` or ``"loop"`` (for tests and benchmarks), or free (None)."""
    global _forced
    if form not in (None, "numpy", "loop"):
        raise ValueError(f"force: expected None, 'numpy' or 'loop', not {form!r}")
    _forced = form
