"""What a load plan says of a probe."""

from collections.abc import Collection, Iterator, Sequence
from typing import Annotated

import msgspec

from dynamikos.core.errors import TemplateError
from dynamikos.core.journeys.headers import header_problem
from dynamikos.core.journeys.request import Key
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import Pair
from dynamikos.core.values import names_in

MOST_PROBES, MOST_MEASURES, MOST_PAGES, MOST_HEADERS = 20, 2000, 8, 20
MOST_PATTERNS, LONGEST_PATTERN, MOST_STARS = 100, 200, 8
OURS = {"host", "connection"}  # what the connection says itself
LONGEST_S = 60.0  # between two readings of what is no browser


class Host(Frozen, frozen=True, kw_only=True):
    """This machine: processor, memory, disk, network; and processes by (a part of) their
    command.
    """

    processes: tuple[str, ...] = ()


class Probe(Frozen, frozen=True, kw_only=True):
    """Either `openmetrics`, an address whose answer is in OpenMetrics or in Prometheus' text
    format, read every `every_s`; or `host`; or `browser`, pages that a real browser opens one after
    the other. `measures` choose what is kept of it: names, with * for any part of one, and labels
    where they matter (`queue{resource="pool"}`); without any everything is kept. Addresses and the
    `headers` that are sent to one may name values and secrets of the environment.
    """

    probe: Key
    name: str = ""
    openmetrics: str = ""
    host: Host | None = None
    browser: tuple[str, ...] = ()
    headers: tuple[Pair, ...] = ()
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

    @property
    def header_lines(self) -> str:
        """As they are typed, one a line."""
        return "\n".join(f"{name}: {value}" for name, value in self.headers)

    @property
    def names(self) -> set[str]:
        """What its address and headers name, "env.site" and "secrets.token". Raises
        TemplateError.
        """
        return {
            name
            for text in (*self.addresses, *(value for _, value in self.headers))
            for name in names_in(text)
        }

    @property
    def secrets(self) -> set[str]:
        """The secrets that it needs, by what the environment calls them."""
        return {name.removeprefix("secrets.") for name in self.names if name.startswith("secrets.")}


def probe_problems(probes: Sequence[Probe]) -> list[str]:
    """What stands in the way, a sentence each."""
    found = []
    if len(probes) > MOST_PROBES:
        found.append(f"There are {len(probes)} probes; at most {MOST_PROBES} can be in one plan.")
    for each in probes:
        if bool(each.openmetrics) + (each.host is not None) + bool(each.browser) != 1:
            found.append(
                f"The probe '{each.probe}' is either an address ('openmetrics'), this machine "
                "('host') or pages that a"
                " browser opens ('browser')."
            )
        found.extend(
            f"The probe '{each.probe}' reads '{address[:80]}', which is no http(s) address."
            for address in each.addresses
            if not address.startswith(("http://", "https://", "{{"))
        )
        found.extend(_header_problems(each))
        found.extend(_pattern_problems(each))
        if len(each.browser) > MOST_PAGES:
            found.append(
                f"The probe '{each.probe}' opens {len(each.browser)} pages; at most {MOST_PAGES} "
                "are opened."
            )
        if not each.browser and each.every_s > LONGEST_S:
            found.append(
                f"The probe '{each.probe}' is read every {each.every_s:g} s; at most {LONGEST_S:g} "
                "are taken."
            )
    names = [each.probe for each in probes]
    twice = sorted({name for name in names if names.count(name) > 1})
    found.extend(f"Two probes have the key '{name}'." for name in twice)
    return found


def _header_problems(probe: Probe) -> Iterator[str]:
    if probe.headers and not probe.openmetrics:
        yield (
            f"The probe '{probe.probe}' has headers, which are sent to an address of measures "
            "alone; take them out."
        )
    if len(probe.headers) > MOST_HEADERS:
        yield (
            f"The probe '{probe.probe}' has {len(probe.headers)} headers; at most {MOST_HEADERS} "
            "are sent."
        )
    for name, value in probe.headers:
        if name.lower() in OURS:
            yield (
                f"The probe '{probe.probe}': {name} is said by the connection itself; take it out."
            )
        elif problem := header_problem(name, value):
            yield f"The probe '{probe.probe}': {problem}."
    try:
        _ = probe.names
    except TemplateError as wrong:
        yield f"The probe '{probe.probe}': {wrong}"


def _pattern_problems(probe: Probe) -> Iterator[str]:
    """Names of measures are looked for in each answer: what that takes is bounded."""
    if len(probe.measures) > MOST_PATTERNS:
        yield (
            f"The probe '{probe.probe}' names {len(probe.measures)} measures; at most "
            f"{MOST_PATTERNS} can be named, and"
            " * stands for several."
        )
    for each in probe.measures:
        if len(each) > LONGEST_PATTERN or each.count("*") > MOST_STARS:
            yield (
                f"The probe '{probe.probe}': the name of a measure '{each}' has {len(each)} "
                "characters and"
                f" {each.count('*')} *; at most {LONGEST_PATTERN} and {MOST_STARS} are taken."
            )


def unknown_names(probes: Sequence[Probe], known: Collection[str]) -> list[str]:
    """A sentence for each name that neither a value nor a secret of the environment has."""
    return [
        f"The probe '{each.probe}' names {name}, which the environment has not; add it there, or "
        "take it out."
        for each in probes
        for name in sorted(each.names - set(known))
    ]
