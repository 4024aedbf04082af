"""Recording what a person's browser does: a proxy and a doorway that pass bytes on and keep each
exchange.

Never sends anything by itself: every request is a person's. Start reading at `relay`.
"""
