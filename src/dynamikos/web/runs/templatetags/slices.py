"""Addresses of a part of a run's figures, and what an exchange is called."""

from typing import Any
from urllib.parse import urlencode, urlsplit

from django import template
from django.urls import reverse
from django.utils.safestring import SafeString

from dynamikos.core.comparison import Difference
from dynamikos.core.frozen import Series
from dynamikos.core.reports import KeptExchange, Row
from dynamikos.web.ui.templatetags.parts import pin

register = template.Library()

SLICE = {
    "outcome": "outcome",
    "generator": "generator_chosen",
}  # besides the row: what a pin calls it, and a page


@register.simple_tag(takes_context=True)
def closer_address(context: dict[str, Any], row: Row) -> str:
    """Where one row of the table is looked at closer, in the window that is shown."""
    place = reverse("run-closer", args=[context["member"].project_id, context["run"].pk])
    query = {
        "from": context["from_s"], "to": context["to_s"], "journey": row.journey, "step": row.step,
        "request": row.request, "of": context["row_chosen"],
    }  # fmt: skip
    return f"{place}?{urlencode(query)}"


@register.simple_tag(takes_context=True)
def pin_of(context: dict[str, Any], what: str, of: Row | Series, measure: str = "") -> SafeString:
    """Pins something of a step or request, in the window and the slice that are shown; `measure` is
    a suspect's.
    """
    given: dict[str, object] = {
        "run": context["run"].pk,
        "from": context["from_s"],
        "to": context["to_s"],
        "row": context.get("row_chosen", "") or of.row,
        "journey": of.journey,
        "step": of.step,
        "request": of.request,
    }
    if what == "step":
        given |= {name: context[from_] for name, from_ in SLICE.items() if context.get(from_)}
    if measure:
        given["measure"] = measure
    return pin(context, what, measure or of.name, **given)


@register.simple_tag(takes_context=True)
def pin_table(
    context: dict[str, Any], what: str = "steps", title: str = "the table of steps"
) -> SafeString:
    """Pins a table of the run, in the window and the slice that are shown."""
    given = {
        "run": context["run"].pk,
        "from": context["from_s"],
        "to": context["to_s"],
        "row": context["row_chosen"],
        **{name: context[from_] for name, from_ in SLICE.items()},
    }
    return pin(context, what, title, **given)


@register.simple_tag(takes_context=True)
def pin_difference(context: dict[str, Any], each: Difference) -> SafeString:
    """Pins one line of a comparison."""
    _, journey, step, request = each.wanted.key
    given = {"journey": journey, "step": step, "request": request, "measure": each.wanted.measure}
    return pin(context, "difference", each.name, query=context["pinned"], **given)


@register.filter
def exchange_title(exchange: KeptExchange) -> str:
    """In a line of a log: the request, the path of a resource, or what else was done."""
    if exchange.item:
        return f"{exchange.item}: {exchange.step}"
    return urlsplit(exchange.url).path if exchange.resource else exchange.request
