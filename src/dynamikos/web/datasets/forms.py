"""What the pages of data sets send, as core values."""

from django.http import QueryDict

from dynamikos.core.dealing import ColumnRule, Deal, Form
from dynamikos.core.dealing.reading import DELIMITERS, ENCODINGS, QUOTES
from dynamikos.core.errors import DynamikosError
from dynamikos.web.ui import numbers

WHOSE = {
    "pile": "Deal everyone from one pile",
    "slice": "Give each user a slice of its own",
    "whole": "Give everyone the whole table",
}
ORDER = {"in order": "in order", "shuffled": "shuffled once", "at random": "at random"}
WHEN = {
    "round": "a new row each round",
    "use": "a new row each use",
    "user": "one row per user",
    "run": "one row for the whole run",
}
THEN = {
    "start over": "start over",
    "stay": "stay on the last",
    "leave": "the user leaves",
    "stop": "the run stops",
}
KINDS = ("sequence", "pattern", "number", "date", "choice", "name", "uuid")


def form_from(data: QueryDict) -> Form:
    delimiter = {"tab": "\t"}.get(data.get("delimiter", ","), data.get("delimiter", ","))
    return Form(
        kind="json lines" if data.get("kind") == "json lines" else "separated",
        encoding=data.get("encoding", "utf-8"),
        delimiter=delimiter if delimiter in DELIMITERS else ",",
        quote=data.get("quote", '"') if data.get("quote", '"') in QUOTES else '"',
        header=data.get("header", "yes") == "yes",
    )


def form_context(form: Form) -> dict[str, object]:
    return {
        "form": form,
        "encodings": ENCODINGS,
        "delimiters": [
            ("tab" if sign == "\t" else sign, name) for sign, name in DELIMITERS.items()
        ],
        "delimiter": "tab" if form.delimiter == "\t" else form.delimiter,
        "quotes": list(QUOTES.items()),
    }


def deal_from(data: QueryDict) -> Deal:
    """Raises DynamikosError for a word that is none of the sentence's."""
    for name, words in (("whose", WHOSE), ("order", ORDER), ("when", WHEN), ("then", THEN)):
        if data.get(name) not in words:
            raise DynamikosError(
                f"'{data.get(name, '')}' can't stand in this sentence; there are "
                f"{', '.join(words)}."
            )
    return Deal(
        whose=data["whose"],  # type: ignore[arg-type]
        order=data["order"],  # type: ignore[arg-type]
        when=data["when"],  # type: ignore[arg-type]
        then=data["then"],  # type: ignore[arg-type]
        follow=data.get("follow", ""),
        apart=tuple(data.getlist("apart")),
    )


def whole(data: QueryDict, name: str, default: int) -> int:
    text = data.get(name, "").strip()
    return numbers.whole(text, name) if text else default


def decimal(data: QueryDict, name: str, default: float) -> float:
    text = data.get(name, "").strip()
    return numbers.number(text, name) if text else default


def rule_from(data: QueryDict) -> ColumnRule | None:
    """How a new column is made; None for an empty one. Raises DynamikosError."""
    kind = data.get("make", "")
    if kind not in KINDS:
        return None
    return ColumnRule(
        kind=kind,  # type: ignore[arg-type]
        seed=whole(data, "seed", 1),
        start=whole(data, "start", 1),
        step=whole(data, "step", 1),
        width=whole(data, "width", 0),
        pattern=data.get("pattern", ""),
        low=decimal(data, "low", 0),
        high=decimal(data, "high", 100),
        places=whole(data, "places", 0),
        first=data.get("first", "").strip() or "2027-01-01",
        days=whole(data, "days", 365),
        form=data.get("form", "").strip() or "%Y-%m-%d",
        among=tuple(line.strip() for line in data.get("among", "").splitlines() if line.strip()),
    )
