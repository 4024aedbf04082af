"""A journey from a recording: page by page into steps, cookies left to the jar, think times from
gaps.
"""

import re
from collections import Counter
from collections.abc import Collection, Sequence
from urllib.parse import urlsplit

from dynamikos.core.exchanges import Exchange, Recording
from dynamikos.core.exchanges.resources import is_static
from dynamikos.core.journeys.kinds import Sending, Step
from dynamikos.core.journeys.kinds.base import LONGEST_S
from dynamikos.core.journeys.model import Journey, key_from
from dynamikos.core.journeys.recorded_requests import folded, lost_body, requests_from, unsupported
from dynamikos.core.journeys.recorded_steps import groups_of, origin_of, over_us, titles_of, went_on
from dynamikos.core.journeys.signing_in import (
    is_deed,
    password_fields,
    proves,
    signed_in_by,
    signs_in,
)

LEFT_OUT, RECORDED_OVER = "Left out: ", "Recorded over "
NOT_AS_RECORDED = (LEFT_OUT, RECORDED_OVER)  # how such remarks begin in a journey's note
NEWER = {"h2": "HTTP/2", "h3": "HTTP/3"}
LEAVING = re.compile(r"sign-?out|log-?out|log-?off", re.I)


def journey_from(
    recording: Recording, name: str, origins: Collection[str], bases: dict[str, str] | None = None
) -> Journey:
    """The journey in `recording`, with only the exchanges to `origins` ("https://host:port").

    `bases` maps an origin to the environment value that stands for it ("env.observatory"). Steps
    begin with a page or after a pause; steps up to a sign-in with a password become the opening,
    unless something else was written before, and a sign-out at the end the closing.
    """
    background = went_on(recording, origins)
    if recording.marks:
        return _from_marks(recording, name, origins, bases or {}, background)
    groups = groups_of(recording, origins, background)
    steps: list[Step] = []
    signed_in, leaving = signed_in_by(groups, background), -1
    for number, (group, title) in enumerate(zip(groups, titles_of(recording, groups), strict=True)):
        key = key_from(title, {step.step for step in steps})
        think = _think_s(group, groups[number + 1]) if number + 1 < len(groups) else 0.0
        if LEAVING.search(urlsplit(group[0][1].sent.url).path) and number == len(groups) - 1:
            leaving = number
        requests = tuple(requests_from(group, recording, bases or {}, background))
        steps.append(
            Sending(step=key, name=title, think_s=think, recorded_think_s=think, requests=requests)
        )
    first = signed_in + 1
    last = leaving if leaving > signed_in else len(steps)
    return _journey(recording, name, origins, steps[:first], steps[first:last], steps[last:])


def _journey(
    recording: Recording,
    name: str,
    origins: Collection[str],
    opening: Sequence[Step],
    rounds: Sequence[Step],
    closing: Sequence[Step],
) -> Journey:
    """The parts put together: steps without a request left out, common headers said once, what is
    missing noted.
    """
    headers, steps = folded([step for step in (*opening, *rounds, *closing) if step.requests])
    first = sum(bool(step.requests) for step in opening)
    last = first + sum(bool(step.requests) for step in rounds)
    return Journey(
        form=1,
        journey=key_from(name),
        name=name,
        headers=headers,
        opening=tuple(steps[:first]),
        rounds=tuple(steps[first:last]),
        closing=tuple(steps[last:]),
        note="\n".join(remarks_on(recording, origins)),
    )


def remarks_on(recording: Recording, origins: Collection[str]) -> list[str]:
    """What a journey made from a recording can't do as recorded, in words."""
    counts: Counter[str] = Counter()
    lost = 0
    for exchange in recording.exchanges:
        if origin_of(exchange) in origins:
            what = unsupported(exchange)
            counts[what] += bool(what)
            lost += lost_body(exchange)
    made = [
        f"{LEFT_OUT}{what}"
        + (f" ({count} of them)" if count > 1 else "")
        + ", which can't be replayed yet."
        for what, count in counts.items()
        if count
    ]
    made += _other_protocol(recording, origins)
    if not recording.marks and _signs_in_late(recording, origins):
        made.append(
            "A password is sent after something else was written, so it stays in the rounds: in a "
            "second round the same"
            " user sends it again. Rehearse two rounds; where that fails, sign in within the "
            "opening."
        )
    if lost:
        made.append(
            f"{lost} request{'s' * (lost > 1)} lost the body in the recording; each says so in its "
            "note."
        )
    return made


def _other_protocol(recording: Recording, origins: Collection[str]) -> list[str]:
    """What was recorded over another protocol than it is replayed over."""
    known = [each.http for each in recording.exchanges if origin_of(each) in origins and each.http]
    newer = [each for each in known if each in NEWER]
    if not newer:
        return []
    named = NEWER[Counter(newer).most_common(1)[0][0]]
    return [
        f"{RECORDED_OVER}{named}: {len(newer)} of {len(known)} requests. Replayed over HTTP/1.1, "
        "with other connections and other queues."
    ]


def _signs_in_late(recording: Recording, origins: Collection[str]) -> bool:
    deeds = [each for each in recording.exchanges if origin_of(each) in origins and is_deed(each)]
    fields = password_fields(recording.exchanges)
    return any(proves(each, fields) for each in deeds) and not signs_in(deeds[0], fields)


def _think_s(group: Sequence[tuple[int, Exchange]], after: Sequence[tuple[int, Exchange]]) -> float:
    gap = after[0][1].started_us - max(over_us(e) for _, e in group)
    return round(min(max(0, gap) / 1_000_000, LONGEST_S), 1)


def _from_marks(
    recording: Recording,
    name: str,
    origins: Collection[str],
    bases: dict[str, str],
    background: dict[int, str],
) -> Journey:
    """Steps as they were named while recording; what came before the first name is a step of its
    own in the opening.
    """
    parts: dict[str, list[Step]] = {"opening": [], "rounds": [], "closing": []}
    marks = sorted(recording.marks, key=lambda mark: mark.at_us)
    stretches: list[tuple[str, str, list[tuple[int, Exchange]]]] = []
    for number, exchange in enumerate(recording.exchanges):
        if origin_of(exchange) not in origins:
            continue
        mark = next((each for each in reversed(marks) if each.at_us <= exchange.started_us), None)
        title, part = (
            (mark.name, mark.part) if mark is not None else ("Before the first name", "opening")
        )
        if stretches and is_static(
            exchange
        ):  # a page keeps its resources, wherever the next stretch was begun
            title, part = stretches[-1][:2]
        if not stretches or stretches[-1][:2] != (title, part):
            stretches.append((title, part, []))
        stretches[-1][2].append((number, exchange))
    keys: set[str] = set()
    for index, (title, part, group) in enumerate(stretches):
        key = key_from(title, keys)
        keys.add(key)
        think = _think_s(group, stretches[index + 1][2]) if index + 1 < len(stretches) else 0.0
        parts[part].append(
            Sending(
                step=key,
                name=title,
                think_s=think,
                recorded_think_s=think,
                requests=tuple(requests_from(group, recording, bases, background)),
            )
        )
    return _journey(recording, name, origins, parts["opening"], parts["rounds"], parts["closing"])
