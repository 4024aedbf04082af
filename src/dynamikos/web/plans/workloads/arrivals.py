"""Arrivals."""

from dynamikos.core.plans.workloads import Arrivals
from dynamikos.web.plans.workloads.base import Fields, Text, opened


def read(text: Text, said: str) -> Arrivals:
    return Arrivals(**opened(text, said))


FIELDS = Fields("arrivals", "arrivals, each a new user for one round", ("open",), read)
