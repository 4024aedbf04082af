"""Kinds: issued by the server, made by the client, typed by the person or constant, each with its
reasons.
"""

import re
from collections.abc import Callable, Sequence
from itertools import combinations
from typing import NamedTuple

from dynamikos.core.correlation import value_shapes as shapes
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.coding import written
from dynamikos.core.correlation.found import Found, entry_of
from dynamikos.core.correlation.model import Kind, Rule
from dynamikos.core.correlation.origins import framed, head_of
from dynamikos.core.exchanges import Exchange
from dynamikos.core.exchanges.graphql import operation_of
from dynamikos.core.exchanges.resources import is_file


class _Case(NamedTuple):
    """A value to be judged, with what speaks for its kinds. `making`: what the client may have made
    it as; `alike`: how much its place in an answer is named like where it is sent (0 to 1).
    """

    each: Found
    main: Answers
    others: Sequence[Answers]
    maps: Sequence[dict[int, int]]
    rule: Rule | None
    making: str
    alike: float

    @property
    def is_generated(self) -> bool:
        return shapes.generated(self.each.value)

    @property
    def is_idlike(self) -> bool:
        """Whether it is sent where identifiers are."""
        return any(shapes.id_name(name) for name in self.each.names) or any(
            site.place.startswith("path") for site in self.each.sites
        )

    @property
    def where(self) -> str:
        place = self.each.offers[0].place if self.each.offers else "its text"
        return (
            f"first appears in the answer to request {entry_of(self.main, self.each.origin)} "
            f"({place}), before it is sent"
        )

    def decided(self, kind: Kind, *reasons: str, pattern: str = "", proven: bool = False) -> bool:
        self.each.kind, self.each.proven = kind, proven
        if pattern:
            self.each.pattern = pattern
        self.each.reasons.extend(reasons)
        return True


def _case(
    each: Found,
    main: Answers,
    others: Sequence[Answers] = (),
    maps: Sequence[dict[int, int]] = (),
    rule: Rule | None = None,
) -> _Case:
    start = main.exchanges[each.first].started_us
    makings = (shapes.own_making(each.value, name, start) for name in [*each.names, ""])
    making = next((made for made in makings if made), "")
    alike = each.offers[0].alike if each.offers else 0.0
    return _Case(each, main, others, maps, rule, making, alike)


def judge(
    each: Found,
    main: Answers,
    others: Sequence[Answers],
    maps: Sequence[dict[int, int]],
    rule: Rule | None,
) -> None:
    """Decides the kind of a value that was searched for: by the first of `SEARCHED` that says one.

    What other recordings or a rehearsal show goes before what a value looks like, and a person's
    own rule before both.
    """
    case = _case(each, main, others, maps, rule)
    if not any(decides(case) for decides in SEARCHED):
        each.proven = False
        judge_rest(each, main)


def _by_rule(case: _Case) -> bool:
    each, rule = case.each, case.rule
    if rule is None:
        return False
    proven = rule.kind == "issued" and bool(each.offers) and each.offers[0].proven
    said = [f"a rule of the project: always {rule.kind}"]
    if rule.kind == "issued" and each.origin < 0:
        said.append(
            "but no answer holds it before it is sent, so there is nothing to capture it from"
        )
    return case.decided(rule.kind, *said, proven=proven)


def _in_no_answer(case: _Case) -> bool:
    if case.each.origin >= 0:
        return False
    judge_rest(case.each, case.main)
    return True


def _stamp_by_chance(case: _Case) -> bool:
    """A time stamp of its own request that an answer holds, too."""
    each = case.each
    start = case.main.exchanges[each.first].started_us
    if not case.making.startswith("a time stamp") or case.alike >= 0.5:
        return False
    if shapes.distance_us(each.value, start) >= 2_000_000:
        return False
    said = "within two seconds of its own request: the match in an answer is chance"
    proven = each.proven
    return case.decided("client-made", f"{case.making}, {said}", pattern=case.making, proven=proven)


