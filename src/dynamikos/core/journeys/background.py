"""What a page sent by itself while it was recorded: left out by one change, or repeated by time."""

import re
from collections import Counter
from typing import NamedTuple

from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges.graphql import operation_of
from dynamikos.core.exchanges.model import Sent
from dynamikos.core.journeys.kinds import Repeat, Repeating, Sending, Step
from dynamikos.core.journeys.kinds.base import LONGEST_S
from dynamikos.core.journeys.model import Journey, key_from
from dynamikos.core.journeys.request import Request
from dynamikos.core.values import names_in

SAID = re.compile(
    r"The page (?:asks|saves) this by itself, about every ([\d.e+-]+) s \(\d+ times in the "
    r"recording\)\."
)


def said(asks: bool, every_s: float, times: int) -> str:
    """The sentence in a request's note by which it is known again."""
    what = "asks" if asks else "saves"
    return (
        f"The page {what} this by itself, about every {every_s:.3g} s ({times} times in the "
        "recording)."
    )


Call = tuple[str, str, tuple[str, ...], str]  # method, address, names of its fields, operation


class Background(NamedTuple):
    """A request that the page sent by itself; `needed`: what it captures is sent later, so it has
    to stay.
    """

    step: str
    request: str
    every_s: float
    needed: bool


def background_of(journey: Journey) -> list[Background]:
    """All of them that are switched on, in order."""
    sent = _names_sent(journey)
    made = []
    for _, step in journey.steps():
        for request in step.requests:
            match = SAID.search(request.note)
            if match is not None and not request.off and not step.use:
                needed = any(capture.name in sent for capture in request.captures)
                made.append(Background(step.step, request.request, float(match.group(1)), needed))
    return made


def leave_out(journey: Journey) -> Journey:
    """With them switched off, but for those whose captures are sent later; the think time of their
    steps is longer by the time that they took. Raises DynamikosError when there is none.
    """
    every = {(each.step, each.request): each.every_s for each in _free(journey)}

    def without(step: Step) -> Step:
        gone = {
            request.request for request in step.requests if (step.step, request.request) in every
        }
        if not gone:
            return step
        groups = Counter(
            (_call(r), every[step.step, r.request]) for r in step.requests if r.request in gone
        )
        took_s = max(every_s * count for (_, every_s), count in groups.items())
        think = step.think_s + took_s if step.think == "fixed" else step.think_s
        made = step.with_requests(
            lambda request: replace(request, off=True) if request.request in gone else request
        )
        return replace(made, think_s=min(round(think, 1), LONGEST_S))

    return journey.mapped(without)


def by_time(journey: Journey) -> Journey:
    """With each of them sent as often as it was recorded, after its step, at its own interval.
    Raises DynamikosError when there is none.
    """
    every = {(each.step, each.request): each.every_s for each in _free(journey)}
    taken = {step.step for _, step in journey.steps()}

    def parted(step: Step) -> list[Step]:
        mine = [request for request in step.requests if (step.step, request.request) in every]
        if not mine:
            return [step]
        groups: dict[Call, list[Request]] = {}
        for request in mine:
            groups.setdefault(_call(request), []).append(request)
        made: list[Step] = []
        for (method, address, _, operation), requests in groups.items():
            every_s = every[step.step, requests[0].request]
            what = operation or f"{method} {address.rpartition('}}')[2] or address}"
            name = f"{what} by itself"[:80]
            key = key_from(f"{step.step} by itself", taken)
            taken.add(key)
            inner = Sending(
                step=key_from(f"{key} once", taken),
                name=name,
                think_s=every_s,
                requests=(requests[0],),
            )
            taken.add(inner.step)
            times = Repeat(times=str(len(requests)))
            made.append(
                Repeating(step=key, name=f"Every {every_s:.3g} s", repeat=times, steps=(inner,))
            )
        kept = step.with_requests(lambda request: None if request in mine else request)
        return [*([kept] if kept.requests else []), *made]

    def over(steps: tuple[Step, ...]) -> tuple[Step, ...]:
        made: list[Step] = []
        for step in steps:
            for slot, inside in enumerate(step.slots()):
                if inside:
                    step = step.with_slot(slot, over(inside))
            made += parted(step)
        return tuple(made)

    parts = ("opening", "rounds", "closing", "cleanup")
    return replace(journey, **{part: over(getattr(journey, part)) for part in parts})


def _call(request: Request) -> Call:
    """By which requests are repeats of one another, as the recording's exchanges are
    (`went_on`).
    """
    text = (request.body.json or request.body.raw or "") if request.body is not None else ""
    operation = operation_of(Sent(method=request.method, url=request.address, body=text.encode()))
    names = tuple(sorted({name for name, _ in request.query}))
    return request.method, request.address, names, operation.name if operation is not None else ""


def _free(journey: Journey) -> list[Background]:
    found = [each for each in background_of(journey) if not each.needed]
    if not found:
        raise DynamikosError(
            "No request of this journey was sent by a page itself that could be left out."
        )
    return found


def _names_sent(journey: Journey) -> set[str]:
    names: set[str] = set()
    for _, text in journey.texts():
        try:
            names.update(names_in(text))
        except DynamikosError:
            continue
    return names
