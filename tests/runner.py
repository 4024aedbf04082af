"""Django's runner, which also fails a test whose tasks ended by an exception that nobody looked at."""

import gc
import logging
import unittest
from typing import Any

from django.test.runner import DiscoverRunner


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


class Result(unittest.TextTestResult):
    def stopTest(self, test: Any) -> None:  # noqa: N802  (unittest's name)
        if type(test).__module__.startswith(("tests.engine", "tests.processes")):
            gc.collect(1)  # asyncio says it when a task is thrown away
        for each in unseen.said:
            problem = AssertionError(f"an exception was seen by nobody: {each}")
            self.addFailure(test, (AssertionError, problem, None))  # type: ignore[arg-type]
        unseen.said.clear()
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
