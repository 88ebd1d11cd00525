"""Finished maps on paper: a page laid out in millimetres, drawn by Matplotlib."""
