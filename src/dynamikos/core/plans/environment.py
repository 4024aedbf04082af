"""An environment: base addresses, values and the list of agreed targets."""

import ipaddress
import re
from typing import Literal
from urllib.parse import SplitResult, urlsplit

import msgspec

from dynamikos.core.errors import PlanError
from dynamikos.core.forms import VersionedCodec
from dynamikos.core.journeys.request import Key
from dynamikos.core.ports import port_of
from dynamikos.core.text import Frozen, parse

LABEL = re.compile(r"[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?\Z", re.I)


class AgreedTarget(msgspec.Struct, frozen=True, kw_only=True):
    """Scheme, host and port that may be sent to. `host` is lower case; "*" only as one whole left
    label. `address` is the IP address to connect to instead of looking the name up: it is part of
    what was agreed. At most `cap_per_s` exchanges a second, where that is not 0: what would be more
    ends the run, it is never delayed.
    """

    scheme: Literal["http", "https"]
    host: str
    port: int
    address: str = ""
    cap_per_s: float = 0.0

    def __str__(self) -> str:
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{self.scheme}://{host}:{self.port}" + (
            f" at {self.address}" if self.address else ""
        )

    def covers(self, scheme: str, host: str, port: int) -> bool:
        """True when a connection to scheme://host:port is agreed by this line."""
        if scheme != self.scheme or port != self.port:
            return False
        if self.host.startswith("*."):
            return host.partition(".")[2] == self.host[2:] and not host.startswith(".")
        return host == self.host


class Way(Frozen, frozen=True, kw_only=True):
    """How requests reach the target: headers on all of them, whom to trust, where a host is,
    through which proxy.

    `trust` is "system", "anything" (no certificate is verified) or certificates in PEM;
    `certificate` is the client's own, in PEM, whose key is the sealed secret `key_secret`. `hosts`
    maps a host name to the address to connect to instead of looking it up (in files; in a project
    that is part of an agreed target); `proxy` is an address such as http://proxy.example:3128,
    which must be an agreed target itself.
    """

    headers: tuple[tuple[str, str], ...] = ()
    trust: str = "system"
    certificate: str = ""
    key_secret: str = ""
    hosts: dict[str, str] = {}
    proxy: str = ""


class Environment(Frozen, frozen=True, kw_only=True):
    """Read as `env.NAME` in journeys: `addresses` and `values` together.

    `practice` starts the stand-in when nothing listens.
    """

    form: Literal[1]
    environment: Key
    name: str = ""
    addresses: dict[str, str] = {}
    values: dict[str, str] = {}
    agreed: tuple[str, ...] = ()
    secret_from_process: tuple[str, ...] = ()
    way: Way = Way()
    practice: str = ""
    note: str = ""

    def known(self) -> dict[str, str]:
        """All values by their name in a journey ("env.observatory")."""
        return {f"env.{name}": value for name, value in {**self.values, **self.addresses}.items()}


ENVIRONMENT = VersionedCodec("environment", Environment)
WAY = VersionedCodec("way to the targets", Way)


def parse_environment(text: str, *, file: str = "") -> Environment:
    """The environment in `text`. Raises TextError."""
    return parse(text, ENVIRONMENT, noted=frozenset({"environment"}), file=file)


def parse_target(text: str) -> AgreedTarget:
    """`scheme://host[:port] [at ADDRESS]` as an AgreedTarget. Raises PlanError saying what is wrong
    with it.
    """
    text, _, given = (part.strip() for part in text.strip().partition(" at "))
    address = ""
    if given:
        try:
            address = str(ipaddress.ip_address(given.strip("[]")))
        except ValueError as problem:
            raise PlanError(
                f"'{given}' is not an IP address; write such as https://staging.example at 10.0.0.7"
            ) from problem
    try:
        parts = urlsplit(text)
    except ValueError as problem:
        raise PlanError(f"'{text}' is not a target: {problem}") from problem
    more = parts.path not in ("", "/") or parts.query or parts.fragment or parts.username
    if parts.scheme not in ("http", "https") or not parts.hostname or more:
        raise PlanError(
            f"'{text}' is not a target; write scheme, host and port, such as "
            "https://staging.example:8443"
        )
    host = _target_host(text, parts.hostname)
    scheme: Literal["http", "https"] = "https" if parts.scheme == "https" else "http"
    return AgreedTarget(scheme=scheme, host=host, port=_target_port(text, parts), address=address)


def _target_port(text: str, parts: SplitResult) -> int:
    try:
        port = port_of(parts)
    except ValueError as problem:
        raise PlanError(f"'{text}' has a port that is not a number from 1 to 65535") from problem
    if port == 0:
        raise PlanError(
            f"'{text}' has the port 0, which nothing listens on; write one from 1 to 65535"
        )
    return port


def _target_host(text: str, name: str) -> str:
    """In lower case; * may stand for one label or more."""
    host = name.lower().rstrip(".")
    labels = host.split(".")
    if "*" in host:
        if labels[0] != "*" or "*" in host[1:] or len(labels) < 3:
            raise PlanError(
                f"'{text}': * may only stand as the whole first label, before at least two more "
                "(*.staging.example)"
            )
        labels = labels[1:]
    try:
        ipaddress.ip_address(host)
    except ValueError:
        if not all(LABEL.match(label) for label in labels):
            raise PlanError(f"'{text}' has a host name that can't be one") from None
    return host
