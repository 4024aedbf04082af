"""The search for strands on a generated recording: 500 exchanges with answers of 200 kB and 3,000
sites, in a process of its own.
"""

import hashlib
import json
import random
import resource
import subprocess
import sys
import time

Result = tuple[str, float, str, str, bool]
EXCHANGES, BODY, FIELDS = 500, 200_000, 6
SCRIPTS, SCRIPT_BYTES, SHORT_IDS = 40, 500_000, 200


def recording(seed: int):  # type: ignore[no-untyped-def]
    """Half HTML, half JSON; each request sends a token issued before, an id from a list, and
    constants.
    """
    from dynamikos.core.exchanges import Answer, Exchange, Sent

    draw = random.Random(seed)
    filler = ["".join(draw.choices("abcdefghijklmnopqrstuvwxyz     ", k=900)) for _ in range(60)]
    token, ids, made = "first", ["7000001"], []
    for number in range(EXCHANGES):
        following = hashlib.sha256(f"{seed}/{number}".encode()).hexdigest()[:24]
        fresh = [str(draw.randint(10**6, 10**7)) for _ in range(3)]
        if number % 2:
            rows = [
                {"id": draw.randint(10**6, 10**7), "text": draw.choice(filler)}
                for _ in range(BODY // 960)
            ]
            body = json.dumps(
                {"next_token": following, "chosen": [int(each) for each in fresh], "rows": rows}
            ).encode()
            kind = "application/json"
        else:
            rows_text = "".join(
                f'<tr id="r{draw.randint(10**6, 10**7)}"><td>{draw.choice(filler)}</td></tr>'
                for _ in range(BODY // 940)
            )
            marks = "".join(
                f'<input type="hidden" name="chosen{n}" value="{each}">'
                for n, each in enumerate(fresh)
            )
            body = (
                '<html><body><form><input type="hidden" name="next_token"'
                f' value="{following}">{marks}</form><table>{rows_text}</table>'
                "</body></html>"
            ).encode()
            kind = "text/html"
        fields = {
            "token": token,
            "chosen": ids[0],
            "colour": "blue",
            "size": str(number % 7),
            "word": f"w{seed}x{number}",
        }
        made.append(
            Exchange(
                sent=Sent(
                    method="POST",
                    url=f"http://mill.example/page{number % 50}/{number}",
                    headers=(("Content-Type", "application/json"),),
                    body=json.dumps(fields).encode(),
                ),
                answer=Answer(
                    status=200, headers=(("Content-Type", kind),), body=body, size_bytes=len(body)
                ),
                started_us=1_790_000_000_000_000 + number * 400_000,
                entry=number,
            )
        )
        token, ids = following, fresh
    return made


def with_scripts(seed: int):  # type: ignore[no-untyped-def]
    """Forty scripts of half a megabyte, full of digits and the same in both recordings, before two
    hundred things that are made and get short ids of their own: each is opened and changed by its
    id.
    """
    from dynamikos.core.exchanges import Answer, Exchange, Sent

    same, draw = random.Random(7), random.Random(seed)
    made: list[Exchange] = []

    def add(
        method: str,
        path: str,
        body: bytes = b"",
        kind: str = "text/html",
        status: int = 200,
        **headers: str,
    ):  # type: ignore[no-untyped-def]
        sent = body if method == "POST" else b""
        answer = b"" if method == "POST" else body
        made.append(
            Exchange(
                sent=Sent(
                    method=method,
                    url=f"http://mill.example{path}",
                    headers=(("Content-Type", "application/x-www-form-urlencoded"),)
                    if sent
                    else (),
                    body=sent,
                ),
                answer=Answer(
                    status=status,
                    headers=(("Content-Type", kind), *headers.items()),
                    body=answer,
                    size_bytes=len(answer),
                ),
                started_us=1_790_000_000_000_000 + len(made) * 300_000,
                entry=len(made),
            )
        )

    for number in range(SCRIPTS):
        numbers = ",".join(
            f'"{same.randint(1, 9999)}":{same.randint(1, 9999)}' for _ in range(SCRIPT_BYTES // 12)
        )
        add(
            "GET",
            f"/static/{number}.js",
            f"var t{number}={{{numbers}}};".encode(),
            "text/javascript",
        )
    own = 100 + seed * 417  # each recording begins where the one before had ended
    for number in range(SHORT_IDS):
        own += draw.randint(1, 3)
        add("POST", "/things/new", b"name=thing", status=302, Location=f"/things/{own}/edit")
        rows = "".join(f"<tr><td>{draw.randint(1, 9999)}</td></tr>" for _ in range(60))
        add(
            "GET",
            f"/things/{own}/edit",
            f"<form action='/things/{own}/edit'>{rows}</form>".encode(),
        )
        add("POST", f"/things/{own}/edit", b"name=lamp&place=" + str(number % 5).encode())
    return made


def child() -> None:
    from dynamikos.core.correlation import find_strands
    from dynamikos.core.correlation.sites import sites_of

    made = with_scripts if sys.argv[-1] == "scripts" else recording
    first, second = made(1), made(2)
    base = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    begun = time.process_time()
    plain = sum(each.answer.body.count(b"next_token") for each in first)
    yardstick = time.process_time() - begun
    begun, wall = time.process_time(), time.perf_counter()
    told: list[float] = []
    found = find_strands(
        [first] if sys.argv[-1] == "one" else [first, second], progress=told.append
    )
    used = time.process_time() - begun
    proven = sum(each.proven for each in found)
    sites = sum(len(sites_of(each, 0)) for each in first)
    top = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    print(
        json.dumps(
            [
                used,
                time.perf_counter() - wall,
                top / 1024,
                (top - base) / 1024,
                proven,
                sites,
                len(told),
                yardstick,
                plain,
            ]
        )
    )


def run() -> list[Result]:
    results: list[Result] = []
    for how, name in (("one", "one recording"), ("two", "two recordings")):
        out = subprocess.run(
            [sys.executable, "-m", "bench.strands", how], capture_output=True, text=True, check=True
        ).stdout
        used, _, top, added, proven, sites, told, yardstick, _ = json.loads(out)
        results += [
            (
                f"{name}: {EXCHANGES} exchanges of {BODY // 1000} kB, {sites:.0f} sites",
                used,
                "s",
                "≤ 5",
                used <= 5,
            ),
            (
                f"{name}: peak memory of the process, recordings included",
                top,
                "MB",
                "≤ 500",
                top <= 500,
            ),
            (f"{name}: memory the search adds", added, "MB", "", True),
            (
                f"{name}: found and proven (998 are planted and more)",
                proven,
                "",
                "≥ 998",
                proven >= 998,
            ),
            (f"{name}: times progress was told", told, "", "≥ 50", told >= 50),
            (
                f"{name}: yardstick, counting one text in all answers",
                yardstick * 1000,
                "ms",
                "",
                True,
            ),
        ]
    out = subprocess.run(
        [sys.executable, "-m", "bench.strands", "scripts"],
        capture_output=True,
        text=True,
        check=True,
    )
    used, _, top, _, proven, *_ = json.loads(out.stdout)
    what = (
        f"{SCRIPTS * SCRIPT_BYTES // 1_000_000} MB of scripts and {SHORT_IDS} short ids, two "
        "recordings"
    )
    results += [
        (what, used, "s", "≤ 10", used <= 10),
        (f"{what}: found and proven", proven, "", f"≥ {SHORT_IDS}", proven >= SHORT_IDS),
        (f"{what}: peak memory of the process, recordings included", top, "MB", "", True),
    ]
    return results


if __name__ == "__main__":
    child()
