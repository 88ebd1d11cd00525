"""What becomes of memory that arrays no longer need, in a process that is ours alone."""

from __future__ import annotations

import ctypes

_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8
"""Names of glibc's ``mallopt``: the numbers of <malloc.h>."""
_LARGEST = 32 << 20
"""The greatest bytes that glibc takes for the second: arrays up to these come from the pool."""


def keep_freed_memory(most: int) -> bool:
    """Let up to ``most`` freed bytes wait for the next arrays, in one pool for all threads.

    A live view makes arrays of the same few sizes again and again. As it comes, glibc hands those
    above some size back to the system, and takes the next one with a page fault for every 4 KB,
    which can cost more than filling it; and each thread frees into a pool of its own, where no
    other looks. Returns whether the C library knows how; where it does not, all is as ever.

    >>> isinstance(keep_freed_memory(128 << 20), bool)
    True
    """
    try:
        mallopt = ctypes.CDLL(None).mallopt
    except (AttributeError, OSError, TypeError):  # another C library, or another system
        return False
    wanted = ((_ARENA_MAX, 1), (_MMAP_THRESHOLD, _LARGEST), (_TRIM_THRESHOLD, most))
    return all(mallopt(name, value) == 1 for name, value in wanted)
