"""Calls of a project's Python functions, in a child process that is closed off (dynamikos.workers.functions) and ended when it takes too long."""

import asyncio
import contextlib
import json
import sys
import time
from pathlib import Path

from dynamikos.engine.failures import Failure
from dynamikos.engine.ports import Waited

PROGRAM = Path(__file__).parents[1] / "workers" / "functions.py"
BUDGET_S, START_S, MEMORY_MB, LONGEST_LINE = 1.0, 10.0, 512, 8_000_000


class Child:
    """The functions of one project. `agreed` is the owner's word that they may run where the kernel can't take the network away."""

    def __init__(self, modules: dict[str, str], *, budget_s: float = BUDGET_S, agreed: bool = False) -> None:
        self._modules, self._budget_s, self._agreed = modules, budget_s, agreed
        self._process: asyncio.subprocess.Process | None = None
        self._turn = asyncio.Lock()
        self.names: tuple[str, ...] = ()
        self.alone = False

    async def call(self, function: str, given: dict[str, str], waited: Waited | None = None) -> str:
        """One at a time; `waited` is told the seconds until it was this one's turn.

        Raises Failure: "function" for what it raised (with its line), "function-time" for what took too long.
        """
        asked = time.perf_counter()
        async with self._turn:
            if waited is not None:
                waited(time.perf_counter() - asked)
            await self._start()
            answer = await self._ask({"call": function, "with": given}, self._budget_s, function)
        if "error" in answer:
            raise Failure("function", f"{function}: {answer['error']}")
        return str(answer["value"])

    async def load(self) -> tuple[str, ...]:
        """The names of all functions. Raises Failure for modules that can't be loaded, with the line."""
        async with self._turn:
            await self._start()
        return self.names

    async def _start(self) -> None:
        if self._process is not None and self._process.returncode is None:
            return
        if not self._modules:
            raise Failure("function", "the project has no Python functions")
        self._process = await asyncio.create_subprocess_exec(
            sys.executable, "-I", "-S", str(PROGRAM), stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.DEVNULL,
            env={}, close_fds=True, start_new_session=True, cwd="/", limit=LONGEST_LINE,
        )  # fmt: skip
        hello = await self._ask({"modules": self._modules, "memory_mb": MEMORY_MB}, START_S, "loading the functions")
        self.alone = bool(hello.get("alone"))
        if "error" in hello:
            await self.close()
            raise Failure("function", str(hello["error"]))
        if not self.alone and not self._agreed:
            await self.close()
            raise Failure(
                "function", "this machine can't close functions off from the network; an owner has to agree to that under Functions first"
            )
        found = hello["functions"]
        self.names = tuple(found) if isinstance(found, list) else ()

    async def _ask(self, what: dict[str, object], seconds: float, name: str) -> dict[str, object]:
        process = self._process
        assert process is not None and process.stdin is not None and process.stdout is not None
        try:
            process.stdin.write(json.dumps(what).encode() + b"\n")
            line = await asyncio.wait_for(process.stdout.readline(), seconds)
        except TimeoutError:
            await self.close()
            raise Failure("function-time", f"{name} took longer than {seconds:g} s, so it was ended") from None
        except asyncio.CancelledError:
            await self.close()
            raise
        except (OSError, ValueError) as problem:
            await self.close()
            raise Failure("function", f"{name}: {problem}") from problem
        if not line:
            await self.close()
            raise Failure("function", f"{name}: its process ended (more than {MEMORY_MB} MB of memory, or it left by itself)")
        answer: dict[str, object] = json.loads(line)
        return answer

    async def close(self) -> None:
        process, self._process = self._process, None
        if process is not None and process.returncode is None:
            with contextlib.suppress(ProcessLookupError):
                process.kill()
            await process.wait()
