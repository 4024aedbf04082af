"""Answers that are the same to the byte, although the rows of data that were sent differ."""

from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found


def alike_although_data_differ(evidence: Evidence) -> Iterator[Found]:
    """Answers that are the same to the byte, although the rows of data that were sent differ."""
    samples: dict[tuple[str, str], list[tuple[tuple[str, ...], str]]] = {}
    for each in evidence.kept:
        if each.status != 200 or each.item or each.resource or each.failure:
            continue
        text = each.url + each.sent_body
        known = {**each.variables, **each.before}
        dealt = tuple(
            sorted({v for name, v in known.items() if "." in name and len(v) >= 3 and v in text})
        )
        if dealt:
            samples.setdefault((each.step, each.request), []).append((dealt, each.body))
    for (step, request), pairs in samples.items():
        sent, bodies = {one for one, _ in pairs}, {body for _, body in pairs}
        if len(sent) >= 6 and len(bodies) == 1 and len(next(iter(bodies))) > 200:
            yield Found(
                rule="alike-although-data-differ",
                about="script",
                sentence=f"{request} was sent {len(sent)} different rows of data and answered the "
                "same every time.",
                means="The data may not reach the server, or what comes is an error page that "
                "looks like an answer.",
                try_="Open two kept exchanges of it and compare what they ask with what they get.",
                step=step,
                request=request,
            )
