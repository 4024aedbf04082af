"""A browser that the product starts for a recording: Chromium with the recorder's proxy and a
profile of its own.
"""

import asyncio
import contextlib
import os
import shutil
import signal
from collections.abc import Mapping
from pathlib import Path

from dynamikos.chromium import CHROMIUM, QUIET, own_environment, started_by
from dynamikos.core.errors import DynamikosError


def has_screen(environ: Mapping[str, str]) -> bool:
    """Whether a window can be shown on this machine."""
    return bool(environ.get("DISPLAY") or environ.get("WAYLAND_DISPLAY"))


class Browser:
    """One browser. `devtools` is its DevTools address ("http://127.0.0.1:port") when it has no
    window, else "".
    """

    def __init__(self, profile: Path) -> None:
        self._profile = profile
        self._process: asyncio.subprocess.Process | None = None
        self.devtools = ""

    async def start(
        self, proxy: str, trusted: str, address: str, environ: Mapping[str, str]
    ) -> None:
        """Opens `address` through `proxy` ("127.0.0.1:port"), trusting the one authority whose
        public key has the SHA-256 `trusted` (base64).

        Raises DynamikosError when there is no browser or it does not come up.
        """
        if not Path(CHROMIUM).exists():
            raise DynamikosError(
                f"There is no browser at {CHROMIUM}; install Debian's package chromium, or record "
                "by doorway or proxy."
            )
        shutil.rmtree(self._profile, ignore_errors=True)
        self._profile.mkdir(parents=True, mode=0o700)
        program, needs, is_guarded = started_by()
        command = [
            program,
            *QUIET,
            f"--user-data-dir={self._profile}",
            f"--proxy-server=http://{proxy}",
            "--proxy-bypass-list=<-loopback>",
            f"--ignore-certificate-errors-spki-list={trusted}",
        ]
        if not is_guarded:
            command.append("--no-sandbox")
        seen = has_screen(environ)
        if not seen:
            command += [
                "--headless=new",
                "--disable-gpu",
                "--remote-debugging-port=0",
                "--remote-debugging-address=127.0.0.1",
            ]
        self._process = await asyncio.create_subprocess_exec(
            *command,
            address,
            stdin=asyncio.subprocess.DEVNULL,
            stdout=asyncio.subprocess.DEVNULL,
            stderr=asyncio.subprocess.DEVNULL,
            start_new_session=True,
            env=own_environment(environ, str(self._profile)) | needs,
        )
        told = self._profile / "DevToolsActivePort"
        for _ in range(200):
            if self._process.returncode is not None:
                raise DynamikosError(
                    f"The browser ended at once with code {self._process.returncode}; record by "
                    "doorway or proxy."
                )
            if seen or (told.exists() and told.read_text().strip()):
                break
            await asyncio.sleep(0.1)
        else:
            await self.aclose()
            raise DynamikosError(
                "The browser did not come up within 20 s; record by doorway or proxy."
            )
        if not seen:
            self.devtools = f"http://127.0.0.1:{told.read_text().split()[0]}"

    @property
    def alive(self) -> bool:
        return self._process is not None and self._process.returncode is None

    async def aclose(self) -> None:
        """Ends it and forgets its profile: cookies and sign-ins of a recording are not kept."""
        if self._process is not None:
            if self._process.returncode is None:
                self._process.terminate()
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(self._process.wait(), 5)
            with contextlib.suppress(ProcessLookupError):  # its children, which may still write
                os.killpg(self._process.pid, signal.SIGKILL)
            await self._process.wait()
        for _ in range(20):
            shutil.rmtree(self._profile, ignore_errors=True)
            if not self._profile.exists():
                break
            await asyncio.sleep(0.1)
