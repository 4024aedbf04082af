"""Environments and their agreed targets.

Never checks a target itself (the engine does). Start reading at `models`.
"""
