"""The port of an address."""

from urllib.parse import SplitResult


def port_of(parts: SplitResult, default: int | None = None) -> int:
    """That which is written, or the scheme's own (443 for https, else 80) or `default`. A written 0
    stays one: it is nobody's port, and taking the usual one for it would send elsewhere than the
    address says. Raises ValueError for one beyond 65535.
    """
    if parts.port is not None:
        return parts.port
    return default if default is not None else 443 if parts.scheme == "https" else 80
