"""Addresses of a part of a run's figures, and what an exchange is called."""

from typing import Any
from urllib.parse import urlencode, urlsplit

from django import template
from django.urls import reverse

from dynamikos.core.reports import KeptExchange, Row

register = template.Library()


@register.simple_tag(takes_context=True)
def closer_address(context: dict[str, Any], row: Row) -> str:
    """Where one row of the table is looked at closer, in the window that is shown."""
    place = reverse("run-closer", args=[context["member"].project_id, context["run"].pk])
    query = {
        "from": context["from_s"], "to": context["to_s"], "journey": row.journey, "step": row.step,
        "request": row.request, "of": context["row_chosen"],
    }  # fmt: skip
    return f"{place}?{urlencode(query)}"


@register.filter
def told(exchange: KeptExchange) -> str:
    """In a line of a log: the request, the path of a resource, or what else was done."""
    if exchange.item:
        return f"{exchange.item}: {exchange.step}"
    return urlsplit(exchange.url).path if exchange.resource else exchange.request
