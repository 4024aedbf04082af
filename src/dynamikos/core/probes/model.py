"""What a load plan says of a probe."""

from collections.abc import Sequence
from typing import Annotated

import msgspec

from dynamikos.core.journeys.request import Key
from dynamikos.core.text import Frozen

MOST_PROBES, MOST_MEASURES, MOST_PAGES = 20, 500, 8
LONGEST_S = 60.0  # between two readings of what is no browser


class Host(Frozen, frozen=True, kw_only=True):
    """This machine: processor, memory, disk, network; and processes by (a part of) their command."""

    processes: tuple[str, ...] = ()


class Probe(Frozen, frozen=True, kw_only=True):
    """Either `openmetrics`, an address whose answer is in OpenMetrics or in Prometheus' text format, read every
    `every_s`; or `host`; or `browser`, pages that a real browser opens one after the other. `measures` choose what is
    kept of it: names, with * for any part of one, and labels where they matter (`queue{resource="pool"}`); without any
    everything is kept.
    """

    probe: Key
    name: str = ""
    openmetrics: str = ""
    host: Host | None = None
    browser: tuple[str, ...] = ()
    every_s: Annotated[float, msgspec.Meta(ge=1, le=3600)] = 1.0
    measures: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        return self.name or self.probe

    @property
    def kind(self) -> str:
        """ "host", "browser" or "openmetrics"."""
        return "host" if self.host is not None else "browser" if self.browser else "openmetrics"

    @property
    def addresses(self) -> tuple[str, ...]:
        """What it asks of the network."""
        return (self.openmetrics,) if self.openmetrics else self.browser


def probe_problems(probes: Sequence[Probe]) -> list[str]:
    """What stands in the way, a sentence each."""
    found = []
    if len(probes) > MOST_PROBES:
        found.append(f"There are {len(probes)} probes; at most {MOST_PROBES} can be in one plan.")
    for each in probes:
        if bool(each.openmetrics) + (each.host is not None) + bool(each.browser) != 1:
            found.append(
                f"The probe '{each.probe}' is either an address ('openmetrics'), this machine ('host') or pages that a"
                " browser opens ('browser')."
            )
        found.extend(
            f"The probe '{each.probe}' reads '{address[:80]}', which is no http(s) address."
            for address in each.addresses
            if not address.startswith(("http://", "https://", "{{"))
        )
        if len(each.browser) > MOST_PAGES:
            found.append(f"The probe '{each.probe}' opens {len(each.browser)} pages; at most {MOST_PAGES} are opened.")
        if not each.browser and each.every_s > LONGEST_S:
            found.append(f"The probe '{each.probe}' is read every {each.every_s:g} s; at most {LONGEST_S:g} are taken.")
    names = [each.probe for each in probes]
    twice = sorted({name for name in names if names.count(name) > 1})
    found.extend(f"Two probes have the key '{name}'." for name in twice)
    return found
