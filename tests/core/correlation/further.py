"""Further made-up recordings, harder ones: other hosts, other encodings, other orders."""

import base64
import html
import json
from collections.abc import Callable
from urllib.parse import quote

from tests.core.correlation.recordings import Tape


def rest_api(t: Tape) -> None:
    """An application whose calls go to a host of another name: token and location in headers,
    a version for If-Match.
    """
    t.call("GET", "/", page="<div id=app></div>")
    tok = t.must(t.hex(30))
    t.call(
        "POST",
        "http://api.backend.example/session",
        body={"user": "ada", "pw": "x"},
        headers={"X-Auth-Token": tok},
        gives={"ok": True, "user": {"name": "Ada"}},
    )
    ver = t.must('"' + t.hex(8) + '"')
    oid = t.must(t.number(1000, 99999))
    t.call(
        "POST",
        "http://api.backend.example/orders",
        sent={"X-Auth-Token": tok},
        body={"sku": "lamp", "n": 2},
        status=201,
        headers={"Location": f"/orders/{oid}", "ETag": ver},
        gives={"state": "new"},
    )
    t.call(
        "PATCH",
        f"http://api.backend.example/orders/{oid}",
        sent={"X-Auth-Token": tok, "If-Match": ver},
        body={"n": 3},
        gives={"state": "open", "n": 3},
    )


def pkce(t: Tape) -> None:
    """Sign-in by redirects with a verifier and state of the client's own, then tokens that are
    renewed.
    """
    ver = t.hex(43)
    st = t.hex(20)
    code = t.must(t.hex(24))
    t.call(
        "GET",
        f"/authorize?state={st}&code_challenge={t.hex(43)}",
        status=302,
        headers={"Location": f"/cb?code={code}&state={st}"},
    )
    t.call("GET", f"/cb?code={code}&state={st}", page="<p>in</p>")
    at = t.must(t.hex(40))
    rt = t.must(t.hex(40))
    t.call(
        "POST",
        "/token",
        form={"code": code, "code_verifier": ver, "grant_type": "authorization_code"},
        gives={"access_token": at, "refresh_token": rt, "expires_in": 300},
    )
    at2 = t.must(t.hex(40))
    t.call("GET", "/me", sent={"Authorization": "Bearer " + at}, gives={"id": 7})
    t.call(
        "POST",
        "/token",
        form={"grant_type": "refresh_token", "refresh_token": rt},
        gives={"access_token": at2, "expires_in": 300},
    )
    t.call("GET", "/me", sent={"Authorization": "Bearer " + at2}, gives={"id": 7})


def soap(t: Tape) -> None:
    """Envelopes of XML."""
    sid = t.must(t.hex(24))
    kid = t.must(t.number(20000, 90000))
    t.call(
        "POST",
        "/ws",
        raw=b"<Envelope><Body><login><u>ada</u><p>pw</p></login></Body></Envelope>",
        kind="text/xml",
        page=f"<Envelope><sessionId>{sid}</sessionId><exp>{t.number(1, 9)}</exp></Envelope>",
    )
    t.call(
        "POST",
        "/ws",
        raw=f"<Envelope><Head><sid>{sid}</sid></Head><Body><list "
        "max='10'/></Body></Envelope>".encode(),
        kind="text/xml",
        page=f"<Envelope><item id='{t.number(20000, 90000)}'>a</item><item "
        f"id='{kid}'>kiln</item></Envelope>",
    )
    t.call(
        "POST",
        "/ws",
        raw=f"<Envelope><Head><sid>{sid}</sid></Head><Body><fire "
        f"id='{kid}'/></Body></Envelope>".encode(),
        kind="text/xml",
        page="<Envelope>ok</Envelope>",
    )


def entities(t: Tape) -> None:
    """A hidden value written letter by letter in character references."""
    v = t.must(t.hex(10) + "+/" + t.hex(6) + "==")
    w = t.must(t.hex(6) + "&" + t.hex(6))
    enc = "".join(f"&#{ord(c)};" if not c.isalnum() else c for c in v)
    t.call(
        "GET",
        "/f",
        page=(
            f"<form><input type=hidden name=tk value='{enc}'><input type=hidden name=w "
            f"value='{html.escape(w)}'></form>"
        ),
    )
    t.call("POST", "/f", form={"tk": v, "w": w, "city": "Leeds"}, page="<p>done</p>")


def matrix_parameters(t: Tape) -> None:
    """A session in the parameters of path segments."""
    s = t.must(t.hex(16).upper())
    x = t.must(t.number(100, 999))
    t.call("GET", "/", page=f'<a href="/list;sid={s}?p=1">List</a>')
    t.call("GET", f"/list;sid={s}?p=1", page=f'<ul><li><a href="/items/{x};sid={s}">it</a></ul>')
    t.call("GET", f"/items/{x};sid={s}", page="<h1>it</h1>")


