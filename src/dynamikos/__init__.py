"""Dynamikos: scripts journeys of virtual users, runs them as load, and reads what came back.

Never imported for side effects. Start reading at `dynamikos.core` (values), then `engine`, `fleet`, `web`, `cli`.
"""
