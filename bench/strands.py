"""The search for strands on a generated recording: 500 exchanges with answers of 200 kB and 3,000 sites, in a process
of its own.
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


def recording(seed: int):  # type: ignore[no-untyped-def]
    """Half HTML, half JSON; each request sends a token issued before, an id from a list, and constants."""
    from dynamikos.core.exchanges import Answer, Exchange, Sent

    draw = random.Random(seed)
    filler = ["".join(draw.choices("abcdefghijklmnopqrstuvwxyz     ", k=900)) for _ in range(60)]
    token, ids, made = "first", ["7000001"], []
    for number in range(EXCHANGES):
        following = hashlib.sha256(f"{seed}/{number}".encode()).hexdigest()[:24]
        fresh = [str(draw.randint(10**6, 10**7)) for _ in range(3)]
        if number % 2:
            rows = [{"id": draw.randint(10**6, 10**7), "text": draw.choice(filler)} for _ in range(BODY // 960)]
            body = json.dumps({"next_token": following, "chosen": [int(each) for each in fresh], "rows": rows}).encode()
            kind = "application/json"
        else:
            rows_text = "".join(
                f'<tr id="r{draw.randint(10**6, 10**7)}"><td>{draw.choice(filler)}</td></tr>'
                for _ in range(BODY // 940)
            )
            marks = "".join(f'<input type="hidden" name="chosen{n}" value="{each}">' for n, each in enumerate(fresh))
            body = (
                '<html><body><form><input type="hidden" name="next_token"'
                f' value="{following}">{marks}</form><table>{rows_text}</table></body></html>'.encode()
            )
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
                answer=Answer(status=200, headers=(("Content-Type", kind),), body=body, size_bytes=len(body)),
                started_us=1_790_000_000_000_000 + number * 400_000,
                entry=number,
            )
        )
        token, ids = following, fresh
    return made


def child() -> None:
    from dynamikos.core.correlation import find_strands
    from dynamikos.core.correlation.sites import sites_of

    first, second = recording(1), recording(2)
    base = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    begun = time.process_time()
    plain = sum(each.answer.body.count(b"next_token") for each in first)
    yardstick = time.process_time() - begun
    begun, wall = time.process_time(), time.perf_counter()
    told: list[float] = []
    found = find_strands([first, second] if sys.argv[-1] == "two" else [first], progress=told.append)
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
            (f"{name}: {EXCHANGES} exchanges of {BODY // 1000} kB, {sites:.0f} sites", used, "s", "≤ 5", used <= 5),
            (f"{name}: peak memory of the process, recordings included", top, "MB", "≤ 500", top <= 500),
            (f"{name}: memory the search adds", added, "MB", "", True),
            (f"{name}: found and proven (998 are planted and more)", proven, "", "≥ 998", proven >= 998),
            (f"{name}: times progress was told", told, "", "≥ 50", told >= 50),
            (f"{name}: yardstick, counting one text in all answers", yardstick * 1000, "ms", "", True),
        ]
    return results


if __name__ == "__main__":
    child()
