"""Who is told of a run's end, of an objective that stops it, of a lost generator; and the log of
what was sent.

Never sends anything: what is due lies in the database, the fleet's `telling` sends it. Start
reading at `actions`.
"""
