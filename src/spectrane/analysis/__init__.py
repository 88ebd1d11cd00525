"""Measuring: statistics, histograms and percentiles, block by block."""
