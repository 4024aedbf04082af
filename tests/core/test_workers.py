"""Workers: jobs done apart, bounded in time and memory, and the next job served after one that was
ended.
"""

import time
from unittest import TestCase

import msgspec

from dynamikos.core.captures import Capture, RegexForm
from dynamikos.core.errors import DynamikosError
from dynamikos.workers import WorkerError, call
from dynamikos.workers.documents import GivenAnswer
from dynamikos.workers.jobs import Trial

PAGE = b"<b>one: A17</b> <b>two: B22</b>"


def tried(pattern: str, body: bytes = PAGE, *, seconds: float = 2.0, **more: object) -> Trial:
    capture = Capture(
        name="v", regex=RegexForm(pattern=pattern, group=int(more.pop("group", 1))), **more
    )  # type: ignore[arg-type,call-overload]
    payload = msgspec.msgpack.encode(
        (capture, [GivenAnswer(200, [(b"content-type", b"text/html")], body, {}, [])])
    )
    return msgspec.msgpack.decode(call("trial", payload, seconds=seconds), type=list[Trial])[0]


class Workers(TestCase):
    def test_what_a_capture_finds_and_its_groups(self) -> None:
        found = tried(r"<b>(\w+): ([A-Z])(\d+)", group=3, pick="last")
        self.assertEqual(
            (found.count, found.taken, found.groups), (2, "22", ["<b>two: B22", "two", "B", "22"])
        )
        self.assertTrue(found.before.endswith("two: B"))
        self.assertTrue(found.after.startswith("</b>"))
        self.assertEqual(tried("nothing (x)").count, 0)

    def test_a_wrong_expression_is_said_and_the_worker_lives_on(self) -> None:
        with self.assertRaisesRegex(DynamikosError, "not a regular expression"):
            tried("(open")
        self.assertEqual(tried("(A17)").taken, "A17")

    def test_an_endless_expression_is_ended(self) -> None:
        tried("(A17)")  # a warm worker
        begun = time.monotonic()
        with self.assertRaisesRegex(WorkerError, "longer than 0.5 s"):
            tried("(a+)+$", b"a" * 40 + b"!", seconds=0.5)
        self.assertLess(time.monotonic() - begun, 10)
        self.assertEqual(tried("(A17)").taken, "A17")

    def test_too_much_memory_is_ended(self) -> None:
        payload = msgspec.msgpack.encode(
            (
                Capture(name="v", regex=RegexForm(pattern="(x)", group=1)),
                [GivenAnswer(200, [], b"x" * 90_000_000, {}, [])],
            )
        )
        with self.assertRaisesRegex(WorkerError, "more than 200 MB"):
            call("trial", payload, seconds=10, memory_mb=200)

    def test_progress_can_end_a_job(self) -> None:
        from dynamikos.workers.jobs import SearchJob
        from tests.core.correlation.recordings import played

        recording = list(played("wizard", 1).exchanges)
        payload = msgspec.msgpack.encode(SearchJob([recording], None, None, []))
        told: list[float] = []
        found = call("strands", payload, seconds=20, memory_mb=2000, progress=told.append)
        self.assertGreater(len(msgspec.msgpack.decode(found)), 2)
        self.assertEqual(told[-1], 1.0)

        def stop(share: float) -> None:
            raise DynamikosError("enough")

        with self.assertRaisesRegex(DynamikosError, "enough"):
            call("strands", payload, seconds=20, memory_mb=2000, progress=stop)
