"""Pictures on one another: what is left out makes no difference."""

from __future__ import annotations

import numpy as np

from spectrane.kernels.blending import blended, not_hidden


def test_what_nothing_is_seen_of_may_be_left_out(rng):
    for _ in range(60):
        layers = []
        for _ in range(4):
            rgba = rng.integers(0, 256, (6, 7, 4)).astype("u1")
            rgba[..., 3] = rng.choice([0, 128, 255], p=[0.1, 0.05, 0.85], size=(6, 7))
            rgba[..., 3] = rgba[..., 3] if rng.random() < 0.5 else 255
            rgba[rgba[..., 3] == 0] = 0
            mode = str(rng.choice(["normal", "multiply", "screen"]))
            layers.append((rgba, float(rng.choice([1.0, 0.5])), mode))
        every, some = np.zeros((2, 6, 7, 4), "u1")
        blended(layers, every, slice(0, 6), 1)
        blended(not_hidden(layers), some, slice(0, 6), 1)
        np.testing.assert_array_equal(some, every)
