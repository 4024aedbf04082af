"""A value while it is searched for."""

from dataclasses import dataclass, field

from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.model import Kind
from dynamikos.core.correlation.offers import Offer
from dynamikos.core.correlation.sites import Site


@dataclass(slots=True)
class Found:
    """A value under search: the same in every recording at all its sites.

    `values` has None where a recording lacks the request.
    """

    values: tuple[str | None, ...]
    sites: list[Site]
    hits: list[int] = field(default_factory=list)
    held: list[set[int]] = field(default_factory=list)
    offers: list[Offer] = field(default_factory=list)
    origin: int = -1
    kind: Kind = "constant"
    proven: bool = False
    reasons: list[str] = field(default_factory=list)
    pattern: str = ""
    sent_before: int = (
        -1
    )  # where another group, of requests that only some recordings have, sends the same value
    rehearsed: str = ""  # "differs", "same" or "" (unknown)

    @property
    def value(self) -> str:
        return self.values[0] or ""

    @property
    def known(self) -> bool:
        return any(other is not None for other in self.values[1:])

    @property
    def differs(self) -> bool:
        return any(other is not None and other != self.values[0] for other in self.values[1:])

    @property
    def first(self) -> int:
        """Where it is first sent."""
        here = min(site.entry for site in self.sites)
        return here if self.sent_before < 0 else min(here, self.sent_before)

    @property
    def names(self) -> list[str]:
        return list(dict.fromkeys(site.name for site in self.sites if site.name))


def entry_of(main: Answers, i: int) -> int:
    entry = main.exchanges[i].entry
    return entry if entry >= 0 else i
