"""A million rows × 10 columns: taken in through the product's own way (worker, blocks, PostgreSQL),
paged, a cell edited, found, and streamed to a generator's file; beside a plain csv.reader over the
same bytes in the same run.
"""

import csv
import io
import resource
import statistics
import time

from bench.database import own_database

Result = tuple[str, float, str, str, bool]
ROWS = 1_000_000


def run() -> list[Result]:
    with own_database():
        return _measure()


def _measure() -> list[Result]:
    import msgspec
    from django.db import connection
    from tests.web.support import Sample

    from dynamikos.core.dealing import Form, Rule, raw_rows
    from dynamikos.engine.rows import RowFile
    from dynamikos.web.datasets import actions, queries, tables, uploads
    from dynamikos.web.datasets.models import DataBlock

    sample = Sample()
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([f"column_{n}" for n in range(10)])
    writer.writerows([f"value {n}-{row}" for n in range(10)] for row in range(ROWS))
    data = out.getvalue().encode()
    del out
    begun = time.perf_counter()
    for _ in csv.reader(io.StringIO(data.decode())):
        pass
    plain = time.perf_counter() - begun
    size = len(data)
    begun = time.perf_counter()
    upload = uploads.keep_upload(
        sample.member,
        (data[at : at + (1 << 18)] for at in range(0, size, 1 << 18)),
        "big.csv",
        size,
    )
    made = uploads.take_in(sample.member, upload, msgspec.convert(upload.form, Form))
    imported = time.perf_counter() - begun
    assert made.rows == ROWS
    del data

    def median_ms(work, times: int = 9) -> float:  # type: ignore[no-untyped-def]
        taken = []
        for at in range(times):
            begun = time.perf_counter()
            work(at)
            taken.append(1000 * (time.perf_counter() - begun))
        return statistics.median(taken)

    page = median_ms(lambda at: queries.page(made, 111_111 * at, 50))
    cell = median_ms(
        lambda at: actions.set_cell(
            sample.member, made.pk, 100_000 * at + 7, "column_3", f"new {at}", None
        )
    )
    made.refresh_from_db()
    begun = time.perf_counter()
    found, _ = queries.find(made, "value 9-999999", seconds=60)
    looked = time.perf_counter() - begun
    begun = time.perf_counter()
    tables.count(made, lambda share: None)
    counted = time.perf_counter() - begun
    assert all(
        fact.different == ROWS for at, fact in enumerate(queries.facts(made) or []) if at != 3
    )
    begun = time.perf_counter()
    actions.add_column(sample.member, made.pk, "number", Rule(kind="sequence"))
    column = time.perf_counter() - begun
    made.refresh_from_db()
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    begun = time.perf_counter()
    file = RowFile()
    for sha256 in made.blocks:
        file.add(raw_rows(bytes(DataBlock.objects.get(pk=sha256).body), sha256))
    file.finish()
    streamed = time.perf_counter() - begun
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    begun = time.perf_counter()
    for at in range(0, ROWS, 10):
        file[at * 7919 % ROWS]
    each = (time.perf_counter() - begun) / (ROWS / 10) * 1e6
    file.close()
    connection.close()
    return [
        (
            f"CSV of {size / 1e6:.0f} MB, {ROWS:,} rows × 10 columns, taken in",
            imported,
            "s",
            "≤ 20",
            imported <= 20,
        ),
        ("plain csv.reader over the same bytes", plain, "s", "", True),
        ("taken in / plain csv.reader", imported / plain, "", "≤ 8", imported / plain <= 8),
        ("a page of 50 rows, anywhere", page, "ms", "", True),
        ("a cell edited", cell, "ms", "", True),
        ("a column made, in a worker", column, "s", "", True),
        ("what all columns hold counted, in a worker", counted, "s", "", True),
        (f"found in the last of all rows ({len(found)})", looked, "s", "", True),
        ("streamed to a generator's file", streamed, "s", "", True),
        ("memory it took more", more, "MB", "≤ 100", more <= 100),
        ("a row read from that file, at random", each, "µs", "", True),
    ]
