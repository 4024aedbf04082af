"""Load over time, and how it is shared out.

Never waits: it says when, others do. Start reading at `profile`.
"""

from dynamikos.core.profiles.profile import (
    Segment,
    Stretch,
    duration_s,
    highest,
    level_at,
    levels_at,
    measured_part_s,
    peak,
    profile_problems,
    segments,
    share_of,
    spans,
    start_instants_s,
    stretched,
    user_spans_s,
    users_at,
    users_by_second,
)
from dynamikos.core.profiles.sharing import Turns, shard_of

__all__ = [
    "Segment",
    "Stretch",
    "Turns",
    "duration_s",
    "highest",
    "level_at",
    "levels_at",
    "measured_part_s",
    "peak",
    "profile_problems",
    "segments",
    "shard_of",
    "share_of",
    "spans",
    "start_instants_s",
    "stretched",
    "user_spans_s",
    "users_at",
    "users_by_second",
]
