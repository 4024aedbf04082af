"""A journey compiled once for all users of a shard: work per exchange dominates everything else."""

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from pathlib import Path
from urllib.parse import urljoin, urlsplit

import msgspec

from dynamikos.core.captures import compile_capture
from dynamikos.core.captures.view import Taker
from dynamikos.core.checks import compile_check
from dynamikos.core.checks.base import Judge
from dynamikos.core.errors import RuleError, TemplateError
from dynamikos.core.frozen import CheckPlace, DataPile, Series, checks_of, series_of
from dynamikos.core.journeys import Authorization, Client, Journey, Login, Request, Step
from dynamikos.core.journeys.headers import header_problem
from dynamikos.core.journeys.model import PARTS
from dynamikos.core.journeys.tainted import secret_names, uses
from dynamikos.core.ports import port_of
from dynamikos.core.text.template_walk import texts_in
from dynamikos.core.values import Values as UserValues
from dynamikos.core.values import bind, calculates, names_in
from dynamikos.core.values.template import OWN_BODY
from dynamikos.engine.failures import Failure
from dynamikos.engine.http.messages import NO_FIELDS, Base, Body, Fields, Head, Held
from dynamikos.engine.ports import Origin
from dynamikos.engine.users.bodies import Make, made_body
from dynamikos.engine.users.filling import (
    BARE_PERCENT,
    Fill,
    Values,
    addressed,
    escaped,
    filler,
    in_header,
    in_reference,
)
from dynamikos.engine.users.items import Item
from dynamikos.engine.users.proving import Prover, fixed_header, prover

Condition = Callable[[Values], bool]
MAX_HOPS = 10
CREDENTIALS = frozenset(("authorization", "cookie", "proxy-authorization"))
DEFAULT_HEADERS = (
    ("User-Agent", "Dynamikos/0.1"),
    ("Accept", "*/*"),
    ("Accept-Encoding", "gzip, deflate, br, zstd"),
)


def split_url(url: str) -> tuple[Origin, str, str]:
    """(origin, Host header's value, request target).

    Raises Failure("address") for what is no http(s) address that can be asked.
    """
    try:
        parts = urlsplit(url)
        port = port_of(parts)
        name = parts.hostname or ""
        if not name.isascii():  # IDNA; refuses what can't be a host name
            name = name.encode("idna").decode()
    except (ValueError, UnicodeError) as problem:
        raise Failure("address", f"'{url[:120]}' is not an address: {problem}") from problem
    if parts.scheme not in ("http", "https") or not name:
        raise Failure("address", f"'{url[:120]}' is not an http or https address")
    _host_name(name)
    target = parts.path or "/"
    if "?" in url.partition("#")[0]:  # an empty query is one, too
        target += "?" + parts.query
    if not _may_be_sent(target):
        target = in_reference(target)
    standard = port == (443 if parts.scheme == "https" else 80)
    host = f"[{name}]" if ":" in name else name
    return _origin(parts.scheme, name, port), host if standard else f"{host}:{port}", target


def _host_name(name: str) -> None:
    """Raises Failure for what can't be one."""
    if len(name) > 253 or any(len(label) > 63 for label in name.split(".")):
        raise Failure(
            "address",
            f"the host '{name[:80]}' is too long: a label has at most 63 signs, all of it 253",
        )
    if any(sign <= " " or sign in "<>\\^`{|}\x7f" for sign in name):
        raise Failure("address", f"'{name[:80]}' can't be a host name")


def _may_be_sent(target: str) -> bool:
    """Whether it is written as RFC 3986 asks for."""
    is_plain = target.isascii() and target.isprintable() and " " not in target
    return is_plain and not BARE_PERCENT.search(target)


@lru_cache(maxsize=4096)
def _origin(scheme: str, name: str, port: int) -> Origin:
    """The same object for the same origin, so that most comparisons of two are of one thing with
    itself.
    """
    return scheme, name, port


