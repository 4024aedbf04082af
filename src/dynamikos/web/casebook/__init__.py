"""Casebooks: what was pinned becomes a report that is edited, closed, exported, and read by those
who have no account.

What a block shows is computed by the runs' own modules. Start reading at `actions`, then `showing`.
"""
