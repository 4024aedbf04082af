"""Journeys: the ladder, the text form, revisions and undo.

Never performs a journey. Start reading at `models`.
"""
