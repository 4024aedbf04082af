"""Kinds: issued by the server, made by the client, typed by the person or constant, each with its
reasons.
"""

import re
from collections.abc import Sequence

from dynamikos.core.correlation import value_shapes as shapes
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.coding import written
from dynamikos.core.correlation.found import Found, entry_of
from dynamikos.core.correlation.model import Rule
from dynamikos.core.correlation.origins import framed, head_of
from dynamikos.core.exchanges import Exchange
from dynamikos.core.exchanges.graphql import operation_of
from dynamikos.core.exchanges.resources import is_file


def judge(
    each: Found,
    main: Answers,
    others: Sequence[Answers],
    maps: Sequence[dict[int, int]],
    rule: Rule | None,
) -> None:
    """Decides the kind of a value that was searched for."""
    start = main.exchanges[each.first].started_us
    making = next(
        (
            made
            for name in [*each.names, ""]
            if (made := shapes.own_making(each.value, name, start))
        ),
        "",
    )
    alike = each.offers[0].alike if each.offers else 0.0
    reasons = each.reasons
    if rule is not None:
        reasons.append(f"a rule of the project: always {rule.kind}")
        each.kind = rule.kind
        each.proven = rule.kind == "issued" and bool(each.offers) and each.offers[0].proven
        if rule.kind == "issued" and each.origin < 0:
            reasons.append(
                "but no answer holds it before it is sent, so there is nothing to capture it from"
            )
        return
    if each.origin < 0:
        judge_rest(each, main)
        return
    place = each.offers[0].place if each.offers else "its text"
    where = (
        f"first appears in the answer to request {entry_of(main, each.origin)} ({place}), before "
        "it is sent"
    )
    if (
        making.startswith("a time stamp")
        and alike < 0.5
        and shapes.distance_us(each.value, start) < 2_000_000
    ):
        each.kind, each.pattern = "client-made", making
        reasons.append(
            f"{making}, within two seconds of its own request: the match in an answer is chance"
        )
        return
    if each.differs:
        if each.proven:
            each.kind = "issued"
            reasons.append(where)
            reasons.append("differs between the recordings")
            reasons.append(
                "was one of several alike in each recording: one is picked at random"
                if each.offers[0].chosen
                else "the capture yields the right value in every recording"
            )
        elif (
            (shapes.generated(each.value) or alike >= 0.5)
            and not making
            and _elsewhere(each, others, maps)
        ):
            each.kind = "issued"
            reasons.extend(
                (
                    where,
                    "differs between the recordings",
                    "no capture yields it in every recording yet: it was picked from different "
                    "places",
                )
            )
        else:
            judge_rest(each, main)
        return
    if each.rehearsed == "differs":
        each.kind, each.proven = "issued", True
        reasons.extend(
            (where, "the server issued another value in the rehearsal, and the capture finds it")
        )
        return
    if each.rehearsed == "same" or each.known:
        each.kind, each.proven = "constant", False
        reasons.append(
            "is the same in the rehearsal"
            if each.rehearsed == "same"
            else "is the same in every recording"
        )
        return
    if making and alike < 0.5 and making != "a UUID":
        each.kind, each.pattern, each.proven = "client-made", making, False
        reasons.append(f"looks like {making}")
        return
    if all(is_file(main.exchanges[hit].sent.url) for hit in each.hits if hit < each.first):
        each.kind, each.proven = "constant", False
        reasons.append(
            "only a script or style file holds it, and those don't change from visit to visit"
        )
        return
    if _issued_alone(each, alike):
        each.kind = "issued"
        each.proven = bool(each.offers) and each.offers[0].proven and not shapes.weak(each.value)
        reasons.extend(
            (
                where,
                "looks made by a machine"
                if shapes.generated(each.value)
                else "its name and place say that the server gave it out",
            )
        )
        if rule is None:
            reasons.append(
                "only one recording: a second one or a rehearsal would prove that it changes"
            )
        return
    each.proven = False
    judge_rest(each, main)


def _issued_alone(each: Found, alike: float) -> bool:
    """With one recording and nothing to compare: whether a value that came from an answer is likely
    to change.
    """
    value = each.value
    if not each.offers:
        return shapes.generated(value)
    if shapes.MAIL.match(value) or shapes.as_date(value):
        return False
    if shapes.generated(value):
        return True
    if any(shapes.secret_name(name) for name in each.names) and alike >= 0.5:
        return len(value) >= 4 and not shapes.LOCALE.match(value)
    if (
        re.search(r"\d", value)
        and re.search(r"[A-Za-z]", value)
        and len(value) >= 4
        and " " not in value
    ):
        return alike >= 0.5 or any(shapes.id_name(name) for name in each.names)
    if value.isdigit():
        idlike = any(shapes.id_name(name) for name in each.names) or any(
            site.place.startswith("path") for site in each.sites
        )
        paged = any(
            shapes.words(name)[-1:] and shapes.words(name)[-1] in shapes.ACTION_NAMES
            for name in each.names
        )
        return not paged and (
            (idlike and (alike >= 0.5 or len(value) >= 4)) or (alike >= 0.5 and len(value) >= 5)
        )
    return False


