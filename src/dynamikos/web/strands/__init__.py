"""Correlating: which values the server issues, proven on recordings, and their captures taken into
the journey.

Never changes a recording. Start reading at `models`.
"""
