"""Places and the generators that stand there.

Never sends load. Start reading at `models`.
"""
