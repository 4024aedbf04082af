"""Made-up recordings of invented applications, each played twice by a small model of its server,
with what must be found.
"""

import base64
import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass, field
from random import Random
from typing import Any
from urllib.parse import quote, urlencode

from dynamikos.core.exchanges import Answer, Exchange, Sent

BEGUN_US = 1_790_000_000_000_000
HTML, JSON = "text/html; charset=utf-8", "application/json"


@dataclass
class Tape:
    """Collects exchanges; `draw` is what the server and the client draw their values from, other in
    each recording.
    """

    base: str
    seed: int
    exchanges: list[Exchange] = field(default_factory=list)
    issued: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.draw = Random(self.seed)
        self._serial = self.seed * 131

    def hex(self, size: int = 20) -> str:
        return hashlib.sha256(f"{self.seed}/{self.draw.random()}".encode()).hexdigest()[:size]

    def number(self, low: int, high: int) -> str:
        return str(self.draw.randint(low, high))

    def must(self, value: str) -> str:
        """A value of the server that is sent back later: the search must find it."""
        self.issued.append(value)
        return value

    def now_ms(self) -> str:
        return str((BEGUN_US + self.seed * 9_000_000_000 + len(self.exchanges) * 1_500_000) // 1000)

    def uuid(self) -> str:
        h = hashlib.md5(f"u{self.draw.random()}".encode()).hexdigest()
        return f"{h[:8]}-{h[8:12]}-4{h[13:16]}-a{h[17:20]}-{h[20:32]}"

    def call(
        self,
        method: str,
        path: str,
        *,
        form: dict[str, str] | None = None,
        body: Any = None,
        raw: bytes = b"",
        kind: str = "",
        sent: dict[str, str] | None = None,
        status: int = 200,
        page: str | None = None,
        gives: Any = None,
        headers: dict[str, str] | None = None,
        cookies: dict[str, str] | None = None,
    ) -> None:
        out = list((sent or {}).items())
        data = raw
        if form is not None:
            data, kind = urlencode(form).encode(), "application/x-www-form-urlencoded"
        elif body is not None:
            data, kind = json.dumps(body).encode(), JSON
        if kind:
            out.append(("Content-Type", kind))
        back = [("Date", "Tue, 21 Sep 2026 10:00:00 GMT"), *(headers or {}).items()]
        back += [
            ("Set-Cookie", f"{name}={value}; Path=/") for name, value in (cookies or {}).items()
        ]
        content = b""
        if page is not None:
            content = (
                f"<!DOCTYPE html><html><head><title>{path}</title></head><body>{page}</body></html>"
            ).encode()
            back.append(("Content-Type", HTML))
        elif gives is not None:
            content = json.dumps(gives).encode()
            back.append(("Content-Type", JSON))
        url = path if path.startswith("http") else self.base + path
        started = BEGUN_US + self.seed * 9_000_000_000 + len(self.exchanges) * 1_500_000
        answer = Answer(status=status, headers=tuple(back), body=content, size_bytes=len(content))
        self.exchanges.append(
            Exchange(
                sent=Sent(method=method, url=url, headers=tuple(out), body=data),
                answer=answer,
                started_us=started,
                entry=len(self.exchanges),
            )
        )


def form_state(tape: Tape) -> None:
    """A counter of an archive that keeps the state of its forms in hidden fields, anew on every
    page.
    """

    def page(extra: str = "") -> tuple[str, str, str]:
        state, check = (
            base64.b64encode(tape.hex(64).encode() + b"/+" + tape.hex(30).encode()).decode(),
            tape.hex(8).upper(),
        )
        fields = (
            f'<input type="hidden" name="_page_state" id="s1" value="{state}"><input type="hidden" '
            'name="_state_check"'
            f' value="{check}">'
        )
        return (
            state,
            check,
            (
                f'<form method="post" action="/desk">{fields}<input type="hidden" name="lang" '
                f'value="en">{extra}<input'
                ' name="reader"></form>'
            ),
        )

    row = tape.number(10_000, 99_999)
    state, check, html = page()
    tape.call("GET", "/desk", page=html, cookies={"sid": tape.hex()})
    for step, reader in enumerate(("Orla Ashdown", "Orla Ashdown", "Orla Ashdown")):
        tape.must(state)
        tape.must(check)
        if step == 0:
            tape.must(row)
        old = (state, check)
        state, check, html = page(f'<a data-row="{row}" href="#">Open</a>')
        sent = {
            "_page_state": old[0],
            "_state_check": old[1],
            "lang": "en",
            "reader": reader,
            "_event": f"step{step}",
        }
        if step:
            sent["row"] = row
        tape.call("POST", "/desk", form=sent, page=html)


def graph_queries(tape: Tape) -> None:
    """A greenhouse with one address for everything: ids in variables, in the query's own text, a
    cursor.
    """
    token = tape.must(tape.hex(40))
    tape.call(
        "POST",
        "/graph",
        body={
            "operationName": "SignIn",
            "query": "mutation SignIn($n: String!, $p: String!) { signIn(n: $n, p: $p) { token } }",
            "variables": {"n": "wren", "p": "moss-and-fern"},
        },
        gives={"data": {"signIn": {"token": token, "role": "GARDENER"}}},
    )
    auth = {"Authorization": f"Bearer {token}", "X-Client-Version": "4.2.0"}
    beds = [
        {"__typename": "Bed", "id": f"bed:{tape.hex(10)}", "name": name, "free": free}
        for name, free in (("North", False), ("Pond", True), ("South", True))
    ]
    cursor = tape.must(base64.b64encode(f"at:{tape.hex(8)}".encode()).decode())
    tape.call(
        "POST",
        "/graph",
        sent=auth,
        body={
            "operationName": "Beds",
            "query": "query Beds { beds(first: 3) { id name free } }",
            "variables": {},
        },
        gives={
            "data": {
                "beds": {"nodes": beds, "pageInfo": {"endCursor": cursor, "hasNextPage": True}}
            }
        },
    )
    tape.call(
        "POST",
        "/graph",
        sent=auth,
        body={
            "operationName": "Beds",
            "query": "query Beds($a: String) { beds(first: 3, after: $a) { id name free } }",
            "variables": {"a": cursor},
        },
        gives={
            "data": {"beds": {"nodes": [], "pageInfo": {"endCursor": None, "hasNextPage": False}}}
        },
    )
    bed = tape.must(str(beds[1]["id"]))
    planting = tape.must(f"pl-{tape.number(1000, 9999)}-{tape.hex(4)}")
    tape.call(
        "POST",
        "/graph",
        sent={**auth, "X-Request-Id": tape.uuid()},
        body={
            "operationName": "Plant",
            "query": "mutation Plant($b: ID!, $c: Int!) { plant(bed: $b, count: $c) { id } }",
            "variables": {"b": bed, "c": 12},
        },
        gives={"data": {"plant": {"id": planting}}},
    )
    tape.call(
        "POST",
        "/graph",
        sent=auth,
        body={
            "operationName": None,
            "query": f'mutation {{ water(planting: "{planting}", litres: 3) {{ ok }} }}',
        },
        gives={"data": {"water": {"ok": True}}},
    )


def hand_over(tape: Tape) -> None:
    """A ferry's ticket office that lets a harbour office sign people in, by redirects with state
    and code.
    """
    port = "http://harbour.ferries.example"
    state, nonce, code = tape.must(tape.hex(24)), tape.must(tape.hex(16)), tape.must(tape.hex(30))
    back = quote(tape.base + "/back", safe="")
    ask = f"/authorize?response_type=code&client_id=tickets&redirect_uri={back}&state={state}"
    ask += f"&nonce={nonce}"
    tape.call("GET", "/", page='<a href="/enter">Enter</a>')
    tape.call(
        "GET", "/enter", status=302, headers={"Location": port + ask}, cookies={"pre": tape.hex()}
    )
    ticket = tape.must(tape.hex(18))
    tape.call(
        "GET",
        port + ask,
        page=(
            '<form action="/sign" method="post"><input type="hidden" name="login_ticket" '
            f'value="{ticket}"><input'
            ' name="who"><input type="password" name="pw"></form>'
        ),
    )
    tape.call(
        "POST",
        port + "/sign",
        form={"login_ticket": ticket, "who": "isla", "pw": "low-tide-7"},
        status=303,
        headers={"Location": f"{tape.base}/back?code={code}&state={state}"},
    )
    tape.call(
        "GET",
        f"/back?code={code}&state={state}",
        page=f"<script>boot({{page: 'landing', started: {tape.now_ms()}}})</script>",
    )
    access = tape.must(
        "eyJhbGciOiJub25lIn0."
        + base64.urlsafe_b64encode(
            json.dumps({"sub": tape.hex(8), "iat": int(tape.now_ms()) // 1000}).encode()
        )
        .decode()
        .rstrip("=")
        + ".c2ln"
    )
    tape.call(
        "POST",
        "/token",
        form={"grant_type": "authorization_code", "code": code, "client_id": "tickets"},
        gives={"access_token": access, "token_type": "Bearer", "expires_in": 3600},
    )
    crossing = tape.must(tape.number(100_000, 999_999))
    tape.call(
        "GET",
        f"/api/crossings?day=2026-12-24&_={tape.now_ms()}",
        sent={"Authorization": f"Bearer {access}"},
        gives={"crossings": [{"crossing_id": int(crossing), "at": "09:00"}]},
    )
    tape.call(
        "POST",
        f"/api/crossings/{crossing}/seats",
        sent={"Authorization": f"Bearer {access}"},
        body={"seats": 2},
        status=201,
        gives={"ok": True},
    )


def nested_ids(tape: Tape) -> None:
    """A weaver's shop: ids deep in JSON, sent in paths, in a JSON text inside of a query, in an
    ETag-like version header.
    """
    csrf = tape.must(tape.hex(32))
    tape.call(
        "GET",
        "/shop",
        page=(
            '<meta name="request-guard"'
            f' content="{csrf}"><script>window.shop={{"currency":"EUR","pageSize":20}}</script>'
        ),
    )
    looms = [
        {
            "loom": {
                "meta": {"uid": tape.uuid(), "rev": f'W/"{tape.hex(6)}"'},
                "yarns": [
                    {"yarnId": int(tape.number(200, 999)), "colour": c} for c in ("red", "blue")
                ],
            },
            "ready": r,
        }
        for r in (False, True)
    ]
    tape.call(
        "GET",
        "/api/looms?size=20&sort=name",
        gives={"result": {"items": looms, "total": 2}, "took": 12},
    )
    loom = looms[1]["loom"]
    uid, yarn = tape.must(loom["meta"]["uid"]), tape.must(str(loom["yarns"][0]["yarnId"]))
    filters = json.dumps({"yarn": loom["yarns"][0]["yarnId"], "unit": "m"})
    price = tape.must(f"q{tape.number(10_000, 99_999)}")
    tape.call(
        "GET",
        f"/api/looms/{uid}/quote?filter={quote(filters)}",
        headers={"X-Quote-No": price},
        gives={"price": 12.5, "currency": "EUR"},
    )
    order = tape.must(f"{tape.number(1, 9)}/{tape.hex(7)}")
    tape.call(
        "POST",
        f"/api/looms/{uid}/orders",
        sent={"X-Request-Guard": csrf, "X-Idempotency-Key": tape.uuid()},
        body={
            "quote": price,
            "lines": [{"yarn": {"id": int(yarn)}, "metres": 40}],
            "note": "for the winter",
        },
        status=201,
        gives={
            "order": {"number": order, "links": {"self": f"/api/orders/{quote(order, safe='')}"}}
        },
    )
    tape.call("GET", f"/api/orders/{quote(order, safe='')}", gives={"state": "open"})


def wizard(tape: Tape) -> None:
    """A museum's loan in four pages, multipart, each with a step key; a draft's number in the
    action; a script's constant.
    """

    def parts(fields: dict[str, str]) -> tuple[bytes, str]:
        mark = f"----mark{tape.hex(12)}"
        text = "".join(
            f'--{mark}\r\nContent-Disposition: form-data; name="{n}"\r\n\r\n{v}\r\n'
            for n, v in fields.items()
        )
        text += (
            f'--{mark}\r\nContent-Disposition: form-data; name="scan"; '
            'filename="a.png"\r\nContent-Type:'
            f" image/png\r\n\r\n\x89PNG{tape.hex()}\r\n"
        )
        return (text + f"--{mark}--\r\n").encode("latin-1"), f"multipart/form-data; boundary={mark}"

    key = tape.must(tape.hex(16))
    tape.call(
        "GET",
        "/loans/new",
        page=(
            '<form id="loan" method="post" enctype="multipart/form-data" action="/loans"><input '
            'type="hidden"'
            f' name="step_key" value="{key}"><select name="hall"><option '
            'value="3">East</option><option'
            ' value="7">West</option></select><input name="curator"></form>'
        ),
    )
    body, kind = parts({"step_key": key, "hall": "7", "curator": "Gwen Calder", "days": "14"})
    draft = tape.must(tape.number(30_000, 69_999))
    tape.call(
        "POST",
        "/loans",
        raw=body,
        kind=kind,
        status=303,
        headers={"Location": f"/loans/{draft}/pieces"},
    )
    key = tape.must(tape.hex(16))
    upload = tape.must(tape.hex(22))
    tape.call(
        "GET",
        f"/loans/{draft}/pieces",
        page=(
            f'<form action="/loans/{draft}/pieces" method="post"><input type="hidden" '
            'name="step_key"'
            f" value=\"{key}\"></form><script>const loan = {{uploadTicket: '{upload}', maxMb: "
            f"20}};</script>"
        ),
    )
    body, kind = parts({"step_key": key, "ticket": upload, "piece": "urn"})
    confirm = tape.must(tape.hex(10))
    tape.call(
        "POST",
        f"/loans/{draft}/pieces",
        raw=body,
        kind=kind,
        page=(
            '<p>Almost done.</p><a class="finish" '
            f'href="/loans/{draft}/finish?confirm={confirm}&amp;tab=2">Finish</a>'
        ),
    )
    tape.call("GET", f"/loans/{draft}/finish?confirm={confirm}&tab=2", page="<h1>Lent</h1>")


def chance_numbers(tape: Tape) -> None:
    """A bakery with small numeric ids, in answers full of other small numbers."""
    clutter = {
        "page": 1,
        "total": 48,
        "ovens": [{"n": n, "heat": 180 + n, "minutes": 12 + n} for n in range(1, 25)],
    }
    batch, tray = tape.must(tape.number(1001, 9899)), tape.must(tape.number(101, 989))
    tape.call("GET", "/api/status?limit=24&offset=0", gives=clutter)
    batches = [
        {"id": int(tape.number(1001, 9899)), "name": "rye"},
        {"id": int(batch), "name": "oat"},
    ]
    tape.call(
        "GET",
        "/api/batches?limit=24&offset=0",
        gives={"batches": batches, "counts": {"rye": 24, "oat": 12}, "limit": 24},
    )
    tape.call(
        "GET",
        f"/api/batches/{batch}/trays",
        gives={
            "trays": [{"tray_id": int(tray), "loaves": 24}],
            "width": int(tape.number(300, 700)),
        },
    )
    x, y = tape.number(100, 600), tape.number(100, 400)
    tape.call(
        "POST",
        "/api/loaves",
        body={"tray_id": int(tray), "count": 12, "click": {"x": int(x), "y": int(y)}},
        status=201,
        gives={"loaf": {"no": 12, "tray": int(tray)}},
    )
    tape.call(
        "GET",
        f"/api/batches/{batch}?detail=12&t={tape.now_ms()}",
        gives={"id": int(batch), "count": 12},
    )


def polling(tape: Tape) -> None:
    """A print shop: a job started by the client under its own id, polled until done, its result's
    key in a header and in a script.
    """
    mine = tape.uuid()
    tape.call(
        "GET",
        "/studio",
        page=(
            "<script>var cfg ="
            f" JSON.parse('{{\\u0022upload\\u0022:\\u0022{tape.must(tape.hex(18))}\\u0022}}');"
            "</script>"
        ),
    )
    upload = tape.issued[-1]
    ticket = tape.must(tape.hex(14))
    tape.call(
        "PUT",
        f"/jobs/{mine}",
        body={"upload": upload, "pages": 4, "id": mine},
        status=202,
        gives={"id": mine, "ticket": ticket, "state": "queued"},
    )
    for _ in range(tape.draw.randint(1, 4)):
        tape.call(
            "GET",
            f"/jobs/{mine}?ticket={ticket}",
            status=202,
            gives={"id": mine, "state": "working"},
        )
    proof = tape.must(tape.hex(26))
    tape.call(
        "GET",
        f"/jobs/{mine}?ticket={ticket}",
        headers={"Link": f'</prints/{proof}>; rel="result"'},
        gives={"id": mine, "state": "done"},
    )
    tape.call("GET", f"/prints/{proof}", page="<h1>Print</h1>")


SCENES: dict[str, Callable[[Tape], None]] = {
    each.__name__: each
    for each in (form_state, graph_queries, hand_over, nested_ids, wizard, chance_numbers, polling)
}


def played(name: str, seed: int) -> Tape:
    from tests.core.correlation.further import FURTHER

    tape = Tape(
        "http://app.ferries.example"
        if name == "hand_over"
        else f"http://{name.replace('_', '-')}.example",
        seed,
    )
    (SCENES.get(name) or FURTHER[name])(tape)
    return tape
