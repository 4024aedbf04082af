"""By a regular expression, in addresses."""

from collections.abc import Iterator

from dynamikos.core.captures.kinds.patterns import pattern_of
from dynamikos.core.captures.view import CaptureKind, Finder, View


def find(text: str) -> Finder:
    """The first group of a regular expression, searched in the request's address and those of its
    redirects.
    """
    pattern = pattern_of(text, 1)

    def all_of(view: View) -> Iterator[str]:
        groups = (
            match.group(1)
            for address in view.addresses
            for match in pattern.finditer(address.encode())
        )
        return (found.decode("utf-8", "replace") for found in groups if found is not None)

    return all_of


KIND = CaptureKind("address", find, str, needs_body=False, reads_addresses=True)
