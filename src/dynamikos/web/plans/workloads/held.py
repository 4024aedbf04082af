"""Rounds at a held rate."""

from dynamikos.core.plans.workloads import Held
from dynamikos.web.plans.workloads.base import Fields, Text, opened


def read(text: Text, said: str) -> Held:
    return Held(**opened(text, said))


FIELDS = Fields("held", "rounds begun at a held rate", ("open",), read)
