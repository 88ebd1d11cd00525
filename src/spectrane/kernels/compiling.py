"""How the compiled loops are made: one decorator, with the compile cache where it can be kept."""

from __future__ import annotations

import contextlib
import warnings
from collections.abc import Callable
from typing import Any

import numba

from spectrane.kernels import choice

_told = False


def _leave_out_linear_algebra() -> None:
    """Keep numba from loading all of SciPy's linear algebra at its start, a quarter of it.

    No loop of ours multiplies matrices; those of others in the same process would miss it.
    """

    def missing() -> None:
        raise ImportError("left out, for a quicker start")

    with contextlib.suppress(ImportError, AttributeError):
        from numba.np import linalg

        if callable(linalg.ensure_blas):
            linalg.ensure_blas = missing


if choice.process_is_ours:
    _leave_out_linear_algebra()


def loop(function: Callable[..., Any]) -> Any:
    """Compile a loop at its first call, without the GIL, and keep the machine code on disk.

    Where no cache folder can be written, it is compiled anew in every process, and one warning
    says so.
    """
    return _compiled(function, fastmath=False)


def contracted(function: Callable[..., Any]) -> Any:
    """Compile a loop that may multiply and add in one step, where rounding may differ."""
    return _compiled(function, fastmath={"contract"})


def summed(function: Callable[..., Any]) -> Any:
    """Compile a loop that may add in any order, where rounding may differ; NaN stays NaN."""
    return _compiled(function, fastmath={"contract", "reassoc"})


def _compiled(function: Callable[..., Any], **options: Any) -> Any:
    try:
        return numba.njit(nogil=True, cache=True, error_model="numpy", **options)(function)
    except RuntimeError as error:
        _tell(error)
        return numba.njit(nogil=True, error_model="numpy", **options)(function)


def _tell(error: Exception) -> None:
    global _told
    if not _told:
        _told = True
        warnings.warn(
            f"compiled loops cannot be kept ({error}); bulk work starts some seconds later each "
            "time. Set NUMBA_CACHE_DIR to a folder that can be written.",
            RuntimeWarning,
            stacklevel=4,
        )
