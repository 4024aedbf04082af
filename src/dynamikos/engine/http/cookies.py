"""A virtual user's cookie jar (RFC 6265): domain, path, secure, expiry."""

import contextlib
import functools
import ipaddress
from email.utils import parsedate_to_datetime
from typing import NamedTuple

from publicsuffixlist import PublicSuffixList

from dynamikos.core.figures import digits


class Cookie(NamedTuple):
    name: str
    value: str
    domain: str
    host_only: bool
    path: str
    secure: bool
    expires: float | None


class _Attributes:
    """What stands after the pair of a Set-Cookie header; an age goes before a date."""

    def __init__(self, attributes: list[str], host: str, path: str, now: float) -> None:
        self.domain, self.host_only, self.secure = host, True, False
        self.path = path[: path.rfind("/")] or "/"
        self.has_path = self._aged = False
        self.expires: float | None = None
        for attribute in attributes:
            key, _, text = attribute.strip().partition("=")
            self._take(key.lower(), text.strip(), now)

    def _take(self, key: str, text: str, now: float) -> None:
        if key == "domain" and text:
            self.domain, self.host_only = text.lstrip(".").lower(), False
        elif key == "path" and text.startswith("/"):
            self.path, self.has_path = text, True
        elif key == "secure":
            self.secure = True
        elif key == "max-age":
            seconds = digits(text.removeprefix("-"))
            if seconds is not None:
                self.expires = now + seconds if seconds and not text.startswith("-") else 0.0
                self._aged = True
        elif key == "expires" and not self._aged:
            with contextlib.suppress(ValueError, TypeError, IndexError, OverflowError):
                self.expires = parsedate_to_datetime(text).timestamp()

    def may_be_set(self, name: str, host: str, *, from_secure: bool) -> bool:
        """By a host: for itself and what it is a part of, unless that is a public suffix (of which
        the suffix itself may, for itself alone: §5.3, step 5); with a prefix as RFC 6265bis §4.1.3
        has it, and a secure one over a secure connection (§5.7).
        """
        domain = self.domain
        if not self.host_only:
            if not domain_matches(host, domain):
                return False
            if is_public_suffix(domain):
                if domain != host:
                    return False
                self.host_only = True
        lower = name.lower()
        must_be_secure = self.secure or lower.startswith(("__secure-", "__host-"))
        if must_be_secure and not (self.secure and from_secure):
            return False
        is_whole = self.host_only and self.path == "/" and self.has_path
        return is_whole or not lower.startswith("__host-")


class CookieJar:
    """Cookies by (domain, path, name). `now` is seconds since the epoch, passed in."""

    __slots__ = ("cookies",)

    def __init__(self) -> None:
        self.cookies: dict[tuple[str, str, str], Cookie] = {}

    def take(
        self, header: str, host: str, path: str, now: float, *, from_secure: bool = True
    ) -> None:
        """Stores one Set-Cookie header's value (§5.2, §5.3); what can't be one is ignored, as the
        RFC says.
        """
        pair, *attributes = header.split(";")
        name, sign, value = pair.partition("=")
        name, value = name.strip(), value.strip()
        if not sign or not name:
            return
        said = _Attributes(attributes, host, path, now)
        if not said.may_be_set(name, host, from_secure=from_secure):
            return
        key = said.domain, said.path, name
        if said.expires is not None and said.expires <= now:
            self.cookies.pop(key, None)
            return
        self.cookies[key] = Cookie(
            name, value, said.domain, said.host_only, said.path, said.secure, said.expires
        )

    def header(self, host: str, path: str, secure: bool, now: float) -> str:
        """The Cookie header's value for a request (§5.4), longest path first; empty when there is
        none.
        """
        if not self.cookies:
            return ""
        found = [
            cookie
            for cookie in self.cookies.values()
            if (cookie.domain == host if cookie.host_only else domain_matches(host, cookie.domain))
            and path_matches(path, cookie.path)
            and (secure or not cookie.secure)
            and (cookie.expires is None or cookie.expires > now)
        ]
        if len(found) > 1:
            found.sort(key=lambda cookie: -len(cookie.path))
        return "; ".join(f"{cookie.name}={cookie.value}" for cookie in found)

    def values(self) -> dict[str, str]:
        return {cookie.name: cookie.value for cookie in self.cookies.values()}


@functools.cache
def suffixes() -> PublicSuffixList:
    """Read before anything is timed: it takes a tenth of a second."""
    return PublicSuffixList()


@functools.lru_cache(maxsize=4096)
def is_public_suffix(domain: str) -> bool:
    """Whether anybody may have a name under `domain`, such as co.uk (the list that browsers use,
    shipped with the application).
    """
    return "." not in domain or bool(suffixes().is_public(domain))


@functools.lru_cache(maxsize=4096)
def keeps_secrets(scheme: str, host: str) -> bool:
    """Whether cookies marked Secure come from there and go there: by TLS, or within this machine,
    as browsers have it (RFC 6265bis §5.8.3; W3C Secure Contexts §3.1).
    """
    if scheme == "https" or host == "localhost" or host.endswith(".localhost"):
        return True
    try:
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        return False


def domain_matches(host: str, domain: str) -> bool:
    """§5.1.3; an address only matches itself."""
    if host == domain:
        return True
    return host.endswith("." + domain) and not host.replace(".", "").isdigit()


def path_matches(path: str, cookie_path: str) -> bool:
    """§5.1.4."""
    if path == cookie_path or cookie_path == "/":
        return True
    return path.startswith(cookie_path) and (
        cookie_path.endswith("/") or path[len(cookie_path)] == "/"
    )
