"""The recorder's process: opens a doorway or proxy for each session asked for, stores what passes,
closes it when it ends.
"""

import asyncio
import json
import logging
import os
import socket
import time
import zlib
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec
import psutil
import psycopg

from dynamikos.core.exchanges import Exchange
from dynamikos.core.plans import Way, parse_target
from dynamikos.core.plans.environment import WAY
from dynamikos.engine.recorder.certificates import Authority
from dynamikos.engine.recorder.doorway import Doorway
from dynamikos.engine.recorder.proxy import Proxy
from dynamikos.fleet.browser import Browser
from dynamikos.fleet.hints import SLICE_S, awaited
from dynamikos.fleet.settings import IDLE_S, RECONNECT_S, TICK_S

log = logging.getLogger(__name__)
CHANNEL, STREAM = "dynamikos_recorder", "dynamikos_stream"
OPEN = ("asked", "recording", "paused")
_encoder = msgspec.msgpack.Encoder()


def outer_address() -> str:
    """This machine's address as its neighbours may reach it; loopback when it has no other."""
    for name, addresses in sorted(psutil.net_if_addrs().items()):
        for each in addresses:
            if (
                each.family == socket.AF_INET
                and not each.address.startswith(("127.", "169.254."))
                and not name.startswith(("docker", "br-", "veth"))
            ):
                return str(each.address)
    return "127.0.0.1"


class Taking:
    """One session while it is open. Exchanges wait in a queue until they are stored."""

    def __init__(self, pk: Any) -> None:
        self.pk = pk
        self.paused = False
        self.waiting: list[Exchange] = []
        self.door: Doorway | Proxy | None = None
        self.browser: Browser | None = None

    def record(self, exchange: Exchange) -> None:
        if not self.paused:
            self.waiting.append(exchange)


