"""A scene, and sessions that show it."""

from __future__ import annotations

import pytest

import spectrane as sp
from spectrane.viewing.session import Session


@pytest.fixture
def scene(rng, utm):
    bands = [sp.Band(name, name, scale=1e-2) for name in ("red", "green", "blue", "nir")]
    return sp.from_array(rng.integers(0, 4000, (4, 70, 90)).astype("u2"), grid=utm, bands=bands)


def session_of(*layers, size=(80, 120)):
    session = Session.of(list(layers))
    session.resize(*size)
    session.change({"do": "whole"})
    return session
