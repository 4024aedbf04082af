"""The probes of a plan as its page sends them. What can't be read raises DynamikosError naming the
field.
"""

import re
from typing import NamedTuple

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.plans import Plan
from dynamikos.core.probes import Host, Probe
from dynamikos.web.ui.numbers import number

KINDS = (
    ("", "no probe"),
    ("openmetrics", "an address"),
    ("host", "this machine"),
    ("browser", "a browser"),
)
CALLED = {"openmetrics": "target", "host": "machine", "browser": "browser"}
USUAL_S = {"openmetrics": "1", "host": "1", "browser": "15"}
PAGES = re.compile(r"[\s,]+(?=http|\{\{)")  # between pages, whose own names may have spaces in them


def probes_from(data: QueryDict, before: Plan) -> tuple[Probe, ...]:
    """In the order of their rows; a row without a kind is taken away."""
    columns = [
        data.getlist(f"probe-{name}")
        for name in ("key", "kind", "address", "every", "measures", "name")
    ]
    lines = data.getlist("probe-headers")
    if not lines:  # a page of an earlier day
        known = {each.probe: each.header_lines for each in before.probes}
        lines = [known.get(key, "") for key in columns[0]]
    taken: set[str] = {key for key in columns[0] if key}
    made = []
    for place, texts in enumerate(zip(*columns, lines, strict=False), 1):
        probe = _probe(_Row(place, *texts), taken, before)
        if probe is not None:
            taken.add(probe.probe)
            made.append(probe)
    return tuple(made)


class _Row(NamedTuple):
    """What was typed into a row, the `place`-th from 1."""

    place: int
    key: str
    kind: str
    address: str
    every: str
    measures: str
    name: str
    headers: str


def _probe(row: _Row, taken: set[str], before: Plan) -> Probe | None:
    """None for a row that says nothing. Raises DynamikosError."""
    kind, address = _kind(row), row.address.strip()
    if not kind:
        return None
    pages = tuple(each for each in PAGES.split(address) if each) if kind == "browser" else ()
    if kind == "openmetrics" and not address:
        raise DynamikosError(
            f"Probe {row.place} needs the address of its measures, such as "
            "{{ env.site }}/metrics."
        )
    if kind == "browser" and not pages:
        raise DynamikosError(
            f"Probe {row.place} needs the pages that its browser opens, such as "
            "{{ env.site }}/."
        )
    title = row.name.strip()[:80]
    called = row.key or key_from(title or CALLED[kind], taken)
    has_address = kind == "openmetrics"
    every_s = number(
        row.every or USUAL_S[kind], f"Probe {row.place}: read every, s", 1, 3600 if pages else 60
    )
    return Probe(
        probe=called,
        name=title,
        openmetrics=address if has_address else "",
        host=_host_before(called, before) if kind == "host" else None,
        browser=pages,
        headers=_headers(row.headers, row.place) if has_address else (),
        every_s=every_s,
        measures=tuple(each.strip() for each in row.measures.split(",") if each.strip()),
    )


def _kind(row: _Row) -> str:
    """An address without a kind is most often one of measures."""
    if row.kind not in dict(KINDS):
        raise DynamikosError(
            f"Probe {row.place}: “{row.kind}” is no kind of probe; choose one of those on the page."
        )
    return row.kind or ("openmetrics" if row.address.strip() else "")


def _host_before(key: str, before: Plan) -> Host:
    """What a probe of that key looked at: the page does not show it."""
    had = (each.host for each in before.probes if each.probe == key and each.host is not None)
    return next(had, Host())


def _headers(typed: str, place: int) -> tuple[tuple[str, str], ...]:
    """One a line, as `Name: value`."""
    made = []
    for line in typed.splitlines():
        name, colon, value = line.partition(":")
        if not line.strip():
            continue
        if not colon or not name.strip():
            raise DynamikosError(
                f"Probe {place}: “{line.strip()[:60]}” is no header; write one a line as Name: "
                "value."
            )
        made.append((name.strip(), value.strip()))
    return tuple(made)
