"""One shard as it runs: what it is given, how it is stopped and changed, how its seconds are
reported.

Never asks a database: rows, secrets and changes are given to it. Start reading at `shard_run`.
"""