def _differs(case: _Case) -> bool:
    """Other recordings have another value."""
    each = case.each
    if not each.differs:
        return False
    if each.proven:
        picked = "was one of several alike in each recording: one is picked at random"
        yields = "the capture yields the right value in every recording"
        found = picked if each.offers[0].chosen else yields
        return case.decided(
            "issued", case.where, "differs between the recordings", found, proven=True
        )
    looks_issued = (case.is_generated or case.alike >= 0.5) and not case.making
    if looks_issued and _elsewhere(each, case.others, case.maps):
        return case.decided(
            "issued",
            case.where,
            "differs between the recordings",
            "no capture yields it in every recording yet: it was picked from different places",
        )
    judge_rest(each, case.main)
    return True


def _differs_in_rehearsal(case: _Case) -> bool:
    if case.each.rehearsed != "differs":
        return False
    said = "the server issued another value in the rehearsal, and the capture finds it"
    return case.decided("issued", case.where, said, proven=True)


def _is_the_same(case: _Case) -> bool:
    if case.each.rehearsed != "same" and not case.each.known:
        return False
    where = "the rehearsal" if case.each.rehearsed == "same" else "every recording"
    return case.decided("constant", f"is the same in {where}")


def _looks_made(case: _Case) -> bool:
    if not case.making or case.alike >= 0.5 or case.making.startswith("a UUID"):
        return False
    return case.decided("client-made", f"looks like {case.making}", pattern=case.making)


def _only_in_files(case: _Case) -> bool:
    each, exchanges = case.each, case.main.exchanges
    if not all(is_file(exchanges[hit].sent.url) for hit in each.hits if hit < each.first):
        return False
    said = "only a script or style file holds it, and those don't change from visit to visit"
    return case.decided("constant", said)


def _looks_issued(case: _Case) -> bool:
    each = case.each
    if not _issued_alone(case):
        return False
    named = "its name and place say that the server gave it out"
    return case.decided(
        "issued",
        case.where,
        "looks made by a machine" if case.is_generated else named,
        "only one recording: a second one or a rehearsal would prove that it changes",
        proven=bool(each.offers) and each.offers[0].proven and not shapes.weak(each.value),
    )


Decides = Callable[[_Case], bool]
SEARCHED: tuple[Decides, ...] = (
    _by_rule,
    _in_no_answer,
    _stamp_by_chance,
    _differs,
    _differs_in_rehearsal,
    _is_the_same,
    _looks_made,
    _only_in_files,
    _looks_issued,
)


def _issued_alone(case: _Case) -> bool:
    """With one recording and nothing to compare: whether a value that came from an answer is likely
    to change.
    """
    each, value, alike = case.each, case.each.value, case.alike
    if not each.offers:
        return case.is_generated
    if shapes.MAIL.match(value) or shapes.as_date(value):
        return False
    if case.is_generated:
        return True
    if alike >= 0.5 and any(shapes.secret_name(name) for name in each.names):
        return len(value) >= 4 and not shapes.LOCALE.match(value)
    if MIXED.match(value):
        return alike >= 0.5 or any(shapes.id_name(name) for name in each.names)
    return value.isdigit() and _is_number_issued(case)


# letters and digits, without spaces, of at least four
MIXED = re.compile(r"(?=[^ ]*\d)(?=[^ ]*[A-Za-z])[^ ]{4,}\Z")


def _is_number_issued(case: _Case) -> bool:
    """Of a number: by where it is sent; the number of a page or the like is a person's choice."""
    last_words = (shapes.words(name)[-1:] for name in case.each.names)
    if any(last and last[0] in shapes.ACTION_NAMES for last in last_words):
        return False
    size, is_alike = len(case.each.value), case.alike >= 0.5
    return (case.is_idlike and (is_alike or size >= 4)) or (is_alike and size >= 5)


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
    """Decides the kind of a value that no answer issued before it was sent: by the first of
    `UNSEARCHED` that says one.
    """
    each.proven = False
    case = _case(each, main)
    if each.origin >= each.first:
        each.offers, each.origin = [], -1
    next(decides for decides in UNSEARCHED if decides(case))


