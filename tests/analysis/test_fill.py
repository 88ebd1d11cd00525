"""Fill that nobody named is pointed out, and nothing else is."""

from __future__ import annotations

import numpy as np
import pytest

from spectrane.analysis.description import unnamed_fill
from spectrane.analysis.statistics import band_statistics
from spectrane.engine.memory import ArraySource
from spectrane.model.band import Band
from spectrane.model.look import Look


def doubt(array, **options):
    source = ArraySource(array, **options)
    return unnamed_fill(source, band_statistics(source, range(len(array))))


@pytest.fixture
def filled():
    array = np.arange(2 * 50 * 50, dtype=np.uint16).reshape(2, 50, 50) + 9
    array[:, :5] = 0
    return array


def test_a_filled_edge_is_told(filled):
    assert "exactly 0" in doubt(filled)
    assert "--nodata 0" in doubt(filled)


def test_what_is_named_or_masked_is_not(filled):
    named = [Band("a", nodata=0), Band("b", nodata=0)]
    assert doubt(filled, bands=named) is None
    assert doubt(filled, mask=filled > 0) is None


def test_only_one_band_is_no_edge(filled):
    filled[1] = np.arange(2500).reshape(50, 50) + 9
    assert doubt(filled) is None


def test_classes_and_unread_pixels_are_left_alone(filled):
    assert doubt(filled[:1], look=Look(classes={0: ("#000000", "none")})) is None
    assert unnamed_fill(ArraySource(filled), []) is None
