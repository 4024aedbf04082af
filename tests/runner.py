"""Django's runner, which also fails a test whose tasks ended by an exception that nobody looked
at.
"""

import gc
import logging
import time
import unittest
from typing import Any

from django.test.runner import DiscoverRunner

SLOWEST, SLOW_S = 12, 3.0  # so many of the tests over so many seconds are named at the end


class Unseen(logging.Handler):
    """Collects what asyncio says of exceptions that were never retrieved."""

    def __init__(self) -> None:
        super().__init__(logging.ERROR)
        self.said: list[str] = []

    def emit(self, record: logging.LogRecord) -> None:
        text = self.format(record)
        if "never retrieved" in text:
            self.said.append(text)


unseen = Unseen()
took: list[tuple[float, str]] = []  # seconds and test


class Result(unittest.TextTestResult):
    def startTest(self, test: Any) -> None:  # noqa: N802  (unittest's name)
        self.begun = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: Any) -> None:  # noqa: N802  (unittest's name)
        if type(test).__module__.startswith(("tests.engine", "tests.processes")):
            gc.collect(1)  # asyncio says it when a task is thrown away
        for each in unseen.said:
            problem = AssertionError(f"an exception was seen by nobody: {each}")
            self.addFailure(test, (AssertionError, problem, None))  # type: ignore[arg-type]
        unseen.said.clear()
        took.append((time.monotonic() - self.begun, str(test.id())))
        super().stopTest(test)


class Runner(DiscoverRunner):
    def get_resultclass(self) -> Any:
        return super().get_resultclass() or Result

    def run_suite(self, suite: Any, **kwargs: Any) -> Any:
        logging.getLogger("asyncio").addHandler(unseen)
        gc.collect()
        gc.freeze()  # what is there already need not be looked through after each test
        try:
            return super().run_suite(suite, **kwargs)
        finally:
            logging.getLogger("asyncio").removeHandler(unseen)
            for seconds, name in sorted(took, reverse=True)[:SLOWEST]:
                if seconds > SLOW_S:
                    print(f"slow: {seconds:5.1f} s {name}")