@dataclass(slots=True)
class CompiledRequest:
    """A request ready to be filled. `plain` is (origin, head, body) when nothing in it varies."""

    request: Request
    step: Step
    series: int
    method: str
    fill_address: Fill
    fill_query: list[tuple[Fill, Fill]]
    make_body: Make | None
    captures: list[tuple[str, Taker]]
    checks: list[Judge]
    checks_status: bool
    keeps_body: bool
    embedded: list[Fill]
    plain: tuple[Origin, Head, Body] | None = None
    # what its embedded resources carry too, from the same origin
    common: list[tuple[str, Fill]] = field(default_factory=list)
    prover: Prover | None = None  # when proving who sends it takes exchanges of its own
    place: tuple[Origin, str, str] | None = None  # where it goes, when nothing varies in that
    base: Base | None = None  # how its head begins then
    fixed: Fields = NO_FIELDS  # headers in which nothing varies
    open_headers: list[tuple[str, Fill]] = field(default_factory=list)
    reads_addresses: bool = (
        False  # whether a capture looks into the addresses it was redirected through
    )
    calculates: bool = False  # whether building it evaluates expressions
    first_check: int = 0  # number of its first check in the journey
    draws: tuple[str, ...] = ()  # data sets of which it takes a new row
    file: Path | None = None  # a body that is sent from a file, piece by piece
    reads_body: bool = False  # whether its head is computed of its body
    expects: bool = False  # whether the body waits for “100 Continue”
    own_host: Fill | None = None  # a Host header of its own
    own_cookie: Fill | None = None  # a Cookie header of its own
    private: frozenset[str] = frozenset()  # headers that go to their own origin only, in lower case
    hides: frozenset[int] = frozenset()  # positions of checks whose texts come from secrets
    count: int = 0  # of its checks
    reads_json: int = 0  # how many captures and checks read its answer as JSON
    looks: bool = False  # whether anything is captured from its answer or checked
    numbers: tuple[
        tuple[str, int], ...
    ] = ()  # captured values that are measured, with their series

    def build(self, values: Values) -> tuple[Origin, Head, Body]:
        """(origin, head, body). Raises TemplateError or Failure."""
        content = b"" if self.make_body is None else self.make_body(values)
        body: Body = content
        if self.reads_body and self.file is None:
            values = _with_body(values, content)
        if self.place is not None:
            origin, host, target = self.place
        else:
            url = self.fill_address(values)
            if self.fill_query:
                query = "&".join(
                    [f"{name(values)}={value(values)}" for name, value in self.fill_query]
                )
                url += ("" if url.endswith("?") else "&" if "?" in url else "?") + query
            origin, host, target = split_url(url)
        if self.file is not None:
            body = Held(file=self.file)
        elif self.expects and content:
            body = Held(content)
        own = tuple([(name, fill(values)) for name, fill in self.open_headers])
        cookie = "" if self.own_cookie is None else self.own_cookie(values)
        base = self.base
        if base is None:
            base = Base(
                self.method,
                target,
                host if self.own_host is None else self.own_host(values),
                self.fixed,
            )
        return origin, Head(base, own, cookie), body


def _with_body(values: Values, body: bytes) -> Values:
    """A user's values, and the body of the request they fill: its digest may stand in the head."""
    text = body.decode("utf-8", "surrogateescape")
    maker = getattr(values, "maker", None)
    if maker is None:
        return {**values, OWN_BODY: text}
    return UserValues({**values, OWN_BODY: text}, maker)


@dataclass(slots=True)
class CompiledStep:
    step: Step
    series: int
    embedded_series: int
    requests: list[CompiledRequest]

    thinks: bool = False
    walks: bool = False  # whether its requests are sent one after the other, and there is one
    whole: int = -1  # its series, where its only request is all of it and has a step's time
    item: Item | None = None  # when it does something else than sending requests
    begins: tuple[int, ...] = ()  # series of spans that begin, and end, with it
    ends: tuple[int, ...] = ()


ItemOf = Callable[
    [Step, Values, frozenset[str], Callable[[tuple[Step, ...]], list[CompiledStep]]], Item | None
]


