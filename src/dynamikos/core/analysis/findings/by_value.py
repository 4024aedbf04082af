"""Failures that share a value which passed exchanges don't: by kept exchanges."""

from collections import Counter
from collections.abc import Iterator

from dynamikos.core.analysis.evidence import Evidence, Found


def by_value(evidence: Evidence) -> Iterator[Found]:
    """Failures that share a value which passed exchanges don't: by kept exchanges."""
    kept = [each for each in evidence.kept if not each.item and not each.resource]
    requests = dict.fromkeys((each.step, each.request) for each in kept)
    for step, request in requests:
        here = [each for each in kept if (each.step, each.request) == (step, request)]
        kinds = Counter(each.reason for each in here if each.reason.startswith("failed"))
        for kind, n in kinds.items():
            failed = [each for each in here if each.reason == kind]
            passed = [each for each in here if not each.reason.startswith("failed")]
            if n < 5:
                continue
            names = {name for each in failed for name in {**each.before, **each.variables}}
            for name in sorted(names):
                values = [{**each.variables, **each.before}.get(name, "") for each in failed]
                value, count = Counter(values).most_common(1)[0]
                if not value or count < 0.8 * n or len(value) > 200 or "•" in value:
                    continue
                others = [{**each.variables, **each.before}.get(name, "") for each in passed]
                known = [each for each in others if each]
                if len(known) < 5 or len(set(known)) < 3 or sum(each == value for each in known) > 0.3 * len(known):
                    continue
                yield Found(
                    rule="failures-by-value",
                    about="target",
                    sentence=f"{request} fails ({kind.removeprefix('failed: ')}) where {name} is “{value}”: {count} of"
                    f" {n} kept failures, {sum(each == value for each in known)} of {len(known)} that passed.",
                    means="It is the value, not the load alone.",
                    try_="Try that value by hand; look at what the server knows of it.",
                    step=step,
                    request=request,
                    evidence={"value": value[:80]},
                )
                break
