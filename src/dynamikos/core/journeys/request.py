"""One request as a journey holds it: address, headers, body, authorization, what is taken from its
answer.
"""

import base64
from collections.abc import Iterator, Sequence
from typing import Annotated, Self

import msgspec
from msgspec.structs import replace

from dynamikos.core.captures import Capture, compile_capture
from dynamikos.core.checks import Check, compile_check
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges.jsontext import problem_in
from dynamikos.core.journeys.headers import header_problem
from dynamikos.core.text import Frozen
from dynamikos.core.text.template_walk import (
    Change,
    Pair,
    each_with_texts,
    pairs_with_texts,
    texts_in,
)

Key = Annotated[
    str,
    msgspec.Meta(
        pattern=r"^[a-z0-9][a-z0-9-]{0,79}$", description="a-z, 0-9 and -, unique in its parent"
    ),
]
Method = Annotated[
    str,
    msgspec.Meta(
        pattern=r"^[!#$%&'*+.^_`|~0-9A-Za-z-]{1,40}$", description="a token (RFC 9110 §9.1)"
    ),
]


KINDS_OF_BODY = ("form", "parts", "json", "raw", "base64")


class FormPart(Frozen, frozen=True, kw_only=True):
    """A part of a multipart body (RFC 7578): a field with its `value`, or a file with its name and
    content, as text or base64. Its name may have holes, too.
    """

    name: str
    value: str = ""
    file: str = ""
    type: str = ""
    base64: Annotated[str, msgspec.Meta(max_length=3_000_000)] = ""

    def with_texts(self, change: Change) -> Self:
        name = change(f"name of part {self.name}", self.name)
        return replace(self, name=name, value=change(f"part {self.name}", self.value))


class Body(Frozen, frozen=True, kw_only=True):
    """What is sent: form fields, parts of a multipart form, a JSON text, a raw text or bytes (in
    base64) with their content type, or a `file` beside the plan, sent piece by piece however large
    it is. Exactly one is given.
    """

    form: tuple[Pair, ...] | None = None
    parts: tuple[FormPart, ...] | None = None
    json: str | None = None
    raw: str | None = None
    base64: Annotated[str, msgspec.Meta(max_length=3_000_000)] | None = None
    type: str = ""
    file: str = ""

    def with_texts(self, change: Change) -> Self:
        made = self
        if self.form is not None:
            made = replace(made, form=pairs_with_texts(self.form, "field", change, names=True))
        if self.parts is not None:
            made = replace(made, parts=each_with_texts(self.parts, change))
        if self.json is not None:
            made = replace(made, json=change("JSON body", self.json))
        if self.raw is not None:
            made = replace(made, raw=change("body", self.raw))
        return made

    def problems(self) -> Iterator[str]:
        """Exactly one kind; JSON that is JSON; files that can be decoded."""
        if sum(getattr(self, kind) is not None for kind in KINDS_OF_BODY) + bool(self.file) != 1:
            yield f"body: give one of {', '.join(KINDS_OF_BODY)} or file"
        if self.json is not None and (wrong := problem_in(self.json)):
            yield f"JSON body, {wrong}; a body that shall not be JSON is given as raw"
        contents = [(f"part {part.name}", part.base64) for part in self.parts or ()]
        for what, content in (*contents, ("body", self.base64 or "")):
            try:
                base64.b64decode(content, validate=True)
            except ValueError:
                yield f"{what}: its content is not base64"


class Login(Frozen, frozen=True, kw_only=True):
    """Who asks, for Basic (RFC 7617) and Digest (RFC 7616)."""

    user: str
    password: str

    def with_texts(self, change: Change) -> Self:
        return replace(
            self, user=change("user", self.user), password=change("password", self.password)
        )


class Client(Frozen, frozen=True, kw_only=True):
    """A client that gets its own token (RFC 6749 §4.4) from `address`; `form` sends id and secret
    as fields instead of in a header.
    """

    address: str
    id: str
    secret: str
    scope: str = ""
    form: bool = False

    def with_texts(self, change: Change) -> Self:
        return replace(
            self,
            address=change("address", self.address),
            id=change("id", self.id),
            secret=change("secret", self.secret),
            scope=change("scope", self.scope),
        )


class Authorization(Frozen, frozen=True, kw_only=True):
    """How a request proves who sends it: one of the four, or `none` where the journey's own is not
    wanted.
    """

    basic: Login | None = None
    digest: Login | None = None
    bearer: str | None = None
    client: Client | None = None
    none: bool = False

    @property
    def kind(self) -> str:
        """The one that is given; "" when there is none, "several" when there are more."""
        given = [
            name
            for name in ("basic", "digest", "bearer", "client")
            if getattr(self, name) is not None
        ] + ["none"] * self.none
        return given[0] if len(given) == 1 else "several" if given else ""

    def with_texts(self, change: Change) -> Self:
        def own(what: str, text: str) -> str:
            return change(f"authorization, {what}", text)

        return replace(
            self,
            basic=self.basic.with_texts(own) if self.basic is not None else None,
            digest=self.digest.with_texts(own) if self.digest is not None else None,
            bearer=own("token", self.bearer) if self.bearer is not None else None,
            client=self.client.with_texts(own) if self.client is not None else None,
        )

    def problems(self) -> Iterator[str]:
        """Exactly one kind, with all that it needs."""
        if self.kind in ("", "several"):
            yield "authorization: give one of basic, digest, bearer, client or none"
        for what, text in texts_in(self):
            if not text and what != "authorization, scope":
                yield f"{what}: nothing is given yet"


class Request(Frozen, frozen=True, kw_only=True):
    """One request. `address` and all values may have `{{ name }}` holes; `recorded` is its number
    in the recording; `off` leaves it out.
    """

    request: Key
    method: Method = "GET"
    address: str
    query: tuple[Pair, ...] = ()
    headers: tuple[Pair, ...] = ()
    body: Body | None = None
    authorization: Authorization | None = None
    embedded: tuple[str, ...] = ()
    captures: tuple[Capture, ...] = ()
    checks: tuple[Check, ...] = ()
    recorded: int | None = None
    off: bool = False
    note: str = ""

    def with_texts(self, change: Change) -> Self:
        return replace(
            self,
            address=change("address", self.address),
            query=pairs_with_texts(self.query, "query", change, names=True),
            headers=pairs_with_texts(self.headers, "header", change),
            authorization=self.authorization.with_texts(change)
            if self.authorization is not None
            else None,
            body=self.body.with_texts(change) if self.body is not None else None,
            embedded=tuple(change("embedded resource", address) for address in self.embedded),
            checks=each_with_texts(self.checks, change),
        )

    def texts(self) -> list[Pair]:
        """(what it is, text) for each text that may have holes."""
        return texts_in(self)

    def problems(self) -> Iterator[str]:
        """What is wrong with it whatever is known: its body, its authorization, its headers."""
        if self.authorization is not None:
            yield from self.authorization.problems()
        if self.body is not None:
            yield from self.body.problems()
        yield from header_problems(self.headers)

    def rule_problems(self) -> Iterator[str]:
        """What is wrong with its captures and checks."""
        for capture in self.captures:
            try:
                compile_capture(capture)
            except DynamikosError as problem:
                yield f"capture {capture.name}: {problem}"
        for check in self.checks:
            try:
                compile_check(check)
            except DynamikosError as problem:
                yield f"check: {problem}"


def header_problems(headers: Sequence[Pair]) -> Iterator[str]:
    """What is wrong with the names and values of headers."""
    for name, value in headers:
        if wrong := header_problem(name, value):
            yield f"header: {wrong}"