@dataclass(slots=True)
class Script:
    """The compiled journey."""

    series: tuple[Series, ...]
    opening: list[CompiledStep]
    rounds: list[CompiledStep]
    closing: list[CompiledStep]
    cleanup: list[CompiledStep]
    secret: frozenset[str] = frozenset()  # names of values that come from secrets
    round_series: int = 0
    token_series: int = -1
    item_series: int = -1
    every: list[CompiledStep] = field(default_factory=list)
    origins: list[Origin] = field(default_factory=list)  # those that are known before the run
    counts_rounds: bool = False  # whether a text of it asks for the number of the round


def compile_journey(
    journey: Journey,
    environment: Values,
    data: Sequence[DataPile] = (),
    secrets: Collection[str] = (),
    *,
    item_of: ItemOf,
    series: tuple[Series, ...] = (),
    checks: Sequence[CheckPlace] = (),
    known_requests: dict[tuple[str, str], CompiledRequest] | None = None,
) -> Script:
    """`data` says which data sets are dealt at each use and which columns are secret; `secrets`
    names the environment's; `item_of` makes of a step what performs it; `series` and `checks` are
    those of the journey's row, without them its own. `known_requests` are those of the same journey
    compiled for another row, by step and request: they are taken, with this row's numbers, and new
    ones put in. Raises TemplateError or RuleError for what `verify` would have named.
    """
    had = {} if known_requests is None else known_requests
    compiling = _Compiling(journey, environment, data, secrets, item_of, series, checks, had)
    script = compiling.script
    for part in PARTS:
        getattr(script, part).extend(compiling.step(step) for step in journey.part(part))
    known = [
        each.place[0] for step in script.every for each in step.requests if each.place is not None
    ]
    script.origins = list(dict.fromkeys(known))
    return script


class _Compiling:
    """A journey as it is compiled, step by step."""

    def __init__(
        self,
        journey: Journey,
        environment: Values,
        data: Sequence[DataPile],
        secrets: Collection[str],
        item_of: ItemOf,
        series: tuple[Series, ...],
        checks: Sequence[CheckPlace],
        had: dict[tuple[str, str], CompiledRequest],
    ) -> None:
        self._journey, self._environment, self._item_of, self._had = (
            journey, environment, item_of, had,
        )  # fmt: skip
        series = series or series_of(journey)
        self._numbers: dict[tuple[str, str, str], int] = {
            (each.level, each.step, each.request): each.no for each in series
        }
        places = reversed(checks or checks_of(journey))
        self._firsts = {(each.step, each.request): each.first for each in places}
        self._used = {pile.key for pile in data if pile.deal.when == "use"}
        columns = {f"{pile.key}.{column}" for pile in data for column in pile.secret}
        self._secret = secret_names(journey, columns | set(secrets))
        self._spans = [each for each in series if each.level == "span"]
        self._measured = {each.request: each.no for each in series if each.level == "number"}
        self.script = Script(
            series,
            [],
            [],
            [],
            [],
            self._secret,
            round_series=series[0].no,
            token_series=self._numbers.get(("token", "", ""), -1),
            item_series=self._numbers.get(("item", "", ""), -1),
        )
        self.script.counts_rounds = b"round.number" in msgspec.json.encode(journey)

    def step(self, step: Step) -> CompiledStep:
        """With those inside of it; noted in the script."""
        level = "repeat" if step.nests else "step"
        one = CompiledStep(
            step=step,
            series=self._numbers.get((level, step.step, ""), self.script.item_series),
            thinks=step.think_s > 0 or step.think_to_s > 0,
            embedded_series=self._numbers.get(("embedded", step.step, ""), -1),
            requests=[self._request(each, step) for each in step.requests],
            item=self._item_of(step, self._environment, self._secret, self._steps),
        )
        one.begins = tuple(each.no for each in self._spans if each.step == step.step)
        one.ends = tuple(each.no for each in self._spans if each.request == step.step)
        self.script.every.append(one)
        at_once = step.at_once and len(one.requests) > 1
        one.walks = one.item is None and bool(one.requests) and not at_once
        if one.walks and len(one.requests) == 1 and one.requests[0].prover is None:
            one.whole = one.series
        return one

    def _steps(self, steps: tuple[Step, ...]) -> list[CompiledStep]:
        return [self.step(each) for each in steps]

    def _request(self, request: Request, step: Step) -> CompiledRequest:
        """One of this row; what is the same in all rows is compiled once."""
        key = step.step, request.request
        number = self._numbers["request", step.step, request.request]
        made = self._had.get(key)
        if made is None:
            made = self._had[key] = _request(
                request, step, number, self._environment, self._journey, self._secret
            )
        else:
            made = replace(made, series=number)
        made.first_check = self._firsts.get(key, 0)
        texts = (*request.texts(), *self._journey.common_texts())
        needed = {name.partition(".")[0] for _, text in texts for name in names_in(text)}
        made.draws = tuple(sorted(needed & self._used))
        measured = self._measured
        made.numbers = tuple((n, measured[n]) for n, _ in made.captures if n in measured)
        return made


