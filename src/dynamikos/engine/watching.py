"""A browser that looks at pages during a run: Debian's Chromium without a window, driven by Playwright.

Each look is a first visit with an empty cache. Its times are the browser's own (W3C Navigation Timing, Paint Timing,
Largest Contentful Paint, Layout Instability), from the begin of the navigation on.
"""

import asyncio
import contextlib
from collections.abc import Mapping, Sequence
from pathlib import Path
from urllib.parse import urlsplit

from playwright.async_api import Browser, Error, Page, Playwright, async_playwright

from dynamikos.chromium import CHROMIUM, unseen
from dynamikos.core.errors import DynamikosError
from dynamikos.core.plans import AgreedTarget, Way
from dynamikos.core.probes import Measured, Probe
from dynamikos.core.probes.shots import Shot, shifted
from dynamikos.core.values import bind
from dynamikos.engine.gate import Gate

# for what a page may send without asking its proxy
BY_THE_GATE = "--force-webrtc-ip-handling-policy=disable_non_proxied_udp"
WIDTH, HEIGHT, QUALITY = 1280, 800, 55
SETTLES_MS = 400  # after which what was painted last has been told
FIGURES = """async (settles) => {
  const told = { largest: null, shifts: [] };
  const watch = (type, take) => new PerformanceObserver((list) => list.getEntries().forEach(take))
    .observe({ type, buffered: true });
  watch('largest-contentful-paint', (entry) => { told.largest = entry.startTime; });
  watch('layout-shift', (entry) => { if (!entry.hadRecentInput) told.shifts.push([entry.startTime, entry.value]); });
  await new Promise((done) => setTimeout(done, settles));
  const [page] = performance.getEntriesByType('navigation');
  const first = performance.getEntriesByName('first-contentful-paint')[0];
  return { ...told, firstByte: page.responseStart, load: page.loadEventEnd, status: page.responseStatus,
    first: first ? first.startTime : null };
}"""


class Watcher:
    """One browser for the pages of a probe. It is started when it is needed, and again when it was lost."""

    def __init__(
        self,
        probe: Probe,
        values: Mapping[str, str],
        agreed: Sequence[AgreedTarget],
        way: Way,
        own_ports: frozenset[int] = frozenset(),
    ) -> None:
        """Raises TemplateError for addresses with unknown names, DynamikosError for those that can't be looked at."""
        self._pages = [bind(each, dict(values)) for each in probe.browser]
        for each in self._pages:
            if urlsplit(each).scheme not in ("http", "https"):
                raise DynamikosError(f"{each[:80]} is no http(s) address")
        if way.proxy:
            raise DynamikosError("a browser does not go through the environment's proxy yet; take this probe away")
        self._longest_ms = 1000 * max(1.0, 0.9 * probe.every_s)
        self._gate = Gate(agreed, own_ports, way.hosts)
        self._trusts_other = way.trust != "system"
        self._play: Playwright | None = None
        self._browser: Browser | None = None
        self.longest_s = max(30.0, probe.every_s) + 10.0
        self.shots: list[Shot] = []

    async def read(self) -> dict[Measured, float]:
        """Looks at each page once; what is measured of those that could be looked at. Raises DynamikosError when that
        was none of them.
        """
        self.shots = []
        browser = await self._started()
        made: dict[Measured, float] = {}
        problems = []
        for address in self._pages:
            shot = await self._look(browser, address)
            self.shots.append(shot)
            if shot.problem:
                problems.append(f"{named(address)}: {shot.problem}")
            for name, value in shot.figures.items():
                unit = "" if name == "layout shift" else "ms"
                made[Measured(name=f'{name}{{page="{named(address)}"}}', unit=unit)] = value
        if problems and not made:
            raise DynamikosError("; ".join(problems))
        return made

    async def _started(self) -> Browser:
        if self._browser is not None and self._browser.is_connected():
            return self._browser
        await self.aclose()
        if not Path(CHROMIUM).exists():
            raise DynamikosError(f"there is no browser at {CHROMIUM}; install Debian's package chromium")
        port = await self._gate.listen()
        try:
            self._play = await async_playwright().start()
            self._browser = await self._play.chromium.launch(
                **unseen(BY_THE_GATE), proxy={"server": f"http://127.0.0.1:{port}", "bypass": "<-loopback>"}
            )
        except (Error, OSError) as problem:
            await self.aclose()
            raise DynamikosError(f"the browser did not come up: {_brief(problem)}") from problem
        return self._browser

    async def _look(self, browser: Browser, address: str) -> Shot:
        self._gate.refused.clear()
        page: Page | None = None
        figures: dict[str, float] = {}
        problem = ""
        try:
            page = await browser.new_page(
                viewport={"width": WIDTH, "height": HEIGHT}, ignore_https_errors=self._trusts_other
            )
            answer = await page.goto(address, wait_until="load", timeout=self._longest_ms)
            if answer is not None and answer.status >= 400:
                problem = self._refused(address) or f"it answered with status {answer.status}"
            else:
                figures = _figures(await page.evaluate(FIGURES, SETTLES_MS))
        except Error as wrong:
            problem = self._refused(address) or _brief(wrong)
        jpeg = b""
        if page is not None:
            with contextlib.suppress(Error):
                jpeg = await page.screenshot(type="jpeg", quality=QUALITY, timeout=5000)
            with contextlib.suppress(Error):
                await page.context.close()
        return Shot(page=named(address), jpeg=jpeg, figures=figures, problem=problem)

    def _refused(self, address: str) -> str:
        """Why the gate did not lead to the page itself."""
        parts = urlsplit(address)
        place = f"{parts.hostname}:{parts.port or (443 if parts.scheme == 'https' else 80)}"
        return self._gate.refused.get(place, "")

    async def aclose(self) -> None:
        """Ends the browser; the next reading starts another."""
        browser, play, self._browser, self._play = self._browser, self._play, None, None
        with contextlib.suppress(Error, OSError, asyncio.TimeoutError):
            async with asyncio.timeout(5):
                if browser is not None:
                    await browser.close()
                if play is not None:
                    await play.stop()
        await self._gate.aclose()


def named(address: str) -> str:
    """A page as its measures name it: what identifies it, without the host."""
    parts = urlsplit(address)
    return ((parts.path or "/") + (f"?{parts.query}" if parts.query else "")).replace('"', "%22")[:120]


def _figures(told: Mapping[str, object]) -> dict[str, float]:
    names = {"firstByte": "first byte", "first": "first paint", "largest": "largest paint", "load": "load"}
    made = {words: float(told[key]) for key, words in names.items() if told[key]}  # type: ignore[arg-type]
    made["layout shift"] = round(shifted(told["shifts"]), 4)  # type: ignore[arg-type]
    return made


def _brief(problem: BaseException) -> str:
    return (str(problem).strip().splitlines() or [type(problem).__name__])[0][:200]