class Recorder:
    """Follows the sessions in the database. A restart ends the sessions that were open: their ports
    are gone.
    """

    def __init__(
        self, link: "psycopg.AsyncConnection[Any]", folder: Path, own_ports: frozenset[int]
    ) -> None:
        self.link, self.folder, self.own_ports = link, folder, own_ports
        self.open: dict[Any, Taking] = {}

    async def begin(self) -> None:
        await self.link.execute("LISTEN dynamikos_recorder")
        await self.link.execute(
            "UPDATE recordings_session SET state = 'ended', problem = 'The recorder was started "
            "anew; what was recorded"
            " stays.' WHERE state IN ('recording', 'paused')"
        )

    async def look(self) -> None:
        """One look at what is asked for, and one at what is to be stored."""
        rows = await (
            await self.link.execute(
                "SELECT recording_id, kind, targets, name, state, word, until < clock_timestamp(), "
                "way FROM recordings_session WHERE state = ANY(%s)",
                [list(OPEN)],
            )
        ).fetchall()
        wanted = {row[0] for row in rows if not row[6]}
        for pk, kind, targets, name, state, word, is_over, way in rows:
            if is_over:
                await self.link.execute(
                    "UPDATE recordings_session SET state = 'ended', problem = 'Its time was over; "
                    "what was recorded"
                    " stays. Make the journey from it, or record again.' WHERE recording_id = %s",
                    [pk],
                )
            elif pk not in self.open:
                await self._open(
                    pk,
                    kind,
                    targets if isinstance(targets, list) else json.loads(targets),
                    name,
                    word,
                    WAY.of(way if isinstance(way, dict) else json.loads(way)),
                )
            elif pk in self.open:
                self.open[pk].paused = state == "paused"
        for pk in [pk for pk in self.open if pk not in wanted]:
            taking = self.open.pop(pk)
            await self._close(taking)
            await self._store(taking)
            await self._say(pk, "end", "ended")
        for taking in list(self.open.values()):
            await self._store(taking)
            if taking.browser is not None and not taking.browser.alive:
                taking.browser = None
                await self.link.execute(
                    "UPDATE recordings_session SET problem = 'The browser was closed; stopping "
                    "keeps what was"
                    " recorded.' WHERE recording_id = %s",
                    [taking.pk],
                )
                await self._say(taking.pk, "state", "closed")

    async def _open(
        self, pk: Any, kind: str, targets: list[str], name: str, word: str, way: Way
    ) -> None:
        taking = self.open[pk] = Taking(pk)
        authority = window = ""
        try:
            if kind == "doorway":
                taking.door = Doorway(
                    targets, name, taking.record, own_ports=self.own_ports, way=way
                )
                port = await taking.door.listen()
                address = f"http://{name}:{port}"
            else:
                made = Authority(self.folder, datetime.now(UTC))
                authority = made.pem().decode()
                credentials = f"recorder:{word}" if kind == "device" else ""
                taking.door = Proxy(
                    tuple(map(parse_target, targets)),
                    made,
                    taking.record,
                    own_ports=self.own_ports,
                    credentials=credentials,
                    way=way,
                )
                if kind == "device":
                    address = f"http://{outer_address()}:{await taking.door.listen('0.0.0.0')}"
                else:
                    address = f"http://127.0.0.1:{await taking.door.listen()}"
                if kind == "browser":
                    taking.browser = Browser(self.folder / f"browser-{pk}")
                    await taking.browser.start(
                        address.removeprefix("http://"),
                        made.key_hash(),
                        f"{targets[0]}/",
                        os.environ,
                    )
                    window = taking.browser.devtools or "screen"
        except Exception as problem:
            log.exception("session %s can't be opened", pk)
            await self._close(taking)
            await self.link.execute(
                "UPDATE recordings_session SET state = 'refused', problem = %s WHERE recording_id "
                "= %s",
                [str(problem), pk],
            )
            await self._say(pk, "end", "refused")
            return
        await self.link.execute(
            "UPDATE recordings_session SET state = 'recording', address = %s, authority = %s, "
            '"window" = %s WHERE'
            " recording_id = %s",
            [address, authority, window, pk],
        )
        await self._say(pk, "state", "recording")

    async def _store(self, taking: Taking) -> None:
        """Everything that waits, in one transaction, numbered on from what is there."""
        if not taking.waiting:
            return
        exchanges, taking.waiting = taking.waiting, []
        exchanges.sort(key=lambda each: each.started_us)
        try:
            async with self.link.transaction():
                row = await (
                    await self.link.execute(
                        "SELECT coalesce(max(number), -1) FROM recordings_recordedexchange WHERE "
                        "recording_id = %s",
                        [taking.pk],
                    )
                ).fetchone()
                number = row[0] + 1 if row else 0
                for offset, each in enumerate(exchanges):
                    await self.link.execute(
                        "INSERT INTO recordings_recordedexchange (recording_id, number, body) "
                        "VALUES (%s, %s, %s)",
                        [taking.pk, number + offset, zlib.compress(_encoder.encode(each), 1)],
                    )
                await self.link.execute(
                    "UPDATE recordings_recording SET count = (SELECT count(*) FROM "
                    "recordings_recordedexchange WHERE"
                    " recording_id = %s) WHERE id = %s",
                    [taking.pk, taking.pk],
                )
        except psycopg.Error:
            taking.waiting = [*exchanges, *taking.waiting]  # nothing recorded is lost
            raise
        await self._say(taking.pk, "exchange", str(len(exchanges)))

    async def _say(self, pk: Any, event: str, body: str) -> None:
        row = await (
            await self.link.execute(
                "INSERT INTO streams_message (subject, sequence, event, body) SELECT %s, "
                "coalesce(max(sequence), -1) +"
                " 1, %s, %s FROM streams_message WHERE subject = %s RETURNING sequence",
                [pk, event, body, pk],
            )
        ).fetchone()
        await self.link.execute(
            "SELECT pg_notify(%s, %s)", [STREAM, f"{pk}.{row[0] if row else 0}"]
        )

    @staticmethod
    async def _close(taking: Taking) -> None:
        if taking.browser is not None:
            await taking.browser.aclose()
        if taking.door is not None:
            await taking.door.aclose()

    async def aclose(self) -> None:
        for taking in self.open.values():
            await self._close(taking)


async def serve(
    url: str, folder: Path, own_ports: frozenset[int], stopped: Callable[[], bool]
) -> None:
    """Until `stopped`; the database may go away for a while: what was recorded waits."""
    kept: dict[Any, Taking] = {}
    first = True
    while not stopped():
        try:
            async with await psycopg.AsyncConnection.connect(url, autocommit=True) as link:
                recorder = Recorder(link, folder, own_ports)
                recorder.open = kept
                if first:
                    await recorder.begin()
                    first = False
                else:
                    await link.execute("LISTEN dynamikos_recorder")
                while not stopped():
                    begun = time.monotonic()
                    await recorder.look()
                    until = begun + (TICK_S if recorder.open else IDLE_S)
                    while not stopped() and (left := until - time.monotonic()) > 0:
                        if await awaited(link, min(left, SLICE_S)):
                            break
                    await asyncio.sleep(max(0.0, 0.05 - (time.monotonic() - begun)))
                await recorder.aclose()
                return
        except psycopg.OperationalError as problem:
            log.warning("the database is away (%s); trying again", str(problem).strip())
            await asyncio.sleep(RECONNECT_S)
