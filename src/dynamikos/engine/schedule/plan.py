"""Pure: which users a shard performs, and when each starts and leaves."""

from collections.abc import Sequence
from dataclasses import dataclass

from dynamikos.core.profiles import Stretch, share_of, start_instants_s, users_at


@dataclass(frozen=True, slots=True)
class Planned:
    """User `number` (from 1, over the whole run) is there from `start_s` to `end_s` of the run clock."""

    number: int
    start_s: float
    end_s: float


def planned_users(profile: Sequence[Stretch], shard: int, shards: int) -> list[Planned]:
    """The users of one shard, in order of start: the k-th of the run goes to shard (k−1) mod shards."""
    spans = start_instants_s(profile)
    return [Planned(k, start, end) for k, (start, end) in enumerate(spans, 1) if (k - 1) % shards == shard]


def planned_at(profile: Sequence[Stretch], second: int, shard: int, shards: int) -> int:
    """Planned users of one shard at the end of a second, where the actual ones are counted."""
    return share_of(users_at(profile, second + 0.995), shard, shards)
