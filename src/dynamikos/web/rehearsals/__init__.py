"""One user, one round: asked for here, performed by a generator.

Never performs anything. Start reading at `models`.
"""
