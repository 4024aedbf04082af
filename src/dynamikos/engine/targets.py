"""The one check of agreed targets, made on resolved addresses."""

import ipaddress
from collections.abc import Iterable

from dynamikos.core.plans import AgreedTarget
from dynamikos.engine.failures import Failure
from dynamikos.engine.ports import Origin

METADATA = frozenset({"169.254.169.254", "fd00:ec2::254", "100.100.100.200"})


Ip = ipaddress.IPv4Address | ipaddress.IPv6Address
TRANSLATED = (
    ipaddress.ip_network("64:ff9b::/96"),
    ipaddress.ip_network("64:ff9b:1::/48"),
)  # RFC 6052, RFC 8215


def embedded(address: Ip) -> Ip:
    """The IPv4 address that an IPv6 one stands for (mapped, 6to4, Teredo, NAT64); else the address
    itself.
    """
    if isinstance(address, ipaddress.IPv4Address):
        return address
    inner = (
        address.ipv4_mapped or address.sixtofour or (address.teredo[1] if address.teredo else None)
    )
    if inner is None and any(address in each for each in TRANSLATED):
        inner = ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
    return inner or address


def check_target(
    agreed: Iterable[AgreedTarget],
    origin: Origin,
    address: str,
    own_ports: frozenset[int] = frozenset(),
) -> None:
    """Raises Failure("not-agreed") unless a connection to the resolved `address` for `origin` may
    be opened.

    Scheme, host and port must be on the list. Link-local, metadata, multicast and unspecified
    addresses and Dynamikos's own ports are never allowed; one that is not public only when the
    agreed line names that address, or a host that is not a wildcard. A line with an address of its
    own covers that address alone.
    """
    scheme, host, port = origin
    line = next(
        (each for each in agreed if each.covers(scheme, host.lower().rstrip("."), port)), None
    )
    if line is None:
        raise Failure(
            "not-agreed",
            f"{scheme}://{host}:{port} is not an agreed target; an owner can add it in Settings, "
            "or “agreed” of an"
            " environment's file",
        )
    try:
        resolved = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        raise Failure(
            "not-agreed", f"{host} resolved to '{address}', which is not an address"
        ) from None
    given = resolved
    resolved = embedded(resolved)
    if (
        str(resolved) in METADATA
        or resolved.is_link_local
        or resolved.is_unspecified
        or resolved.is_multicast
    ):
        raise Failure(
            "not-agreed",
            f"{host} resolves to {resolved}, which is never a target (link-local, metadata, "
            "unspecified or multicast)",
        )
    if line.address:
        if given != ipaddress.ip_address(line.address):
            raise Failure("not-agreed", f"{host} was agreed at {line.address}, not at {given}")
    elif line.host.startswith("*.") and not (resolved.is_global and given.is_global):
        raise Failure(
            "not-agreed",
            f"{host} resolves to {given}, which is not public; name this host itself in the agreed "
            "targets",
        )
    if resolved.is_loopback and port in own_ports:
        raise Failure("not-agreed", f"{host}:{port} is Dynamikos itself")
