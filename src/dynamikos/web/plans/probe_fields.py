"""The probes of a plan as its page sends them. What can't be read raises DynamikosError naming the field."""

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import key_from
from dynamikos.core.plans import Plan
from dynamikos.core.probes import Host, Probe
from dynamikos.web.ui.numbers import number

KINDS = (("", "no probe"), ("openmetrics", "an address"), ("host", "this machine"))


def probes_from(data: QueryDict, before: Plan) -> tuple[Probe, ...]:
    """In the order of their rows; a row without a kind is taken away."""
    columns = [data.getlist(f"probe-{name}") for name in ("key", "kind", "address", "every", "measures", "name")]
    taken: set[str] = {key for key in columns[0] if key}
    made = []
    for place, (key, kind, address, every, measures, name) in enumerate(zip(*columns, strict=False), 1):
        if kind not in dict(KINDS):
            raise DynamikosError(f"Probe {place}: “{kind}” is no kind of probe; choose one of those on the page.")
        address = address.strip()
        if not kind and address:
            kind = "openmetrics"
        if not kind:
            continue
        if kind == "openmetrics" and not address:
            raise DynamikosError(
                f"Probe {place} needs the address of its measures, such as {{{{ env.site }}}}/metrics."
            )
        title = name.strip()[:80]
        called = key or key_from(title or ("machine" if kind == "host" else "target"), taken)
        taken.add(called)
        chosen = tuple(each.strip() for each in measures.split(",") if each.strip())
        had = next((each.host for each in before.probes if each.probe == called and each.host is not None), Host())
        made.append(
            Probe(
                probe=called,
                name=title,
                openmetrics=address if kind == "openmetrics" else "",
                host=had if kind == "host" else None,
                every_s=number(every or "1", f"Probe {place}: read every, s", 1, 60),
                measures=chosen,
            )
        )
    return tuple(made)
