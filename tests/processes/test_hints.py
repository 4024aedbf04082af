"""Waiting for the database's hints costs nothing, and a hint is heard at once."""

import asyncio
import time

import procrastinate
import psycopg
from django.db import connection
from django.test import TransactionTestCase

from dynamikos.fleet.hints import JobConnector, hints


def conninfo() -> str:
    made = connection.settings_dict
    return f"postgresql://{made['USER']}:{made['PASSWORD']}@{made['HOST']}:{made['PORT']}/{made['NAME']}"


class Hints(TransactionTestCase):
    def test_a_job_is_heard_of_at_once(self) -> None:
        """The job engine polls each 60 s here: only a hint can have started the job."""

        async def performed() -> float:
            app = procrastinate.App(
                connector=JobConnector(conninfo=conninfo(), min_size=1, max_size=2)
            )
            done = asyncio.Event()

            @app.task(name="hear", queue="hearing")
            async def hear() -> None:
                done.set()

            async with app.open_async():
                worker = asyncio.create_task(
                    app.run_worker_async(
                        queues=["hearing"],
                        install_signal_handlers=False,
                        fetch_job_polling_interval=60.0,
                    )
                )
                await asyncio.to_thread(until_listened)
                begun = time.monotonic()
                await hear.defer_async()
                await asyncio.wait_for(done.wait(), 50)
                took = time.monotonic() - begun
                worker.cancel()
                await asyncio.gather(worker, return_exceptions=True)
                return took

        self.assertLess(asyncio.run(performed()), 50)

    def test_who_waits_does_not_look_again_and_again(self) -> None:
        async def looked() -> tuple[int, int]:
            async with await psycopg.AsyncConnection.connect(conninfo(), autocommit=True) as link:
                await link.execute("LISTEN hearing")
                looks = 0

                notifies = link.notifies

                def counting(**given: float) -> object:
                    nonlocal looks
                    looks += 1
                    return notifies(**given)  # type: ignore[arg-type]

                link.notifies = counting  # type: ignore[method-assign,assignment]
                none = await hints(link, 1.0)
                await link.execute("NOTIFY hearing, 'one'")
                return looks, len(none) + 10 * len(await hints(link, 30))

        looks, found = asyncio.run(looked())
        self.assertEqual((1, 10), (looks, found))


def until_listened() -> None:
    """Until the job engine listens for its queue."""
    with psycopg.connect(conninfo(), autocommit=True) as link:
        while True:
            row = link.execute(
                "SELECT count(*) FROM pg_stat_activity WHERE query LIKE 'LISTEN%'"
            ).fetchone()
            if row and row[0]:
                return
            time.sleep(0.05)
