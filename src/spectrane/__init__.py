"""Spectrane: multiband and volumetric rasters become pictures a person can trust.

Names are listed in ``__init__.pyi`` and loaded when first used, so that importing costs next to
nothing.
"""

from spectrane.model import version

__version__ = version.VERSION


def __getattr__(name: str) -> object:
    """Load a name when it is first used, and what loads it only then: commands start at once."""
    import lazy_loader

    load, names, listed = lazy_loader.attach_stub(__name__, __file__)
    globals().update(__getattr__=load, __dir__=names, __all__=listed)
    return listed if name == "__all__" else load(name)


def __dir__() -> list[str]:
    """Return the public names."""
    return sorted(__getattr__("__all__"))
