"""How much address space this process may take: what ``ulimit -v`` and clusters' queues set."""

from __future__ import annotations


def limited_space() -> int | None:
    """Return the bytes of addresses that this process may take at most; None where all are free.

    >>> limited_space() is None or limited_space() > 1
    True
    """
    try:
        import resource
    except ImportError:  # a system without such limits
        return None
    limit = resource.getrlimit(resource.RLIMIT_AS)[0]
    return None if limit == resource.RLIM_INFINITY else limit


def share_of_space(wanted: int, parts: int) -> int:
    """Return ``wanted``, or less where that would be more than one of so many parts of the space.

    >>> share_of_space(5, 1)
    5
    """
    space = limited_space()
    return wanted if space is None else min(wanted, space // parts)
