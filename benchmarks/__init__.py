"""Measured speed: ratios taken in one run on one machine."""
