"""Samples that a shape needs."""

BINS, SAMPLES = 20, 500  # bins a decade
