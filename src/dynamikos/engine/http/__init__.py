"""HTTP/1.1: a sans-IO reader of replies, the connection that drives it, the pool and the cookies.

Never decides what to send. Start reading at `protocol`.
"""
