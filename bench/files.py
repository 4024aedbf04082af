"""Big files: a 50 MB HAR and a CSV of a million rows, each beside a plain parse of the same bytes
in the same run.
"""

import base64
import csv
import io
import json
import random
import time

import orjson

from dynamikos.core.dealing import read_table
from dynamikos.core.exchanges import hosts_of, read_har
from dynamikos.core.journeys.from_recording import journey_from

Result = tuple[str, float, str, str, bool]


def big_har(megabytes: int = 50) -> bytes:
    draw = random.Random(1)
    entries, size, number = [], 0, 0
    while size < megabytes * 1_000_000:
        binary = number % 4 == 0
        body = (
            draw.randbytes(60_000)
            if binary
            else (f"<html><title>Page {number}</title>" + "night sky and slots " * 4000).encode()
        )
        content = {
            "size": len(body),
            "mimeType": "image/png" if binary else "text/html",
            "text": base64.b64encode(body).decode() if binary else body.decode(),
        }
        if binary:
            content["encoding"] = "base64"
        headers = [{"name": f"X-Header-{n}", "value": "v" * 30} for n in range(12)]
        entries.append(
            {
                "pageref": f"p{number // 10}",
                "startedDateTime": f"2026-11-01T10:{number // 60 % 60:02d}:{number % 60:02d}.000Z",
                "time": 20,
                "request": {
                    "method": "GET",
                    "url": f"http://a.example/x/{number}" + (".png" if binary else ""),
                    "headers": headers,
                },
                "response": {"status": 200, "headers": headers, "content": content},
                "timings": {"send": 0, "wait": 10, "receive": 10},
            }
        )
        size += len(content["text"]) + 1500
        number += 1
    return json.dumps({"log": {"version": "1.2", "entries": entries}}).encode()


def timed(work):  # type: ignore[no-untyped-def]
    begun = time.perf_counter()
    found = work()
    return time.perf_counter() - begun, found


def run() -> list[Result]:
    data = big_har()
    plain, _ = timed(lambda: json.loads(data))
    fast, _ = timed(lambda: orjson.loads(data))
    whole, recording = timed(lambda: read_har(data))
    made, journey = timed(
        lambda: journey_from(recording, "Big", [hosts_of(recording.exchanges)[0].origin])
    )
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([f"column_{n}" for n in range(10)])
    writer.writerows([f"value {n}-{row}" for n in range(10)] for row in range(1_000_000))
    table = out.getvalue().encode()
    plain_csv, _ = timed(lambda: list(csv.reader(io.StringIO(table.decode()))))
    csv_s, read = timed(lambda: read_table(table, "big.csv"))
    return [
        (
            f"HAR of {len(data) / 1e6:.0f} MB, {len(recording.exchanges)} exchanges, read",
            whole,
            "s",
            "≤ 5",
            whole <= 5,
        ),
        ("journey made of it", made, "s", "", bool(journey.rounds)),
        ("plain json.loads of the same file", plain, "s", "", True),
        ("orjson of the same file", fast, "s", "", True),
        ("read / plain json.loads", whole / plain, "", "≤ 5", whole / plain <= 5),
        (
            f"CSV of {len(table) / 1e6:.0f} MB, {len(read.rows):,} rows, read",
            csv_s,
            "s",
            "≤ 20",
            csv_s <= 20,
        ),
        ("read / plain csv.reader", csv_s / plain_csv, "", "≤ 3", csv_s / plain_csv <= 3),
    ]
