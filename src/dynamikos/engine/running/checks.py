"""What is verified before a shard sends anything."""

from collections.abc import Iterator, Sequence

from dynamikos.engine.failures import Failure
from dynamikos.engine.limits import SPARE, descriptors
from dynamikos.engine.ports import Network, Origin
from dynamikos.engine.users.compiled import Script


def _origins(scripts: Sequence[Script]) -> Iterator[Origin]:
    """Of all fixed addresses."""
    for script in scripts:
        for step in script.every:
            yield from (request.place[0] for request in step.requests if request.place is not None)


def only_agreed(scripts: Sequence[Script], network: Network) -> None:
    """Raises Failure("not-agreed") for a fixed address that nobody agreed to: then nothing at all
    is sent.
    """
    for origin in _origins(scripts):
        network.check(origin)


def enough_descriptors(scripts: Sequence[Script], users: int) -> None:
    """Raises Failure for more users than this process can give a connection each to every origin
    they go to.
    """
    places = set(_origins(scripts))
    needed, there = users * max(1, len(places)) + SPARE, descriptors()
    if needed > there:
        raise Failure(
            "own-limit-descriptors",
            f"{users:,} users need {needed:,} open files on this generator, and it may have "
            f"{there:,}; raise its limit"
            " (ulimit -n, LimitNOFILE) or share the load over more generators",
        )
