"""What a shard tells: intervals, its own health, kept exchanges, the spool.

Never awaited by the engine. Start reading at `recorder`.
"""
