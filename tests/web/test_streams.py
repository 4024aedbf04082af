"""Event streams: format, resuming, the end."""

from django.test import AsyncClient, SimpleTestCase, TransactionTestCase

from dynamikos.web.runs.models import Run
from dynamikos.web.streams.models import Message
from tests.web.support import Sample


class Streams(TransactionTestCase):
    def setUp(self) -> None:
        self.sample = Sample()
        self.watched = Run.objects.create(
            project=self.sample.project,
            number=1,
            name="r",
            frozen=b"{}",
            sha256="",
            state="running",
        )
        for sequence, (event, body) in enumerate(
            (("state", "running"), ("frame", "[0]"), ("log", "two\nlines"), ("end", "finished"))
        ):
            Message.objects.create(
                subject=self.watched.pk, sequence=sequence, event=event, body=body
            )

    async def read(self, after: str = "", header: str = "") -> list[str]:
        client = AsyncClient()
        await client.aforce_login(self.sample.accounts["cass"])
        address = self.sample.address(f"runs/{self.watched.pk}/stream") + (
            f"?after={after}" if after else ""
        )
        answer = await client.get(address, headers={"Last-Event-ID": header} if header else None)
        text = "".join([part.decode() async for part in answer.streaming_content])
        return [block for block in text.split("\n\n") if block and not block.startswith(":")]

    async def test_everything_in_order_with_ids(self) -> None:
        blocks = await self.read()
        self.assertEqual(blocks[0], f"id: {self.watched.pk}.0\nevent: state\ndata: running")
        self.assertEqual(blocks[2], f"id: {self.watched.pk}.2\nevent: log\ndata: two\ndata: lines")
        self.assertEqual(len(blocks), 4)  # and the stream ended by itself after "end"

    async def test_resumes_after_the_last_one_seen(self) -> None:
        for blocks in (
            await self.read(after="x.1"),
            await self.read(header=f"{self.watched.pk}.1"),
        ):
            self.assertEqual(
                [block.split("\n")[1] for block in blocks], ["event: log", "event: end"]
            )

    async def test_what_comes_later_is_pushed(self) -> None:
        from asgiref.sync import sync_to_async

        from dynamikos.fleet.coordinator.stream import say

        await Message.objects.filter(event="end").adelete()
        client = AsyncClient()
        await client.aforce_login(self.sample.accounts["cass"])
        answer = await client.get(
            self.sample.address(f"runs/{self.watched.pk}/stream") + "?after=x.2"
        )
        seen = []
        async for part in answer.streaming_content:
            seen.append(part.decode())
            if len(seen) == 1:
                await sync_to_async(say)(self.watched.pk, "frame", "[1]")
                await sync_to_async(say)(self.watched.pk, "end", "finished")
        text = "".join(seen)
        self.assertIn("event: frame\ndata: [1]", text)
        self.assertIn("event: end", text)


class LongWork(SimpleTestCase):
    def test_work_that_nobody_waits_for_any_more_is_ended(self) -> None:
        import asyncio
        import time

        from dynamikos.core.errors import DynamikosError
        from dynamikos.web.ui.progress import streamed

        told: list[str] = []

        def work(progress):  # type: ignore[no-untyped-def]
            try:
                for step in range(2000):
                    time.sleep(0.01)
                    progress(step / 2000)
            except DynamikosError:
                told.append("ended")
                raise
            told.append("done")
            return "/there"

        async def leave() -> None:
            lines = streamed(work).__aiter__()
            self.assertIn(b"progress", await lines.__anext__())
            await lines.aclose()  # type: ignore[attr-defined]
            for _ in range(100):
                if told:
                    return
                await asyncio.sleep(0.02)

        asyncio.run(leave())
        self.assertEqual(told, ["ended"])

    def test_a_database_that_goes_away_meanwhile_is_said(self) -> None:
        import asyncio

        from django.db import OperationalError

        from dynamikos.web.ui.progress import streamed

        def work(progress):  # type: ignore[no-untyped-def]
            raise OperationalError("it is gone")

        async def told() -> bytes:
            return b"".join([part async for part in streamed(work)])

        with self.assertLogs("dynamikos.web.ui.progress", "ERROR"):
            self.assertIn(b"error The database does not answer", asyncio.run(told()))
