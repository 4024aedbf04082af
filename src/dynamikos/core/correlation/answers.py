"""A recording's answers as captures see them: a request with its redirects is one, its
last answer the one looked at.
"""

from collections import OrderedDict
from collections.abc import Sequence
from typing import TypeVar

from selectolax.lexbor import LexborNode

from dynamikos.core.captures import View
from dynamikos.core.correlation.align import Form, form_of
from dynamikos.core.correlation.coding import leaves
from dynamikos.core.exchanges import Exchange, text_of
from dynamikos.core.exchanges.model import redirect_of
from dynamikos.core.exchanges.resources import LIFELESS

T = TypeVar("T")
NOT_TEXT = (*LIFELESS, "application/octet-stream", "application/pdf", "application/zip")


class _Few(OrderedDict[int, T]):
    """The parsed forms of the last few answers: a parsed page takes ten times its size."""

    def keep(self, key: int, value: T) -> T:
        self[key] = value
        while len(self) > 12:
            self.popitem(last=False)
        return value


class Answers:
    """`ours` are the positions of the exchanges that belong to the journey."""

    def __init__(self, exchanges: Sequence[Exchange], ours: Sequence[int]) -> None:
        self.exchanges, self.ours = exchanges, list(ours)
        self._next: dict[int, int] = {}
        self.start: dict[int, int] = {
            i: i for i in self.ours
        }  # the request that leads to an answer
        for place, i in enumerate(self.ours):
            wanted = redirect_of(exchanges[i])
            if wanted is None:
                continue
            for j in self.ours[place + 1 : place + 12]:
                if (
                    exchanges[j].sent.url.partition("#")[0] == wanted
                    and j not in self._next.values()
                ):
                    self._next[i] = j
                    self.start[j] = self.start[i]
                    break
        self._views: _Few[View] = _Few()
        self._leaves: _Few[dict[str, list[tuple[str, str]]]] = _Few()
        self._marks: _Few[dict[str, list[tuple[LexborNode, str]]]] = _Few()
        self._set: dict[int, dict[str, str]] = {}
        self.moving: frozenset[str] = frozenset()  # values sent that differ between the recordings
        self._forms: dict[int, Form] = {}
        self.changed: dict[
            int, int
        ] = {}  # by answer, how many scalars have other values in another recording

    def form(self, i: int) -> Form:
        """The form of request i, whatever its host."""
        known = self._forms.get(i)
        if known is None:
            known = self._forms[i] = form_of(self.exchanges[i])._replace(host="")
        return known

    def followed(self, i: int) -> bool:
        """Whether request i is sent by itself, as the target of a redirect."""
        return self.start.get(i, i) != i

    def final(self, i: int) -> int:
        while i in self._next:
            i = self._next[i]
        return i

    def cookies_set(self, i: int) -> dict[str, str]:
        """Cookies that answer i sets."""
        known = self._set.get(i)
        if known is None:
            known = self._set[i] = {}
            answer = self.exchanges[i].answer
            for name, value in answer.headers if answer else ():
                if name.lower() != "set-cookie":
                    continue
                for line in value.split("\n"):
                    key, sign, rest = line.partition("=")
                    if sign and key.strip():
                        known[key.strip()] = rest.partition(";")[0].strip()
        return known

    def view(self, i: int) -> View:
        """What a capture on the request that leads to answer i sees."""
        last = self.final(i)
        known = self._views.get(last)
        if known is None:
            answer = self.exchanges[last].answer
            headers = (
                [
                    (n.encode("latin-1", "replace"), v.encode("latin-1", "replace"))
                    for n, v in answer.headers
                ]
                if answer
                else []
            )
            hops = [last]
            while hops[0] != self.start[last]:
                hops.insert(
                    0, next(before for before, after in self._next.items() if after == hops[0])
                )
            addresses = [self.exchanges[hop].sent.url for hop in hops]
            beyond = redirect_of(self.exchanges[last])
            view = View(
                answer.status if answer else 0,
                headers,
                answer.body if answer else b"",
                lambda: self._jar(last),
                [*addresses, beyond] if beyond else addresses,
            )
            known = self._views.keep(last, view)
        return known

    def _jar(self, last: int) -> dict[str, str]:
        jar: dict[str, str] = {}
        for i in self.ours:
            if i > last:
                break
            jar.update(self.cookies_set(i))
        return jar

    def text(self, i: int) -> str:
        """The body of answer i as text, "" for pictures and the like."""
        answer = self.exchanges[i].answer
        if answer is None or not answer.body:
            return ""
        kind = answer.header("content-type") or ""
        if kind.lower().startswith(NOT_TEXT) and "svg" not in kind:
            return ""
        return text_of(answer.body, kind)

    def json_leaves(self, i: int) -> dict[str, list[tuple[str, str]]]:
        """Text of a scalar → its (path, name)s in the final answer of i; empty when that is not
        JSON.
        """
        last = self.final(i)
        known = self._leaves.get(last)
        if known is None:
            known = self._leaves.keep(last, {})
            view = self.view(last)
            if view.body.lstrip()[:1] in (b"{", b"[", b'"'):
                try:
                    document = view.json()
                except ValueError:
                    return known
                for path, name, leaf in leaves(document, 200_000):
                    known.setdefault(leaf, []).append((path, name))
        return known

    def marks(self, i: int) -> dict[str, list[tuple[LexborNode, str]]]:
        """Attribute or text → (element, attribute or "") in the final answer of i; empty when that
        is not HTML.
        """
        last = self.final(i)
        known = self._marks.get(last)
        if known is None:
            known = self._marks.keep(last, {})
            view = self.view(last)
            if not is_html(view):
                return known
            for node in view.html().css("*"):
                for name, value in node.attributes.items():
                    if value and name not in ("class", "style"):
                        known.setdefault(value, []).append((node, name))
                if node.tag not in ("script", "style", "html", "head", "body"):
                    text = node.text(deep=False, strip=True)
                    if text and len(text) < 400:
                        known.setdefault(text, []).append((node, ""))
        return known


def is_html(view: View) -> bool:
    return "html" in view.content_type.lower() or (
        not view.content_type and view.body.lstrip()[:1] == b"<"
    )
