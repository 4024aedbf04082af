"""People who can sign in.

Never knows projects. Start reading at `models`.
"""
