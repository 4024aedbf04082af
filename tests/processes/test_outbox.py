"""Reports while the database is away: buffered, spooled to disk, delivered in order, none twice."""

import asyncio
import socket
import tempfile
from pathlib import Path

from django.db import connection
from django.test import TransactionTestCase
from django.utils import timezone
from psycopg.conninfo import make_conninfo

from dynamikos.core.reports import ShardSecond
from dynamikos.core.verdicts.ending import Ending
from dynamikos.fleet import outbox
from dynamikos.web.runs.models import Report, Run, Shard
from tests.processes.support import free_port
from tests.web.support import Sample


class Away(TransactionTestCase):
    def setUp(self) -> None:
        sample = Sample()
        run = Run.objects.create(
            project=sample.project,
            number=1,
            name="r",
            frozen=b"{}",
            sha256="",
            state="running",
            begins_at=timezone.now(),
        )
        self.shard = Shard.objects.create(run=run, number=0)
        self.full: list[Ending] = []
        self.spool = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def deliver(self, count: int, *, away_s: float, cut_after: int = 0) -> list[int]:
        """Hands over `count` seconds while nothing listens; then a relay opens, which may cut the
        line once.
        """
        made = connection.settings_dict
        port = free_port()
        conninfo = make_conninfo(
            host="127.0.0.1",
            port=port,
            user=made["USER"],
            password=made["PASSWORD"],
            dbname=made["NAME"],
        )
        waiting: list[int] = []
        cut = {"left": cut_after}

        async def relay(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            to_reader, to_writer = await asyncio.open_connection(made["HOST"], int(made["PORT"]))

            async def pump(
                source: asyncio.StreamReader, sink: asyncio.StreamWriter, *, counted: bool
            ) -> None:
                while data := await source.read(65536):
                    sink.write(data)
                    if counted and cut["left"]:
                        cut["left"] -= 1
                        if not cut["left"]:
                            break
                sink.close()
                writer.close()
                to_writer.close()

            await asyncio.gather(
                pump(reader, to_writer, counted=True),
                pump(to_reader, writer, counted=False),
                return_exceptions=True,
            )

        async def program() -> None:
            box = outbox.Outbox(
                conninfo, str(self.shard.run_id), self.shard.pk, self.spool, self.full.append
            )
            for second in range(count):
                box.report(ShardSecond(shard=0, second=second))
            waiting.append(box.unsent())
            await asyncio.sleep(away_s)
            waiting.append(len(list(self.spool.glob("*.spool"))))
            server = await asyncio.start_server(relay, "127.0.0.1", port)
            await box.close(20)
            waiting.append(box.unsent())
            server.close()

        asyncio.run(program())
        return waiting

    def test_a_long_absence_goes_to_disk_and_comes_back_in_order(self) -> None:
        waiting = self.deliver(outbox.MEMORY + 80, away_s=0.5)
        self.assertEqual(waiting, [outbox.MEMORY + 80, 1, 0])
        seconds = list(Report.objects.order_by("id").values_list("second", flat=True))
        self.assertEqual(seconds, list(range(outbox.MEMORY + 80)))
        self.assertEqual(list(self.spool.glob("*.spool")), [])

    def test_without_room_on_the_disk_it_is_said_and_nothing_is_lost(self) -> None:
        (self.spool / f"{self.shard.run_id}-{self.shard.pk}.spool").symlink_to("/dev/full")
        waiting = self.deliver(outbox.MEMORY + 80, away_s=0.1)
        self.assertEqual((waiting[0], waiting[-1]), (outbox.MEMORY + 80, 0))
        self.assertEqual(len(self.full), 80)
        self.assertIn(f"the disk of {socket.gethostname()} is full", self.full[0].detail)
        seconds = list(Report.objects.order_by("second").values_list("second", flat=True))
        self.assertEqual(seconds, list(range(outbox.MEMORY + 80)))

    def test_a_cut_line_repeats_nothing(self) -> None:
        waiting = self.deliver(100, away_s=0.1, cut_after=25)
        self.assertEqual(waiting[-1], 0)
        seconds = list(Report.objects.order_by("second").values_list("second", flat=True))
        self.assertEqual(seconds, list(range(100)))
