"""Data sets in hashed blocks of rows.

Never deals rows (core does). Start reading at `models`.
"""
