"""Takes a started run, makes shards, expands reports behind the watermark, judges, notices lost
generators, closes.

Never sends load. Start reading at `loop`.
"""
