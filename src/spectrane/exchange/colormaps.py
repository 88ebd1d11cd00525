"""Our colour maps among Matplotlib's."""

from __future__ import annotations

from spectrane.model.colormaps import colormaps

BEFORE = "spectrane:"
"""Before our colour maps' names where Matplotlib lists them."""


def register_colormaps() -> list[str]:
    """Let Matplotlib know our colour maps, as ``spectrane:NAME``, and their reverses with ``_r``.

    Returns the names. Done twice it does no harm.

    >>> register_colormaps()[:2]
    ['spectrane:slate', 'spectrane:slate_r']
    """
    import matplotlib

    names = []
    for name, colormap in colormaps.items():
        for called, one in ((name, colormap), (f"{name}_r", colormap.reversed())):
            made = one.to_matplotlib()
            made.name = f"{BEFORE}{called}"
            if made.name in matplotlib.colormaps:
                matplotlib.colormaps.unregister(made.name)
            matplotlib.colormaps.register(made)
            names.append(made.name)
    return names
