"""Headers, and who a request says it comes from."""

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Authorization, Client, Login
from dynamikos.core.journeys.headers import header_problem
from dynamikos.web.journeys.forms.rows import pairs

PROOFS = ("basic", "digest", "bearer", "client")


def headers_from(data: QueryDict, name: str) -> tuple[tuple[str, str], ...]:
    """Header rows. Raises DynamikosError for what makes no valid request."""
    found = pairs(data, name)
    for header, value in found:
        if problem := header_problem(header.strip(), value):
            raise DynamikosError(f"Header: {problem}.")
    return tuple((header.strip(), value) for header, value in found)


def authorization_from(data: QueryDict) -> Authorization | None:
    """None: nothing of its own. What is still empty is said by `verify`."""
    kind = data.get("auth-kind", "")

    def field(name: str) -> str:
        return data.get(f"auth-{name}", "").strip()

    if kind in ("basic", "digest"):
        return Authorization(**{kind: Login(user=field("user"), password=field("password"))})  # type: ignore[arg-type]
    if kind == "bearer":
        return Authorization(bearer=field("token"))
    if kind == "client":
        return Authorization(
            client=Client(
                address=field("address"),
                id=field("id"),
                secret=field("secret"),
                scope=field("scope"),
                form=bool(data.get("auth-form")),
            )
        )
    return Authorization(none=True) if kind == "none" else None
