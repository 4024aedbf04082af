"""Calls of a project's Python functions, in a child process that is closed off
(dynamikos.workers.functions) and ended when it takes too long.
"""

import asyncio
import contextlib
import functools
import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

from dynamikos.engine.failures import Failure
from dynamikos.engine.ports import Waited

PROGRAM = Path(__file__).parents[1] / "workers" / "functions.py"
NOBODY = 65534
REFUSED = (
    "this machine can't close functions off: here they would run with all rights of the account "
    "that runs the"
    " generator, its files, the key that opens the secrets, its processes and the network among "
    "them; an owner has to"
    " agree to exactly that under Functions first"
)
BUDGET_S, START_S, MEMORY_MB, LONGEST_LINE = 1.0, 10.0, 512, 8_000_000


@functools.cache
def box() -> tuple[str, ...]:
    """The command that starts Python with nothing but its own files, as nobody, without network and
    other processes (bubblewrap); () where there is none or the kernel does not allow it. Tried
    once.
    """
    program = shutil.which("bwrap")
    if program is None:
        return ()
    binds: list[str] = []
    for prefix in {Path(sys.base_prefix), Path("/usr")}:
        for name in ("lib", "lib64", "lib32"):
            if (prefix / name).is_dir():
                binds += ["--ro-bind", str(prefix / name), str(prefix / name)]
    for name in ("lib", "lib64"):
        if Path(f"/{name}").is_symlink():
            binds += ["--symlink", f"usr/{name}", f"/{name}"]
        elif Path(f"/{name}").is_dir():
            binds += ["--ro-bind", f"/{name}", f"/{name}"]
    closed = (
        program,
        "--unshare-all",
        "--unshare-user",
        "--uid",
        str(NOBODY),
        "--gid",
        str(NOBODY),
        "--die-with-parent",
        "--new-session",
        "--clearenv",
        *binds,
        "--ro-bind",
        str(Path(sys.executable).resolve()),
        "/python",
        "--dev",
        "/dev",
        "--remount-ro",
        "/",
        "--chdir",
        "/",
        "--setenv",
        "PYTHONHOME",
        sys.base_prefix,
        "/python",
        "-S",
    )
    # root's processes can't be counted
    drop = ("setpriv", f"--reuid={NOBODY}", f"--regid={NOBODY}", "--clear-groups", "--")
    for command in ([(*drop, *closed)] if os.geteuid() == 0 and shutil.which("setpriv") else []) + [
        closed
    ]:
        with contextlib.suppress(OSError, subprocess.TimeoutExpired):
            if (
                subprocess.run(
                    [*command, "-c", "import json"],
                    capture_output=True,
                    timeout=START_S,
                    check=False,
                ).returncode
                == 0
            ):
                return command
    return ()


class Child:
    """The functions of one project. `agreed` is the owner's word that they may run where they can't
    be closed off.
    """

    def __init__(
        self, modules: dict[str, str], *, budget_s: float = BUDGET_S, agreed: bool = False
    ) -> None:
        self._modules, self._budget_s, self._agreed = modules, budget_s, agreed
        self._process: asyncio.subprocess.Process | None = None
        self._turn = asyncio.Lock()
        self.names: tuple[str, ...] = ()
        self.alone = False

    async def call(self, function: str, given: dict[str, str], waited: Waited | None = None) -> str:
        """One at a time; `waited` is told the seconds until it was this one's turn.

        Raises Failure: "function" for what it raised (with its line), "function-time" for what took
        too long.
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
        """The names of all functions. Raises Failure for modules that can't be loaded, with the
        line.
        """
        async with self._turn:
            await self._start()
        return self.names

    async def _start(self) -> None:
        if self._process is not None and self._process.returncode is None:
            return
        if not self._modules:
            raise Failure("function", "the project has no Python functions")
        closed = box()
        command = (
            [*closed, "-c", PROGRAM.read_text()]
            if closed
            else [sys.executable, "-I", "-S", str(PROGRAM)]
        )
        self._process = await asyncio.create_subprocess_exec(
            *command,
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.DEVNULL,
            env={},
            close_fds=True,
            start_new_session=True,
            cwd="/",
            limit=LONGEST_LINE,
        )
        first = {
            "modules": self._modules,
            "memory_mb": MEMORY_MB,
            "closed": bool(closed),
            "agreed": self._agreed,
        }
        hello = await self._ask(first, START_S, "loading the functions")
        self.alone = bool(hello.get("alone"))
        if hello.get("refused"):
            await self.close()
            raise Failure("function", REFUSED)
        if "error" in hello:
            await self.close()
            raise Failure("function", str(hello["error"]))
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
            raise Failure(
                "function-time", f"{name} took longer than {seconds:g} s, so it was ended"
            ) from None
        except asyncio.CancelledError:
            await self.close()
            raise
        except (OSError, ValueError) as problem:
            await self.close()
            raise Failure("function", f"{name}: {problem}") from problem
        if not line:
            await self.close()
            raise Failure(
                "function",
                f"{name}: its process ended (more than {MEMORY_MB} MB of memory, or it left by "
                "itself)",
            )
        answer: dict[str, object] = json.loads(line)
        return answer

    async def close(self) -> None:
        process, self._process = self._process, None
        if process is not None and process.returncode is None:
            with contextlib.suppress(ProcessLookupError):
                process.kill()
            await process.wait()
