"""Load over time.

Never waits: it says when, others do. Start reading at `profile`.
"""

from dynamikos.core.profiles.profile import (
    Stretch,
    duration_s,
    measured_part_s,
    peak,
    share_of,
    start_instants_s,
    users_at,
)

__all__ = ["Stretch", "duration_s", "measured_part_s", "peak", "share_of", "start_instants_s", "users_at"]
