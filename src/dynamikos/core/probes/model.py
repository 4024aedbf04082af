"""What a load plan says of a probe."""

from collections.abc import Sequence
from typing import Annotated

import msgspec

from dynamikos.core.journeys.request import Key
from dynamikos.core.text import Frozen

MOST_PROBES, MOST_MEASURES = 20, 500


class Host(Frozen, frozen=True, kw_only=True):
    """This machine: processor, memory, disk, network; and processes by (a part of) their command."""

    processes: tuple[str, ...] = ()


class Probe(Frozen, frozen=True, kw_only=True):
    """Either `openmetrics`, an address whose answer is in OpenMetrics or in Prometheus' text format, read every
    `every_s`; or `host`. `measures` choose what is kept of it: names, with * for any part of one, and labels where they
    matter (`queue{resource="pool"}`); without any everything is kept.
    """

    probe: Key
    name: str = ""
    openmetrics: str = ""
    host: Host | None = None
    every_s: Annotated[float, msgspec.Meta(ge=1, le=60)] = 1.0
    measures: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        return self.name or self.probe

    @property
    def kind(self) -> str:
        """ "host" or "openmetrics"."""
        return "host" if self.host is not None else "openmetrics"


def probe_problems(probes: Sequence[Probe]) -> list[str]:
    """What stands in the way, a sentence each."""
    found = []
    if len(probes) > MOST_PROBES:
        found.append(f"There are {len(probes)} probes; at most {MOST_PROBES} can be in one plan.")
    for each in probes:
        if bool(each.openmetrics) == (each.host is not None):
            found.append(f"The probe '{each.probe}' is either an address ('openmetrics') or this machine ('host').")
        if each.openmetrics and not each.openmetrics.startswith(("http://", "https://", "{{")):
            found.append(f"The probe '{each.probe}' reads '{each.openmetrics[:80]}', which is no http(s) address.")
    names = [each.probe for each in probes]
    twice = sorted({name for name in names if names.count(name) > 1})
    found.extend(f"Two probes have the key '{name}'." for name in twice)
    return found
