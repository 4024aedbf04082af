"""The tests' own runner: an exception that nobody looks at is a failure."""

import asyncio
import gc
import unittest

from tests.runner import Result, unseen


class Seen(unittest.TestCase):
    def test_an_unretrieved_exception_fails_its_test(self) -> None:
        async def broken() -> None:
            raise ValueError("nobody looks")

        async def program() -> None:
            asyncio.get_running_loop().create_task(broken())
            await asyncio.sleep(0)
            await asyncio.sleep(0)

        class Inner(unittest.TestCase):
            def runTest(self) -> None:  # noqa: N802
                asyncio.run(program())
                gc.collect()

        result = Result(unittest.runner._WritelnDecorator(open("/dev/null", "w")), True, 1)  # type: ignore[attr-defined]  # noqa: SIM115
        Inner().run(result)
        self.assertEqual(len(result.failures), 1)
        self.assertIn("nobody looks", result.failures[0][1])
        self.assertEqual(unseen.said, [])
