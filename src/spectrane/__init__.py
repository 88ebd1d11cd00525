"""Spectrane: multiband and volumetric rasters become pictures a person can trust.

Names are listed in ``__init__.pyi`` and loaded when first used, so that importing costs next to
nothing.
"""

from __future__ import annotations

import lazy_loader

from spectrane.model import version

__version__ = version.VERSION
__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
