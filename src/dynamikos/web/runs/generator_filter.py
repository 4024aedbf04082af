"""Whose figures: those of one generator, or of all that stand at one place."""

from collections.abc import Sequence

from dynamikos.core.figures import digits
from dynamikos.web.runs.models import Shard

AT = "@"  # before a place, where a generator's number could stand


def places(shards: Sequence[Shard]) -> dict[str, list[int]]:
    """The numbers of the shards that each place has; nothing where all stand at one."""
    made: dict[str, list[int]] = {}
    for each in shards:
        made.setdefault(each.place, []).append(each.number)
    return made if len(made) > 1 else {}


def choices(shards: Sequence[Shard]) -> list[tuple[str, str]]:
    """(what an address says, title): places first."""
    if len(shards) < 2:
        return []
    made = [(f"{AT}{place}", f"all at {place or 'an unknown place'}") for place in places(shards)]
    return made + [(str(each.number), each.generator_name) for each in shards]


def chosen(shards: Sequence[Shard], text: str) -> list[int] | None:
    """The numbers of those that an address names; None for all of them."""
    if len(shards) < 2:
        return None
    if text.startswith(AT):
        return places(shards).get(text[len(AT) :])
    number = digits(text)
    return [number] if number is not None and number < len(shards) else None
