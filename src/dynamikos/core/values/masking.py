"""Secrets taken out of texts, in whatever form they stand there.

A secret is looked for sign by sign: each of its signs as it is, percent-encoded once or twice, as
an HTML entity, as a JSON escape (of JSON in JSON too), so that texts that encode only some signs,
or each its own way, are found as well. It is looked for in base64 (of UTF-8 and of latin-1,
wherever in a longer text it begins) and in hexadecimal, and those are looked for in the same ways.
"""

import base64
import re
from collections.abc import Iterable
from functools import lru_cache

MASK = "•••••"
SHORTEST_SECRET = 3  # a shorter one can't be told from other text
ANCHOR = re.compile(r"[A-Za-z0-9]{2,}")
ESCAPED = re.compile(
    r"\\u00[2-7]|&#|%(?:25)*[3-7][1-9]"
)  # letters and digits that need not be encoded, and are
NAMED = {"&": "amp", "<": "lt", ">": "gt", '"': "quot", "'": "apos"}
SHORT_ESCAPES = {
    '"': '"',
    "\\": "\\",
    "/": "/",
    "\b": "b",
    "\f": "f",
    "\n": "n",
    "\r": "r",
    "\t": "t",
}
BACKSLASHES = r"(?:\\|%(?:25)*5[cC]){1,8}"  # of JSON in JSON in JSON, in a form's field too
AMPERSAND, SEMICOLON = "(?:&|%(?:25)*26)(?:amp;)*", "(?:;|%(?:25)*3[bB])"
IN_BASE64 = r"(?:[A-Za-z0-9+/_-]|%2[bBfF])*"


def _hex(number: int, digits: int) -> str:
    return "".join(f"[{d}{d.upper()}]" if d.isalpha() else d for d in f"{number:0{digits}x}")


def _plain(sign: str) -> Iterable[str]:
    """A sign as it is, and percent-encoded: UTF-8 and latin-1, upper and lower case, once or more
    often.
    """
    yield re.escape(sign)
    yield "".join(f"%(?:25)*{_hex(byte, 2)}" for byte in sign.encode("utf-8", "surrogatepass"))
    if "\x7f" < sign < "\u0100":
        yield f"%(?:25)*{_hex(ord(sign), 2)}"


@lru_cache(maxsize=4096)
def _sign(sign: str) -> str:
    """Every way in which one sign of a secret may stand in a text, as a pattern."""
    code = ord(sign)
    ways = [
        *_plain(sign),
        f"{AMPERSAND}(?:#|%(?:25)*23)(?:0*{code}|[xX]0*{_hex(code, 1)}){SEMICOLON}",
    ]
    if sign in NAMED:
        ways.append(f"{AMPERSAND}{NAMED[sign]}{SEMICOLON}")
    units = sign.encode("utf-16-be", "surrogatepass")
    ways.append(
        "".join(
            f"{BACKSLASHES}u{_hex(int.from_bytes(units[at : at + 2], 'big'), 4)}"
            for at in range(0, len(units), 2)
        )
    )
    if sign in SHORT_ESCAPES:
        ways.append(f"{BACKSLASHES}(?:{'|'.join(_plain(SHORT_ESCAPES[sign]))})")
    if sign == " ":
        ways += [r"\+", "%(?:25)*2[bB]"]
    if sign == "\n":
        ways += [r"\r\n", "%(?:25)*0[dD]%(?:25)*0[aA]"]
    if not sign.isascii():  # as a server that takes UTF-8 for latin-1 shows it
        ways.append(re.escape(sign.encode("utf-8", "surrogatepass").decode("latin-1")))
    return f"(?:{'|'.join(ways)})"


class _Form:
    """One spelling of a secret: a pattern, made when it is first needed, and a text that has
    to be there before it is.
    """

    __slots__ = ("_anchor", "_kind", "_pattern", "_text")

    def __init__(self, text: str, kind: str) -> None:
        self._text, self._kind = text, kind
        self._pattern: re.Pattern[str] | None = None
        self._anchor = max(ANCHOR.findall(text), key=len, default="")
        if kind == "hex":
            self._anchor = self._anchor.lower()

    def masked(self, text: str, lower: str, *, escaped: bool) -> str:
        # letters and digits of base64 and hex are escaped by nobody: what has to be there is there
        # as it is
        if (
            self._anchor
            and (not escaped or self._kind != "plain")
            and self._anchor not in (lower if self._kind == "hex" else text)
        ):
            return text
        if self._pattern is None:
            around = (
                IN_BASE64 if self._kind == "base64" else ""
            )  # what begins and ends in the same group of it, too
            self._pattern = re.compile(
                around + "".join(map(_sign, self._text)) + around,
                re.I if self._kind == "hex" else 0,
            )
        return self._pattern.sub(MASK, text)


def _spellings(secret: str) -> Iterable[tuple[str, str]]:
    """(spelling, "plain", "hex" or "base64") of a secret."""
    yield secret, "plain"
    raws = {secret.encode("utf-8", "surrogatepass")}
    if not secret.isascii():
        try:
            raws.add(secret.encode("latin-1"))
        except UnicodeEncodeError:
            pass
    for raw in raws:
        yield raw.hex(), "hex"
        coded = {base64.b64encode(raw).decode().rstrip("=")}
        # inside a longer text its base64 depends on where it begins: only whole groups are certain
        for skipped in (1, 2):
            coded.add(
                base64.b64encode(raw[skipped : skipped + (len(raw) - skipped) // 3 * 3]).decode()
            )
        coded.add(base64.b64encode(raw[: len(raw) // 3 * 3]).decode())
        for text in coded:
            if len(text) >= 4:
                yield text, "base64"
                yield text.replace("+", "-").replace("/", "_"), "base64"


class Masker:
    """Replaces secrets in texts. Secrets of fewer than SHORTEST_SECRET signs can't be found in
    texts: mask what they are called instead.
    """

    def __init__(self, secrets: Iterable[str]) -> None:
        spellings = dict.fromkeys(
            each
            for secret in secrets
            if len(secret) >= SHORTEST_SECRET
            for each in _spellings(secret)
        )
        self._forms = [_form(*each) for each in sorted(spellings, key=lambda each: -len(each[0]))]

    def text(self, text: str) -> str:
        if text and self._forms:
            lower, escaped = text.lower(), ESCAPED.search(text) is not None
            for form in self._forms:
                text = form.masked(text, lower, escaped=escaped)
        return text

    def pairs(self, pairs: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
        return [(name, self.text(value)) for name, value in pairs]

    def values(self, values: dict[str, str]) -> dict[str, str]:
        return {name: self.text(value) for name, value in values.items()}


@lru_cache(maxsize=2048)
def _form(text: str, kind: str) -> _Form:
    return _Form(text, kind)
