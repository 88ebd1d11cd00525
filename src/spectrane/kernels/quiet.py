"""NumPy's own warnings are kept to ourselves: what a user should look at is told in our words.

Numbers of any file meet any arithmetic: an overflow that ends as infinity, and is invalid from then
on, is how it should be. This is the one place that says so: each public call, and each thread, is
made under it.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any, TypeVar, cast

Call = TypeVar("Call", bound=Callable[..., Any])
Class = TypeVar("Class", bound=type)


def quiet(function: Call) -> Call:
    """Return a function in which NumPy does not warn of overflow, division by zero and the like.

    >>> import numpy as np
    >>> quiet(np.float32)(1e300)
    np.float32(inf)
    """

    @functools.wraps(function)
    def call(*given: Any, **named: Any) -> Any:
        import numpy as np

        with np.errstate(all="ignore"):
            return function(*given, **named)

    return cast(Call, call)


def quiet_methods(of: Class) -> Class:
    """Make each public method of a class ``quiet``, those of Python's protocols too.

    >>> @quiet_methods
    ... class Number:
    ...     def root(self):
    ...         import numpy as np
    ...         return np.sqrt(np.float64(-1))
    >>> Number().root()
    np.float64(nan)
    """
    for name, held in list(vars(of).items()):
        public = not name.startswith("_") or name in _PROTOCOLS
        if public and isinstance(held, property) and held.fget is not None:
            setattr(of, name, property(quiet(held.fget), held.fset, held.fdel, held.__doc__))
        elif public and isinstance(held, classmethod | staticmethod):
            setattr(of, name, type(held)(quiet(held.__func__)))
        elif public and callable(held) and not isinstance(held, type):
            setattr(of, name, quiet(held))
    return of


_PROTOCOLS = ("__array__", "__repr__", "__str__", "__invert__", "__and__", "__or__", "__call__",
              "_repr_html_", "_repr_png_")  # fmt: skip
