"""What rows of two fields mean, wherever they stand in the panel."""

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError


def pairs(data: QueryDict, name: str) -> tuple[tuple[str, str], ...]:
    """Rows with a name; the empty row at the end is not one. Raises DynamikosError for a value
    without a name.
    """
    rows = list(zip(data.getlist(f"{name}-name"), data.getlist(f"{name}-value"), strict=False))
    for number, (given, value) in enumerate(rows, 1):
        if value.strip() and not given.strip():
            raise DynamikosError(
                f"{name}, row {number}: “{value[:40]}” has no name yet. Write one, or clear the "
                "value too."
            )
    return tuple((given, value) for given, value in rows if given.strip())
