"""Users who perform so many rounds each."""

from dynamikos.core.plans.workloads import UserRounds
from dynamikos.web.plans.workloads.base import Fields, Text, pacing
from dynamikos.web.ui.numbers import number, whole


def read(text: Text, said: str) -> UserRounds:
    return UserRounds(
        users=whole(text("users", "10"), f"{said}users", 1, 1_000_000),
        rounds=whole(text("rounds", "1"), f"{said}rounds", 1, 1_000_000),
        start_s=number(text("start", "0"), f"{said}seconds within which they start", 0, 86_400),
        pacing_s=pacing(text, said),
    )


FIELDS = Fields("rounds", "users who perform so many rounds each", ("rounds", "pacing"), read)