def _request(
    request: Request,
    step: Step,
    series: int,
    known: Values,
    journey: Journey,
    secret: frozenset[str],
) -> CompiledRequest:
    def text(source: str, encode: Callable[[str], str] | None = None) -> Fill:
        return filler(bind(source, known, secret), encode, secret=secret)

    def pair(name: str, value: str) -> tuple[Fill, Fill]:
        return escaped(bind(name, known, secret), secret=secret), escaped(
            bind(value, known, secret), secret=secret
        )

    proof = _bound(request.authorization or journey.authorization, known, secret)
    headers, shared, private = _headers(request, journey, proof, text, secret)
    make_body, kind = made_body(request, text, known, secret)
    named = {name.lower(): fill for name, fill in reversed(headers)}
    if kind and "content-type" not in named:
        headers.append(("Content-Type", text(kind)))
    captures = [(capture.name, compile_capture(capture)) for capture in request.captures]
    made = CompiledRequest(
        request=request,
        step=step,
        series=series,
        method=request.method,
        fill_address=addressed(request.address, known, secret=secret),
        fill_query=[pair(name, value) for name, value in request.query],
        make_body=make_body,
        captures=captures,
        checks=[compile_check(check) for check in request.checks],
        checks_status=any(check.status is not None for check in request.checks),
        keeps_body=_keeps_body(request),
        embedded=[addressed(each, known, secret=secret) for each in request.embedded],
        common=shared,
        prover=prover(proof, secret),
        own_host=named.get("host"),
        own_cookie=named.get("cookie"),
        looks=bool(captures or request.checks),
        count=len(request.checks),
        reads_json=sum(each.json is not None for each in request.captures)
        + sum(each.json is not None for each in request.checks),
        private=private,
        hides=_hidden_checks(request, secret),
    )
    if request.body is not None and request.body.file:
        made.file = Path(request.body.file)
    made.expects = "expect" in named
    _fix(made, headers)
    _look_into(made, request, journey)
    try:
        made.plain = made.build({})
    except (TemplateError, Failure):
        made.plain = None
    return made


def _look_into(made: CompiledRequest, request: Request, journey: Journey) -> None:
    """What its texts and captures ask for."""
    kinds = [capture.kind for capture in request.captures]
    made.reads_addresses = any(kind is not None and kind.reads_addresses for kind in kinds)
    texts = (*request.texts(), *journey.common_texts())
    made.calculates = any(calculates(each) for _, each in texts)
    made.reads_body = any(OWN_BODY in names_in(each) for _, each in texts)


def _keeps_body(request: Request) -> bool:
    """Whether a capture or a check looks at it."""
    kinds = [*(c.kind for c in request.captures), *(check.kind for check in request.checks)]
    return any(kind is not None and kind.needs_body for kind in kinds)


def _hidden_checks(request: Request, secret: frozenset[str]) -> frozenset[int]:
    """Numbers of the checks that say something secret."""
    return frozenset(
        at
        for at, check in enumerate(request.checks)
        if any(uses(text, secret) for _, text in texts_in(check))
    )


