"""What the closing sends is taken from a page of its own: a user who leaves in the middle of a
round has no other.
"""

from collections.abc import Sequence

from msgspec.structs import replace

from dynamikos.core.captures import Capture, compile_capture
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.model import Strand, Use
from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Journey, Request
from dynamikos.core.journeys.editing import change_step
from dynamikos.core.journeys.model import key_from, walk
from dynamikos.core.values import names_in


def sent_in_closing(journey: Journey, uses: Sequence[Use], positions: dict[int, int]) -> list[Use]:
    """Those of `uses` that requests of the closing send; `positions` are the exchanges' by
    entry.
    """
    recorded = {request.recorded for step in walk(journey.closing) for request in step.requests}
    return [use for use in uses if positions.get(use.entry, -1) in recorded]


def open_a_page(
    journey: Journey,
    strand: Strand,
    uses: Sequence[Use],
    positions: dict[int, int],
    answers: Answers,
) -> tuple[Journey, str, Request] | None:
    """(`journey` with a page opened in the closing before it sends the strand's value, the name of
    the value there, the page); None when no page of the recording that can be opened at any time
    holds such a value.
    """
    assert strand.capture is not None
    wanted = {positions[use.entry] for use in uses}
    step = next(
        each for each in walk(journey.closing) if any(r.recorded in wanted for r in each.requests)
    )
    at = next(index for index, request in enumerate(step.requests) if request.recorded in wanted)
    page = _page(journey, strand.capture, answers)
    if page is None:
        return None
    there = next(
        (r for r in step.requests[:at] if r.recorded == page.recorded and r.method == "GET"), None
    )
    opened = there or replace(
        page,
        request=key_from(page.request, {request.request for request in step.requests}),
        captures=(),
        embedded=(),
        note="Opened once more, so that whoever leaves has what the closing sends.",
    )
    plain = replace(strand.capture, name="v")
    name = next(
        (each.name for each in opened.captures if replace(each, name="v", note="") == plain), ""
    )
    if not name:
        name = free_name(journey, strand.name)
        opened = replace(opened, captures=(*opened.captures, replace(strand.capture, name=name)))
    requests = list(step.requests)
    if there is not None:
        requests[requests.index(there)] = opened
    else:
        requests.insert(at, opened)
    return change_step(journey, step.step, requests=tuple(requests)), name, opened


def _page(journey: Journey, capture: Capture, answers: Answers) -> Request | None:
    """The latest request before the closing that can be sent at any time and whose recorded answer
    yields the value.
    """
    take = compile_capture(capture)
    known = {each for step in walk(journey.opening) for each in step.known_after()}
    ours = set(answers.ours)
    found = [
        request
        for part in (journey.opening, journey.rounds)
        for step in walk(part)
        for request in step.requests
    ]
    for request in reversed(found):
        if request.method != "GET" or request.recorded not in ours or not _free(request, known):
            continue
        if take(answers.view(request.recorded)) is not None:
            return request
    return None


def _free(request: Request, known: set[str]) -> bool:
    """Whether a request needs no value that a round gives: data columns may be used up, too."""
    try:
        names = {name for _, text in request.texts() for name in names_in(text)}
    except DynamikosError:
        return False
    return all(name in known or name.startswith("env.") for name in names)


def free_name(journey: Journey, wanted: str) -> str:
    """`wanted`, or with the first number behind it that no value of the journey has yet."""
    taken = {name for _, step in journey.steps() for name in step.known_after()}
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted}_{number}", number + 1
    return name