def _elsewhere(each: Found, others: Sequence[Answers], maps: Sequence[dict[int, int]]) -> bool:
    """Whether the other recordings' values, too, appear in an answer before they are sent."""
    for other, mapped, value in zip(others, maps, each.values[1:], strict=True):
        if value is None or value == each.value:
            continue
        sent = min((mapped[site.entry] for site in each.sites if site.entry in mapped), default=0)
        forms = written(value) if len(value) >= 4 else dict.fromkeys(framed(value), "")
        if not any(
            text in head_of(other, j) or text in other.text(j)
            for j in other.ours
            if j < sent
            for text in forms
        ):
            return False
    return True


def judge_rest(each: Found, main: Answers) -> None:
    """Decides the kind of a value that no answer issued before it was sent."""
    start = main.exchanges[each.first].started_us
    making = next(
        (
            made
            for name in [*each.names, ""]
            if (made := shapes.own_making(each.value, name, start))
        ),
        "",
    )
    each.proven = False
    each.offers, each.origin = ([], -1) if each.origin >= each.first else (each.offers, each.origin)
    cookie = next(
        (
            n
            for i in main.ours[:3]
            for n, v in _sent_cookies(main.exchanges[i])
            if v == each.value and len(v) >= 6
        ),
        "",
    )
    if cookie and each.differs:
        each.kind = "issued"
        each.reasons.append(
            f"is the value of the cookie {cookie}, which was set before the recording began: "
            "record from a fresh"
            " browser"
        )
        return
    if all(site.static and site.place.startswith("path") for site in each.sites):
        each.kind = "constant"
        each.reasons.append(
            "names a script, style or picture: browsers ask for those in another order each time, "
            "and make no names"
        )
        return
    if each.differs or not each.known:
        if making:
            each.kind, each.pattern = "client-made", making
            each.reasons.append(f"looks like {making}; no answer holds it before it is sent")
            return
        if (
            each.differs
            and shapes.generated(each.value)
            and len(each.value) >= 12
            and not any(shapes.typed_name(n) for n in each.names)
        ):
            each.kind, each.pattern = "client-made", "random text"
            each.reasons.append(
                "differs between the recordings, looks random, and no answer holds it before it is "
                "sent"
            )
            return
    if each.differs:
        each.kind = "typed"
        idlike = any(shapes.id_name(name) for name in each.names) or any(
            s.place.startswith("path") for s in each.sites
        )
        each.reasons.append(
            "differs between the recordings, and no answer was seen to issue it: a number that was "
            "chosen from"
            " something that the recording lacks, or made by a script"
            if idlike and each.value.isdigit()
            else "differs between the recordings and was not issued by the server: a person chose "
            "or typed it"
        )
        return
    if _is_code(each, main):
        each.kind = "constant"
        each.reasons.append("is the page's own code (GraphQL)")
        return
    if any(shapes.typed_name(name) for name in each.names) or shapes.MAIL.match(each.value):
        each.kind = "typed"
        each.reasons.append("first seen in a request, in a field that people fill in")
        return
    each.kind = "constant"
    each.reasons.append(
        "is the same in every recording" if each.known else "nothing says that it changes"
    )


def _is_code(each: Found, main: Answers) -> bool:
    """Whether a value is a GraphQL document or the name of an operation, wherever that is sent
    besides.
    """
    for site in each.sites:
        operation = operation_of(main.exchanges[site.entry].sent)
        if operation is None or each.value not in (operation.document, operation.name):
            return False
    return True


def _sent_cookies(exchange: Exchange) -> list[tuple[str, str]]:
    line = next((value for name, value in exchange.sent.headers if name.lower() == "cookie"), "")
    return [
        (name.strip(), value.strip())
        for name, sign, value in (each.partition("=") for each in line.split(";"))
        if sign
    ]


def without_parts(found: Sequence[Found], explained: set[tuple[int, str]]) -> list[Found]:
    """Leaves out parts of a value that is explained as a whole, and wholes whose part explains
    them.
    """
    outers = {
        (site.entry, site.outer)
        for each in found
        if each.kind == "issued"
        for site in each.sites
        if site.outer
    }
    deeper = set(outers)
    while deeper:  # the whole of a whole
        deeper = {
            (site.entry, site.outer)
            for each in found
            for site in each.sites
            if site.outer and (site.entry, site.place) in deeper
        } - outers
        outers |= deeper
    kept = []
    for each in found:
        if each.kind == "issued":
            sites = [
                site
                for site in each.sites
                if not (site.outer and (site.entry, site.outer) in explained)
            ]
        else:
            sites = [
                site
                for site in each.sites
                if not site.outer and (site.entry, site.place) not in outers
            ]
        if sites:
            each.sites = sites
            kept.append(each)
    return kept
