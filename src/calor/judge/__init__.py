"""Judging a run: metrics, limits, verdict and advice."""
