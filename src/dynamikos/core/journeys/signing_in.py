"""Which of the recorded requests belong to signing in: by what they send and where to, not by the
word for one field. A name may be asked for first, a code after the password, a consent after that.
"""

import re
from collections.abc import Collection, Iterable, Sequence
from urllib.parse import urlsplit

import orjson

from dynamikos.core.exchanges import Exchange
from dynamikos.core.exchanges.form_names import form_names
from dynamikos.core.exchanges.graphql import writes

Numbered = tuple[int, Exchange]
# what people are asked for, and what they choose, while they sign in
IDENTITY = frozenset(
    "login user username email mail identifier identity account accountid userid loginid phone "
    "tenant realm remember rememberme persistent consent allow approve decision scope code mfa "
    "otp totp passcode".split()
)
PROOFS = frozenset(("otp", "totp", "passcode", "onetimecode", "granttype"))
HIDDEN = re.compile(
    r"csrf|xsrf|token|state|nonce|next|return|redirect|continue|submit|action|key", re.I
)
SIGNING_UP = re.compile(r"sign-?up|regist|join|create|accounts?/new|users/?\Z", re.I)
ASKS_TO_SIGN_IN = re.compile(r"/(?:log|sign)-?in(?:[/.]|\Z)", re.I)
SIGNING_IN = re.compile(
    r"log-?in|sign-?in|sign-?up|register|oauth|openid|oidc|saml|sso|authori[sz]e|consent|mfa|2fa"
    r"|factor|verif|\botp\b|/token\b|/session",
    re.I,
)


INPUT = re.compile(rb"<input\b[^>]*>", re.I)
PASSWORD = re.compile(rb"""\btype\s*=\s*["']?password\b""", re.I)
NAME = re.compile(rb"""\bname\s*=\s*(?:"([^"]*)"|'([^']*)'|([^\s"'>]+))""", re.I)


def password_fields(exchanges: Iterable[Exchange]) -> frozenset[str]:
    """Names of the fields that pages ask for a password in, whatever they are called; in small
    letters without signs between.
    """
    found = set()
    for each in exchanges:
        body = each.answer.body if each.answer is not None else b""
        if not PASSWORD.search(body) or b"<input" not in body.lower():
            continue
        for field in INPUT.findall(body[:2_000_000]):
            name = NAME.search(field) if PASSWORD.search(field) else None
            if name is not None:
                given = next((part for part in name.groups() if part), b"")
                found.add(_plain(given.decode("utf-8", "replace")))
    return frozenset(found - {""})


def signed_in_by(groups: Sequence[Sequence[Numbered]], background: Collection[int]) -> int:
    """The last of the steps by which a person signs in or up, −1 when there is none: names,
    passwords, codes and consents are sent, and nothing else was written before. A basket that was
    filled before belongs to what is done in each round, and so does the rest.
    """
    found, is_proven = -1, False
    passwords = password_fields(each for group in groups for _, each in group)
    for number, group in enumerate(groups):
        written = [each for place, each in group if is_deed(each) and place not in background]
        if not all(signs_in(each, passwords) for each in written):
            break
        proofs = any(proves(each, passwords) for each in written)
        if proofs or any(_speaks_of_it(each) for each in written):
            found = number  # a name alone is one only where a proof follows
        is_proven = is_proven or proofs
    return found if is_proven else -1


def is_deed(exchange: Exchange) -> bool:
    """Whether a request writes, and is not only the page's own counting (answered with nothing)."""
    if not writes(exchange):
        return False
    answer = exchange.answer
    return answer is None or answer.status != 204


def proves(exchange: Exchange, passwords: frozenset[str] = frozenset()) -> bool:
    """Whether a request proves who somebody is: a password, a one-time code, a grant of OAuth 2.0
    (RFC 6749 §4). `passwords` are names of fields that pages ask for one in.
    """
    if b"passw" in exchange.sent.body.lower():
        return True
    return bool(_fields(exchange) & (PROOFS | passwords))


def signs_in(exchange: Exchange, passwords: frozenset[str] = frozenset()) -> bool:
    """Whether a request belongs to signing in: it proves who somebody is, or sends nothing but a
    name, a choice, or what a form hides.
    """
    if proves(exchange, passwords):
        return True
    names = {name for name in _fields(exchange) if not HIDDEN.search(name)}
    return names <= IDENTITY and (bool(names) or _speaks_of_it(exchange))


def _speaks_of_it(exchange: Exchange) -> bool:
    return bool(SIGNING_IN.search(urlsplit(exchange.sent.url).path))


def _fields(exchange: Exchange) -> set[str]:
    """Names of what a body sends, in small letters without signs between."""
    body = exchange.sent.body[:100_000]
    names: list[str] = []
    if body[:1] in (b"{", b"["):
        try:
            names = list(_keys(orjson.loads(body)))
        except ValueError:
            names = []
    else:
        names = form_names(exchange)
    return {_plain(name) for name in names}


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9]", "", name.lower())


def _keys(value: object, depth: int = 0) -> list[str]:
    if depth > 4:
        return []
    if isinstance(value, list):
        return [key for each in value[:50] for key in _keys(each, depth + 1)]
    if not isinstance(value, dict):
        return []
    return [*map(str, value), *(key for each in value.values() for key in _keys(each, depth + 1))]
