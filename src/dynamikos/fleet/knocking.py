"""Knocking at targets once, for who is about to start a run: one connection each, and nothing is
asked.
"""

import asyncio
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import msgspec
import psycopg

from dynamikos.core.errors import DynamikosError
from dynamikos.core.frozen.document import FROZEN
from dynamikos.core.plans import Timeouts
from dynamikos.core.plans.preflight import Answered, Knocked, Machine
from dynamikos.core.ports import port_of
from dynamikos.engine.failures import Failure
from dynamikos.engine.limits import descriptors
from dynamikos.engine.network import RealNetwork
from dynamikos.fleet.rehearsing import network_for
from dynamikos.sealing import X25519PrivateKey, unbox

LONGEST_S = 2.0
PORTS = Path("/proc/sys/net/ipv4/ip_local_port_range")


def source_ports() -> int:
    """How many ports this machine gives to connections that it opens."""
    try:
        low, high = map(int, PORTS.read_text().split())
    except (OSError, ValueError):
        return 28_232
    return high - low + 1


async def knock(
    conninfo: str, pk: str, own_ports: frozenset[int], key: X25519PrivateKey, name: str
) -> None:
    """Performs one Knock that is asked for."""
    async with await psycopg.AsyncConnection.connect(conninfo, autocommit=True) as link:
        found = await link.execute(
            "SELECT frozen, secrets, origins FROM places_knock WHERE id = %s AND state = 'asked'",
            (pk,),
        )
        row = await found.fetchone()
        if row is None:
            return
        frozen, secrets, origins = (
            FROZEN.read(bytes(row[0])),
            unbox(bytes(row[1] or b""), key),
            list(row[2]),
        )
        try:
            network = network_for(
                frozen,
                secrets,
                own_ports,
                Timeouts(connect_s=LONGEST_S, first_byte_s=LONGEST_S, whole_s=LONGEST_S),
            )
        except (Failure, DynamikosError) as problem:
            knocked = [Knocked(origin=each, problem=str(problem)) for each in origins]
        else:
            verified = frozen.way.trust != "anything"
            knocked = await asyncio.gather(
                *(_one(network, each, verified=verified) for each in origins)
            )
            await network.aclose()
        machine = Machine(name=name, descriptors=descriptors(), ports=source_ports())
        answer = msgspec.to_builtins(Answered(knocked=list(knocked), machine=machine))
        await link.execute(
            "UPDATE places_knock SET state = 'answered', answer = %s, secrets = ''::bytea WHERE id "
            "= %s",
            (_json(answer), pk),
        )


async def _one(network: RealNetwork, origin: str, *, verified: bool) -> Knocked:
    parts = urlsplit(origin)
    place = parts.scheme, parts.hostname or "", port_of(parts, 80)
    try:
        async with asyncio.timeout(LONGEST_S):
            took_s, days = await network.knock(place)
    except TimeoutError:
        return Knocked(origin=origin, problem=f"it did not answer within {LONGEST_S:g} s")
    except Failure as failure:
        return Knocked(origin=origin, problem=failure.detail or failure.kind)
    return Knocked(
        origin=origin, connected_ms=took_s * 1000, certificate_days=days, verified=verified
    )


def _json(value: Any) -> str:
    return msgspec.json.encode(value).decode()