def xsrf(t: Tape) -> None:
    """A cookie's value, percent-encoded there, sent decoded in a header."""
    c = t.must(t.hex(10) + "/" + t.hex(10) + "=")
    t.call("GET", "/", page="<p>hi</p>", cookies={"XSRF-TOKEN": quote(c, safe=""), "sid": t.hex()})
    t.call(
        "POST",
        "/x",
        sent={"X-XSRF-TOKEN": c, "Cookie": f"XSRF-TOKEN={quote(c, safe='')}"},
        body={"a": 1, "qty": t.draw.randint(1, 9)},
        gives={"ok": True, "left": t.draw.randint(1, 9)},
    )
    t.call(
        "POST",
        "/x",
        sent={"X-XSRF-TOKEN": c},
        body={"a": 2, "qty": t.draw.randint(1, 9)},
        gives={"ok": True},
    )


def words_first(t: Tape) -> None:
    """A shop with a beacon of the client's own numbers, typed words and a picked product."""
    # typed search term, client chooses list entry by name; client random ids; beacon
    cid = f"{t.number(10**8, 10**9)}.{t.number(10**9, 2 * 10**9)}"
    term = t.draw.choice(["lamp", "chair", "desk", "sofa", "stool"])
    t.call(
        "GET",
        "/",
        page=(
            "<form><input name=q></form><a href='/c/lamp'>lamp</a><a href='/c/chair'>chair</a><a"
            " href='/c/desk'>desk</a>"
        ),
    )
    t.call("GET", f"/collect?cid={cid}&t=pageview&z={t.number(10**8, 10**9)}")
    ids = [t.number(10000, 99999) for _ in range(4)]
    t.call(
        "GET",
        f"/search?q={term}",
        gives={
            "q": term,
            "hits": [{"pid": int(i), "name": f"{term} {n}"} for n, i in enumerate(ids)],
        },
    )
    pick = t.must(ids[t.draw.randint(0, 3)])
    t.call("GET", f"/collect?cid={cid}&t=event&z={t.number(10**8, 10**9)}")
    t.call(
        "POST",
        "/cart",
        body={"pid": int(pick), "qty": t.draw.randint(1, 3), "rid": t.uuid()},
        gives={
            "cart": {"id": (cart := t.must(t.hex(12))), "items": 1, "total": t.draw.randint(10, 99)}
        },
    )
    t.call(
        "POST",
        f"/cart/{cart}/checkout",
        form={
            "email": "ada@k.example",
            "coupon": "",
            "ship_day": "2026-12-0" + str(t.draw.randint(1, 9)),
        },
        page="<p>Thanks</p>",
    )


def jsescape(t: Tape) -> None:
    """Values in scripts, escaped twice."""
    v = t.must(t.hex(8) + "-" + t.hex(8) + "==")
    u = t.must(t.hex(14))
    t.call(
        "GET",
        "/",
        page=(
            f'<script>var c="{{\\x22k\\x22:\\x22{v.replace("=", chr(92) + "u003d")}\\x22}}"; var '
            f"d = {{'conf':"
            f' {{ticket:"{u}"}}}};</script>'
        ),
    )
    t.call("GET", f"/go?k={quote(v, safe='')}&ticket={u}", gives={"ok": 1})


def parallel(t: Tape) -> None:
    """Calls that run at the same time and come in another order each time."""
    a, b = t.must(t.hex(12)), t.must(t.hex(12))
    calls = [("/api/one", {"one_key": a}), ("/api/two", {"two_key": b}), ("/api/three", {"x": 1})]
    t.draw.shuffle(calls)
    for p, g in calls:
        t.call("GET", p, gives=g)
    t.call("POST", "/api/do", body={"first": a, "second": b, "when": t.now_ms()}, gives={"ok": 1})


def jwtsub(t: Tape) -> None:
    """A signed token and an id from the answer that brought it."""
    sub = t.must("u-" + t.hex(9))
    tok = (
        "eyJhbGciOiJub25lIn0."
        + base64.urlsafe_b64encode(json.dumps({"sub": sub, "n": 1}).encode()).decode().rstrip("=")
        + ".c2ln"
    )
    t.must(tok)
    t.call(
        "POST", "/login", body={"u": "a", "p": "b"}, gives={"token": tok, "profile": {"uid": sub}}
    )
    t.call(
        "GET", f"/users/{sub}/things", sent={"Authorization": "Bearer " + tok}, gives={"things": []}
    )


def longer_texts(t: Tape) -> None:
    """Envelopes whose optional parts are there in one recording and not in the other."""
    sid, kid = t.must(t.hex(24)), t.must(t.number(20000, 90000))
    t.call(
        "POST",
        "/ws",
        raw=b"<e><login><u>ada</u></login></e>",
        kind="text/xml",
        page=f"<e><session>{sid}</session></e>",
    )
    extra = "<trace>on</trace><lang>en</lang>" if t.seed % 2 else ""
    t.call(
        "POST",
        "/ws",
        raw=f"<e><sid>{sid}</sid>{extra}<list/></e>".encode(),
        kind="text/xml",
        page=f"<e><kiln number='{kid}'/></e>",
    )
    t.call(
        "POST",
        "/ws",
        raw=f"<e>{extra}<sid>{sid}</sid><fire kiln='{kid}'/></e>".encode(),
        kind="text/xml",
        page="<e>ok</e>",
    )


FURTHER: dict[str, Callable[[Tape], None]] = {
    each.__name__: each
    for each in (
        rest_api,
        pkce,
        soap,
        entities,
        matrix_parameters,
        xsrf,
        words_first,
        jsescape,
        parallel,
        jwtsub,
        longer_texts,
    )
}
