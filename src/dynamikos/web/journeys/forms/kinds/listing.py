"""Doing steps for each of a list."""

from django.http import QueryDict

from dynamikos.core.journeys.kinds import Each, Listing
from dynamikos.web.journeys.forms.kinds.base import KindFields
from dynamikos.web.ui.numbers import whole


class ListingFields(KindFields[Listing]):
    """The list, and how one of it is called."""

    template = "journeys/kinds/listing.html"

    @classmethod
    def changes(cls, data: QueryDict, old: Listing) -> dict[str, object]:
        at_most = whole(data.get("at_most", "100"), "at most")
        return {
            "each": Each(
                name=data.get("name-of-one", "").strip(), in_=data.get("in", ""), at_most=at_most
            )
        }