def _fix(made: CompiledRequest, headers: Sequence[tuple[str, Fill]]) -> None:
    """Fills what is the same each time now: headers, and the head where all of it is."""
    fixed: list[tuple[str, str]] = []
    for name, fill in headers:
        if name.lower() in ("host", "cookie"):
            continue
        try:
            fixed.append((name, fill({})))
        except TemplateError:
            made.open_headers.append((name, fill))
    made.fixed = Fields(fixed)
    try:
        made.place = _place(made)
        host = made.place[1] if made.own_host is None else made.own_host({})
        made.base = Base(made.method, made.place[2], host, made.fixed)
    except (TemplateError, Failure):
        made.base = None


def _headers(
    request: Request,
    journey: Journey,
    proof: Authorization | None,
    text: Callable[..., Fill],
    secret: frozenset[str],
) -> tuple[list[tuple[str, Fill]], list[tuple[str, Fill]], frozenset[str]]:
    """(all headers of a request, those its embedded resources carry too, names of those for its own
    origin only).

    Raises RuleError for one that makes no valid request.
    """
    given = {name.lower() for name, _ in request.headers}
    common = [(name, value) for name, value in journey.headers if name.lower() not in given]
    for name, value in (*request.headers, *common):
        if problem := header_problem(name, value):
            raise RuleError(problem)
    headers = [(name, text(value, in_header)) for name, value in (*request.headers, *common)]
    private = {
        name.lower() for name, value in (*request.headers, *common) if uses(value, secret)
    } | CREDENTIALS
    given.update(name.lower() for name, _ in common)
    fixed = fixed_header(proof, secret)
    if fixed is not None:
        headers = [(name, fill) for name, fill in headers if name.lower() != "authorization"] + [
            ("Authorization", fixed)
        ]
    # a page's Accept is not what its pictures and styles are asked for with
    shared = [(name, text(value, in_header)) for name, value in common if name.lower() != "accept"]
    if fixed is not None:
        shared.append(("Authorization", fixed))
    headers.extend(
        (name, text(value)) for name, value in DEFAULT_HEADERS if name.lower() not in given
    )
    return headers, shared, frozenset(private)


def _place(made: CompiledRequest) -> tuple[Origin, str, str]:
    """Where a request goes, when nothing varies in that. Raises TemplateError where something
    does.
    """
    url = made.fill_address({})
    if made.fill_query:
        url += ("" if url.endswith("?") else "&" if "?" in url else "?") + "&".join(
            [f"{name({})}={value({})}" for name, value in made.fill_query]
        )
    return split_url(url)


def _bound(
    given: Authorization | None, known: Values, secret: frozenset[str]
) -> Authorization | None:
    """With the environment's values put into its texts."""
    if given is None:
        return None

    def login(each: Login | None) -> Login | None:
        return (
            None
            if each is None
            else Login(
                user=bind(each.user, known, secret), password=bind(each.password, known, secret)
            )
        )

    client = given.client
    if client is not None:
        client = Client(
            address=bind(client.address, known, secret),
            id=bind(client.id, known, secret),
            secret=bind(client.secret, known, secret),
            scope=bind(client.scope, known, secret),
            form=client.form,
        )
    bearer = bind(given.bearer, known, secret) if given.bearer is not None else None
    return Authorization(
        basic=login(given.basic),
        digest=login(given.digest),
        bearer=bearer,
        client=client,
        none=given.none,
    )


def located(location: bytes) -> str:
    """A Location as it came: bytes that can't stand in an address are percent-encoded one by
    one.
    """
    return "".join(chr(byte) if 0x20 < byte < 0x7F else f"%{byte:02X}" for byte in location.strip())


def resolve(base: str, address: str) -> str:
    """An address of a page's resource or redirect, made absolute. Raises Failure("address") for
    what is none.
    """
    try:
        found = urljoin(base, address).partition("#")[0]
        asked = address.partition("#")[0]
        # urljoin forgets an empty query
        return found + "?" if asked.endswith("?") and not found.endswith("?") else found
    except ValueError as problem:
        raise Failure("address", f"'{address[:120]}' is not an address: {problem}") from problem
