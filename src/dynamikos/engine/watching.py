"""A browser that looks at pages during a run: Debian's Chromium without a window, driven by
Playwright.

Each look is a first visit with an empty cache. Its times are the browser's own (W3C Navigation
Timing, Paint Timing, Largest Contentful Paint, Layout Instability), from the begin of the
navigation on.
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
from dynamikos.core.ports import port_of
from dynamikos.core.probes import Measured, Probe
from dynamikos.core.probes.shots import Shot, shifted
from dynamikos.core.values import bind
from dynamikos.core.values.echoes import Echoes
from dynamikos.core.values.masking import MASK, Masker
from dynamikos.engine.gate import Gate
from dynamikos.engine.probing import A_SECRET, sent_secrets

# for what a page may send without asking its proxy
BY_THE_GATE = "--force-webrtc-ip-handling-policy=disable_non_proxied_udp"
WIDTH, HEIGHT, QUALITY = 1280, 800, 55
SETTLES_MS = 400  # after which what was painted last has been told
START_S, AFTER_S = (
    15.0,
    20.0,
)  # at most: for the browser to come up, and for a page after it has been loaded
# whatever a picture may show as letters
TEXTS = """() => [document.title, document.body ? document.body.innerText : '',
  ...[...document.querySelectorAll('input, textarea')].map((field) => field.value),
  ...[...document.querySelectorAll('svg text')].map((text) => text.textContent)].join('\\n')"""
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
}"""  # noqa: E501


class Watcher:
    """One browser for the pages of a probe. It is started when it is needed, and again when it was
    lost.
    """

    def __init__(
        self,
        probe: Probe,
        values: Mapping[str, str],
        agreed: Sequence[AgreedTarget],
        way: Way,
        own_ports: frozenset[int] = frozenset(),
    ) -> None:
        """Raises TemplateError for addresses with unknown names, DynamikosError for those that
        can't be looked at.
        """
        known = dict(values)
        secrets = sent_secrets(known)
        self._masker, self._echoes = Masker(secrets), Echoes(secrets)
        shown = {
            name: MASK if name.startswith("secrets.") else value for name, value in known.items()
        }
        self._pages = [(bind(each, known), named(bind(each, shown))) for each in probe.browser]
        for each, _ in self._pages:
            if urlsplit(each).scheme not in ("http", "https"):
                raise DynamikosError(f"{each[:80]} is no http(s) address")
        if way.proxy:
            raise DynamikosError(
                "a browser does not go through the environment's proxy yet; take this probe away"
            )
        self._longest_ms = 1000 * max(1.0, 0.9 * probe.every_s)
        self._gate = Gate(agreed, own_ports, way.hosts)
        self._trusts_other = way.trust != "system"
        self._play: Playwright | None = None
        self._browser: Browser | None = None
        self.longest_s = START_S + len(self._pages) * (self._longest_ms / 1000 + AFTER_S)
        self.shots: list[Shot] = []
        self.unkept = ""

    async def read(self) -> dict[Measured, float]:
        """Looks at each page once; what is measured of those that could be looked at. Raises
        DynamikosError when that was none of them.
        """
        self.shots = []
        await self._started()
        made: dict[Measured, float] = {}
        problems = []
        shy = []
        for address, name in self._pages:
            shot, repeats = await self._look(await self._started(), address, name)
            self.shots.append(shot)
            if repeats:
                shy.append(name)
            if shot.problem:
                problems.append(f"{name}: {shot.problem}")
            for figure, value in shot.figures.items():
                unit = "" if figure == "layout shift" else "ms"
                made[Measured(name=f'{figure}{{page="{name}"}}', unit=unit)] = value
        self.unkept = (
            f"pictures of {', '.join(shy)} are not kept: they show {A_SECRET}" if shy else ""
        )
        if problems and not made:
            raise DynamikosError("; ".join(problems))
        return made

    async def _started(self) -> Browser:
        if self._browser is not None and self._browser.is_connected():
            return self._browser
        await self.aclose()
        if not Path(CHROMIUM).exists():
            raise DynamikosError(
                f"there is no browser at {CHROMIUM}; install Debian's package chromium"
            )
        port = await self._gate.listen()
        try:
            self._play = await async_playwright().start()
            self._browser = await self._play.chromium.launch(
                **unseen(BY_THE_GATE),
                proxy={"server": f"http://127.0.0.1:{port}", "bypass": "<-loopback>"},
            )
        except (Error, OSError) as problem:
            await self.aclose()
            raise DynamikosError(
                f"the browser did not come up: {self._brief(problem)}"
            ) from problem
        return self._browser

    async def _look(self, browser: Browser, address: str, name: str) -> tuple[Shot, bool]:
        """What was seen of a page, and whether its picture is left out since it shows a secret."""
        self._gate.refused.clear()
        page: Page | None = None
        figures: dict[str, float] = {}
        problem, jpeg, repeats = "", b"", False
        try:
            page = await browser.new_page(
                viewport={"width": WIDTH, "height": HEIGHT}, ignore_https_errors=self._trusts_other
            )
            answer = await page.goto(address, wait_until="load", timeout=self._longest_ms)
            if answer is not None and answer.status >= 400:
                problem = self._refused(address) or f"it answered with status {answer.status}"
            else:
                async with asyncio.timeout(
                    AFTER_S / 2
                ):  # a page that is busy with itself answers nothing
                    figures = _figures(await page.evaluate(FIGURES, SETTLES_MS))
        except TimeoutError:
            problem = "it is too busy to tell its times"
        except Error as wrong:
            problem = self._refused(address) or self._brief(wrong)
        if page is not None:
            with contextlib.suppress(Error, TimeoutError):
                async with asyncio.timeout(AFTER_S / 4):
                    repeats = any(
                        [await frame.evaluate(TEXTS) in self._echoes for frame in page.frames]
                    )
                    if not repeats:
                        jpeg = await page.screenshot(type="jpeg", quality=QUALITY, timeout=5000)
            try:
                async with asyncio.timeout(AFTER_S / 4):
                    await page.context.close()
            except (Error, TimeoutError):
                await (
                    self.aclose()
                )  # a page that does not end would take a processor until the run is over
        return Shot(page=name, jpeg=jpeg, figures=figures, problem=problem), repeats

    def _refused(self, address: str) -> str:
        """Why the gate did not lead to the page itself."""
        parts = urlsplit(address)
        place = f"{parts.hostname}:{port_of(parts)}"
        return self._gate.refused.get(place, "")

    def _brief(self, problem: BaseException) -> str:
        """Its first line without secrets."""
        said = self._masker.text((str(problem).strip().splitlines() or [type(problem).__name__])[0])
        return (
            "it failed, and how is left out: that repeats " + A_SECRET
            if said in self._echoes
            else said[:200]
        )

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
    return ((parts.path or "/") + (f"?{parts.query}" if parts.query else "")).replace('"', "%22")[
        :120
    ]


def _figures(told: Mapping[str, object]) -> dict[str, float]:
    names = {
        "firstByte": "first byte",
        "first": "first paint",
        "largest": "largest paint",
        "load": "load",
    }
    made = {words: float(told[key]) for key, words in names.items() if told[key]}  # type: ignore[arg-type]
    made["layout shift"] = round(shifted(told["shifts"]), 4)  # type: ignore[arg-type]
    return made
