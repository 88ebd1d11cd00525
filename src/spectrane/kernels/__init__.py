"""Loops on arrays: a plain NumPy form of each, and a compiled one for bulk work.

Modules whose name ends in ``_loops`` import numba and are loaded by ``choice`` alone.
"""
