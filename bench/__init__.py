"""Benchmarks: each a module with `run() -> list of (name, value, unit, goal, met)`; ratios are
taken in one run.
"""
