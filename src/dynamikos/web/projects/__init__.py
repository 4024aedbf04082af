"""Projects, membership with roles, events, and revisions of what is in them.

Never knows what a revision holds. Start reading at `models`.
"""
