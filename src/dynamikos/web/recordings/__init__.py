"""Imported sessions, kept untouched.

Never changes a recording. Start reading at `models`.
"""
