"""Nothing that leaves a generator shows a secret, in whatever form and whatever was computed
from it.
"""

import base64
import html
import json
from unittest import TestCase
from urllib.parse import quote, quote_plus

import msgspec
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from dynamikos.core.values.masking import MASK, Masker
from dynamikos.engine.runner import Rehearsal, Shard
from dynamikos.engine.testing import Scripted, ScriptedNetwork, VirtualClock, answer, run_virtual
from tests.engine.support import frozen

FORMS = {
    "as it is": lambda s: s,
    "html": html.escape,
    "html, by number": lambda s: "".join(f"&#x{ord(c):x};" for c in s),
    "json": lambda s: json.dumps(s)[1:-1],
    "json, not ascii": lambda s: json.dumps(s, ensure_ascii=False)[1:-1],
    "json, slashes": lambda s: json.dumps(s)[1:-1].replace("/", "\\/"),
    "json, for scripts": lambda s: (
        json.dumps(s)[1:-1].replace("<", "\\u003c").replace(">", "\\u003E").replace("&", "\\u0026")
    ),
    "json in json": lambda s: json.dumps(json.dumps({"a": s})),
    "json in a form": lambda s: quote_plus(json.dumps({"a": s})),
    "percent": lambda s: quote(s, safe=""),
    "percent, lower": lambda s: "".join(
        c if c.isalnum() and c.isascii() else quote(c, safe="").lower() for c in s
    ),
    "percent, twice": lambda s: quote(quote(s, safe=""), safe=""),
    "plus": quote_plus,
    "hex": lambda s: s.encode().hex(),
    "HEX": lambda s: s.encode().hex().upper(),
    "base64": lambda s: base64.b64encode(s.encode()).decode(),
    "base64url": lambda s: base64.urlsafe_b64encode(s.encode()).decode().rstrip("="),
    "basic": lambda s: base64.b64encode(f"user:{s}".encode()).decode(),
    "basic, latin-1": lambda s: base64.b64encode(f"u:{s}".encode("latin-1", "replace")).decode(),
    "base64 in a form": lambda s: quote(base64.b64encode(s.encode()).decode(), safe=""),
}
SIGNS = st.characters(
    min_codepoint=0x21, max_codepoint=0xFF, exclude_categories=("Cc", "Cs", "Cf", "Zs")
)
SECRETS = st.text(SIGNS, min_size=4, max_size=16).map(
    "zQ".__add__
)  # nothing that a trace id may happen to hold
JOURNEY = """
opening:
  - {step: v, name: V, set: [[first, "{{ secrets.key | cut(0, 1) }}"], [loud, "{{ secrets.key | upper }}"],
      [again, "{{ first ~ loud }}"]]}
rounds:
  - {step: l, name: L,
     log: "key {{ secrets.key }}, first {{ first }}, {{ secrets.key | cut(1, 2) }}, again {{ again }}"}
  - {step: k, name: K, keep: {into: seen, row: [[a, "{{ secrets.key | cut(0, 1) }}"], [b, "{{ loud }}"], [c, plain]]}}
  - step: s
    name: S
    requests:
      - request: r
        method: POST
        address: "{{ env.base }}/{{ secrets.key }}"
        query: [[t, "{{ secrets.key | sha256 }}"]]
        headers: [[X-Key, "{{ secrets.key | base64 }}"]]
        authorization: {basic: {user: u, password: "{{ secrets.key }}"}}
        body: {json: '{"k": "{{ secrets.key }}", "l": "{{ loud }}"}'}
        captures: [{name: echoed, between: {before: "<i>", after: "</i>"}, otherwise: ""}]
        checks: [{contains: "{{ secrets.key | cut(0, 2) }}nowhere", then: count}]
"""  # noqa: E501


def left(secret: str, body: bytes) -> tuple[str, list[bytes]]:
    """(everything a rehearsal tells, as one text; what was sent)."""
    made = msgspec.structs.replace(frozen(JOURNEY), secret_names=("key",))
    kept: list[object] = []
    network = ScriptedNetwork(
        lambda data: Scripted(answer(body, headers="Content-Type: text/html\r\n"), 0.01)
    )

    async def program() -> str:
        shard = Shard(number=0, count=1, frozen=made, rows={}, secrets={"secrets.key": secret})
        return await Rehearsal(shard).perform(network, VirtualClock(), kept.append)

    run_virtual(program())
    return "\n".join(
        json.dumps(msgspec.to_builtins(each), ensure_ascii=False) for each in kept
    ), network.requests


class Masking(TestCase):
    @settings(max_examples=100, deadline=None)
    @given(
        SECRETS, st.sampled_from(sorted(FORMS)), st.text(st.sampled_from('ab:{}" <>'), max_size=4)
    )
    def test_every_known_form_is_masked(self, secret: str, form: str, context: str) -> None:
        written = FORMS[form](secret)
        self.assertNotIn(
            written, Masker([secret]).text(context + written + context), (form, secret)
        )
        self.assertIn(MASK, Masker([secret]).text(context + written + context))

    def test_other_texts_stay_as_they_are(self) -> None:
        text = 'plain text with %20, &amp;, "quotes", \\u0041 and abc123 in it ' * 50
        self.assertEqual(Masker(["correct horse", "s3cr3t/ü"]).text(text), text)


class NothingLeaves(TestCase):
    @settings(max_examples=10, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(SECRETS, st.sampled_from(sorted(FORMS)))
    def test_no_form_of_a_secret_is_in_what_a_rehearsal_tells(self, secret: str, form: str) -> None:
        told, sent = left(
            secret, f"<p>hello <i>{FORMS[form](secret)}</i> {secret.upper()}</p>".encode()
        )
        self.assertTrue(any(b"POST" in each for each in sent))
        inside = json.loads("[" + ",".join(told.split("\n")) + "]")
        texts = json.dumps(inside, ensure_ascii=False)
        for name, written in FORMS.items():
            for each in (written(secret), written(secret.upper())):
                self.assertNotIn(json.dumps(each, ensure_ascii=False)[1:-1], texts, name)

    def test_what_is_computed_from_a_secret_is_masked_as_a_whole(self) -> None:
        told, _ = left("Qz7/owl-wing", b"nothing")
        rows = [json.loads(line) for line in told.split("\n")]
        self.assertEqual(
            next(row["error"] for row in rows if row["item"] == "log"),
            f"key {MASK}, first {MASK}, {MASK}, again {MASK}",
        )
        written = next(row["error"] for row in rows if row["item"] == "keep")
        self.assertEqual(written.partition(" into")[0], f"a {MASK}, b {MASK}, c plain")
        request = next(row for row in rows if row["request"] == "r")
        self.assertEqual(
            {name: request["variables"][name] for name in ("first", "loud", "again")},
            dict.fromkeys(("first", "loud", "again"), MASK),
        )
        self.assertNotIn("Qz", told)
        self.assertNotIn("QZ7", told)