def _is_old_cookie(case: _Case) -> bool:
    each, main = case.each, case.main
    if not each.differs or len(each.value) < 6:
        return False
    sent = (pair for i in main.ours[:3] for pair in _sent_cookies(main.exchanges[i]))
    cookie = next((name for name, value in sent if value == each.value), "")
    said = "which was set before the recording began: record from a fresh browser"
    return bool(cookie) and case.decided("issued", f"is the value of the cookie {cookie}, {said}")


def _names_a_file(case: _Case) -> bool:
    if not all(site.static and site.place.startswith("path") for site in case.each.sites):
        return False
    said = "names a script, style or picture: browsers ask for those in another order each time,"
    return case.decided("constant", f"{said} and make no names")


def _is_signed_by_client(case: _Case) -> bool:
    """A token that no answer holds: a script signed it, with a key of its own."""
    claims = shapes.claims_of(case.each.value)
    if claims is None or case.each.first < 1:
        return False
    times = ", ".join(name for name in ("iat", "nbf", "exp") if name in claims)
    said = "is a JSON Web Token that no answer holds: the page's script signs it"
    said += f", for a time ({times}), so it can't stay as recorded" if times else ""
    return case.decided("client-made", said, pattern="a signed token")


def _made_by_client(case: _Case) -> bool:
    each, making = case.each, case.making
    if each.known and not each.differs:
        return False
    if making:
        said = f"looks like {making}; no answer holds it before it is sent"
        return case.decided("client-made", said, pattern=making)
    is_random = case.is_generated and (len(each.value) >= LONG or _is_short_id(case))
    if not each.differs or not is_random or any(map(shapes.typed_name, each.names)):
        return False
    said = "differs between the recordings, looks random, and no answer holds it before it is sent"
    return case.decided("client-made", said, pattern="random text")


LONG = 12  # signs that nobody types by heart; shorter ones need a name and a difference


def _is_short_id(case: _Case) -> bool:
    """Whether a short value is sent under the name of an identifier and is another one through and
    through in each recording: numbered names, which people choose, have most signs in common.
    """
    each = case.each
    if not any(shapes.id_name(name) or shapes.secret_name(name) for name in each.names):
        return False
    values = [value for value in each.values if value]
    return all(map(shapes.generated, values)) and all(
        abs(len(one) - len(other)) <= 1
        and sum(a == b for a, b in zip(one, other, strict=False)) <= len(one) // 4
        for one, other in combinations(dict.fromkeys(values), 2)
    )


def _chosen_or_typed(case: _Case) -> bool:
    if not case.each.differs:
        return False
    why = "differs between the recordings"
    if case.is_idlike and case.each.value.isdigit():
        why += ", and no answer was seen to issue it: a number that was chosen from something that"
        why += " the recording lacks, or made by a script"
    else:
        why += " and was not issued by the server: a person chose or typed it"
    return case.decided("typed", why)


def _is_page_code(case: _Case) -> bool:
    said = "is the page's own code (GraphQL)"
    return _is_code(case.each, case.main) and case.decided("constant", said)


def _is_filled_in(case: _Case) -> bool:
    named = any(shapes.typed_name(name) for name in case.each.names)
    if not named and not shapes.MAIL.match(case.each.value):
        return False
    return case.decided("typed", "first seen in a request, in a field that people fill in")


def _is_constant(case: _Case) -> bool:
    same, unknown = "is the same in every recording", "nothing says that it changes"
    return case.decided("constant", same if case.each.known else unknown)


UNSEARCHED: tuple[Decides, ...] = (
    _is_old_cookie,
    _names_a_file,
    _is_signed_by_client,
    _made_by_client,
    _chosen_or_typed,
    _is_page_code,
    _is_filled_in,
    _is_constant,
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
