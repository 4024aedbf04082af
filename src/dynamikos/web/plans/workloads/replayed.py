"""Arrivals at given instants."""

from dynamikos.core.plans.workloads import Replayed
from dynamikos.web.plans.workloads.base import Fields, Text
from dynamikos.web.ui.numbers import number, whole


def read(text: Text, said: str) -> Replayed:
    return Replayed(
        times=text("times", "").replace("\r\n", "\n"),
        rate=number(text("rate", "1"), f"{said}rate factor", 0.001, 1000),
        length=number(text("length", "1"), f"{said}length factor", 0.001, 1000),
        ceiling=whole(text("replay-ceiling", "100"), f"{said}maximum users", 1, 1_000_000),
    )


FIELDS = Fields("replayed", "arrivals at given instants (CSV)", ("replayed",), read)
