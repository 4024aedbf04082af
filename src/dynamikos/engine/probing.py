"""Reads a run's probes on its clock: each at the end of its seconds. One that fails is a gap, never
zeros.
"""

import asyncio
import logging
from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

import msgspec
import psutil
from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.probes import Host, Measured, Probe, Reader, wants
from dynamikos.core.probes.model import MOST_MEASURES
from dynamikos.core.probes.shots import Shot
from dynamikos.core.values import bind
from dynamikos.core.values.echoes import Echoes
from dynamikos.core.values.masking import Masker
from dynamikos.engine.failures import Failure
from dynamikos.engine.fetching import Fetcher
from dynamikos.engine.ports import Clock, Network

log = logging.getLogger(__name__)
LONGEST_S = 5.0
AT_ONCE_BYTES = 50_000
A_SECRET = "a secret that it was asked with"
ACCEPT = (
    ("User-Agent", "Dynamikos/0.1"),
    ("Accept", "application/openmetrics-text;version=1.0.0,text/plain;version=0.0.4;q=0.5"),
    ("Accept-Encoding", "identity"),
)


class ProbeSecond(msgspec.Struct, frozen=True, kw_only=True):
    """What a probe told at the end of a second of the run; `problem` says why it told nothing.
    `shots` are what a browser saw.
    """

    probe: str
    second: int
    values: dict[str, float] = {}
    units: dict[str, str] = {}
    problem: str = ""
    shots: list[Shot] = []
    unkept: str = ""  # what of its answer is not kept, and why


class Source(Protocol):
    """What is behind a probe. A reading takes `longest_s` at most; `shots` are those of the last
    one, `unkept` says what of it is not kept.
    """

    longest_s: float
    shots: list[Shot]
    unkept: str

    async def read(self) -> dict[Measured, float]:
        """Raises Failure or DynamikosError, which say why there is nothing."""
        ...

    async def aclose(self) -> None: ...


class Page:
    """A page in OpenMetrics or Prometheus' text format."""

    def __init__(
        self, probe: Probe, values: Mapping[str, str], network: Network, clock: Clock
    ) -> None:
        """Raises Failure for an address that may not be asked, and TemplateError for one with
        unknown names.
        """
        known = dict(values)
        headers = [(name, bind(value, known)) for name, value in probe.headers]
        said = {name.lower() for name, _ in headers}
        usual = [(name, value) for name, value in ACCEPT if name.lower() not in said]
        self._fetcher = Fetcher(network, clock, bind(probe.openmetrics, known), [*usual, *headers])
        self._patterns, self._clock = probe.measures, clock
        self._reader = Reader(probe.measures)
        self._echoes = Echoes(sent_secrets(known))
        self._repeats: dict[Measured, bool] = {}  # what was seen before is not looked at again
        self._at_work: asyncio.Future[dict[Measured, float]] | None = None
        self.longest_s = _longest(probe)
        self.shots: list[Shot] = []
        self.unkept = ""

    async def read(self) -> dict[Measured, float]:
        try:
            if self._at_work is not None and not self._at_work.done():
                raise DynamikosError(
                    "its last answer takes longer to read than there is time between two"
                )
            reply = await self._fetcher.get()
            if reply.status != 200:
                raise DynamikosError(f"it answered with status {reply.status}")
            found = await self._parsed(
                reply.body, (reply.field(b"content-type") or b"").decode("latin-1")
            )
            return self._kept(found)
        except (Failure, DynamikosError) as problem:
            self._reader = Reader(self._patterns)  # rates begin anew
            if str(problem) in self._echoes or getattr(problem, "detail", "") in self._echoes:
                raise DynamikosError(
                    f"it can't be read, and why not is left out: that repeats {A_SECRET}"
                ) from None
            raise
        except asyncio.CancelledError:
            self._reader = Reader(self._patterns)
            raise

    async def _parsed(self, body: bytes, kind: str) -> dict[Measured, float]:
        """Large answers are read by a thread, so that no other probe waits for this one; for small
        ones that would take longer than reading them.
        """
        reader, at_s = self._reader, self._clock.now()
        try:
            if len(body) <= AT_ONCE_BYTES:
                return reader.read(body, kind, at_s)
            self._at_work = asyncio.ensure_future(asyncio.to_thread(reader.read, body, kind, at_s))
            return await asyncio.shield(self._at_work)
        except DynamikosError:
            # what is quoted of it may be a part of a secret, which nothing would find any more
            if body.decode("utf-8", "replace") in self._echoes:
                raise DynamikosError(
                    f"it can't be read, and is not quoted: it repeats {A_SECRET}"
                ) from None
            raise

    def _kept(self, found: dict[Measured, float]) -> dict[Measured, float]:
        """Those measures that repeat nothing; `unkept` says how many are left out."""
        if len(self._repeats) > 4 * MOST_MEASURES:
            self._repeats.clear()
        for each in found:
            if each not in self._repeats:
                self._repeats[each] = each.name in self._echoes or each.unit in self._echoes
        made = {each: value for each, value in found.items() if not self._repeats[each]}
        said = []
        if len(made) < len(found):
            said.append(
                f"{len(found) - len(made):,} of its measures are not kept: their names repeat "
                f"{A_SECRET}"
            )
        if self._reader.left_out:
            said.append(
                f"{self._reader.left_out:,} measures beyond the first {MOST_MEASURES:,} are not "
                "kept; choose those"
                " that matter"
            )
        self.unkept = "; ".join(said)
        return made

    async def aclose(self) -> None:
        self._fetcher.close()


class Machine:
    """This machine, by psutil: shares in %, rates of what is counted."""

    def __init__(self, probe: Probe, clock: Clock) -> None:
        self._host, self._patterns, self._clock = probe.host or Host(), probe.measures, clock
        self.longest_s = _longest(probe)
        self.shots: list[Shot] = []
        self.unkept = ""
        self._before: dict[str, float] = {}
        self._spent: dict[
            str, float
        ] = {}  # by a process's command; and what each process had taken at the last look
        self._each: dict[str, dict[tuple[int, float], float]] = {}
        self._at = self._elapsed = 0.0

    async def read(self) -> dict[Measured, float]:
        now = self._clock.now()
        used, elapsed = self._processor()
        counted = {"processor": used, **self._counted()}
        made = {}
        if self._before and now > self._at:
            for name, value in counted.items():
                if name in self._before and value >= self._before[name]:
                    share, unit = (100.0, "%") if name.startswith("processor") else (1.0, "B/s")
                    span = now - self._at
                    if name == "processor":
                        # by the system's own count: what a host takes away comes into its books
                        # later
                        span = elapsed - self._elapsed
                    if span > 0:
                        made[Measured(name=name, unit=unit)] = (
                            share * (value - self._before[name]) / span
                        )
        self._before, self._at, self._elapsed = counted, now, elapsed
        memory = psutil.virtual_memory()
        made[Measured(name="memory used", unit="%")] = memory.percent
        made[Measured(name="load", unit="")] = psutil.getloadavg()[0]
        return {each: value for each, value in made.items() if wants(self._patterns, each.name)}

    @staticmethod
    def _processor() -> tuple[float, float]:
        """Seconds of all processors: in which something was done, here or by the host; and all."""
        times = psutil.cpu_times()
        every = sum(times) - times.guest - times.guest_nice  # these stand in `user` too
        return every - times.idle - times.iowait, every

    def _counted(self) -> dict[str, float]:
        made: dict[str, float] = {}
        disk, net = psutil.disk_io_counters(), psutil.net_io_counters()
        if disk is not None:
            made |= {"disk read": disk.read_bytes, "disk written": disk.write_bytes}
        if net is not None:
            made |= {"network in": net.bytes_recv, "network out": net.bytes_sent}
        listed = (
            list(psutil.process_iter(["cmdline", "cpu_times", "pid", "create_time"]))
            if self._host.processes
            else []
        )
        for part in self._host.processes:
            made[f"processor of {part}"] = self._processes(part, listed)
        return made

    def _processes(self, part: str, listed: Sequence[psutil.Process]) -> float:
        """Seconds of processor that those of `listed` with that command took since the first look;
        one that ends takes nothing away.
        """
        spent, before = self._spent.get(part, 0.0), self._each.get(part)
        now: dict[tuple[int, float], float] = {}
        for process in listed:
            if part in " ".join(process.info["cmdline"] or ()) and process.info["cpu_times"]:
                times = process.info["cpu_times"]
                now[process.info["pid"], process.info["create_time"]] = times.user + times.system
        if before is not None:
            spent += sum(max(0.0, took - before.get(key, 0.0)) for key, took in now.items())
        self._each[part], self._spent[part] = now, spent
        return spent

    async def aclose(self) -> None:
        """Nothing is held."""


def sent_secrets(values: Mapping[str, str]) -> list[str]:
    """Those among what texts name."""
    return [value for name, value in values.items() if name.startswith("secrets.")]


def _longest(probe: Probe) -> float:
    return min(LONGEST_S, max(0.9 * probe.every_s, 0.9))


def source_of(probe: Probe, values: Mapping[str, str], network: Network, clock: Clock) -> Source:
    """Raises Failure or TemplateError for an address that can't be asked."""
    return Machine(probe, clock) if probe.host is not None else Page(probe, values, network, clock)


async def try_once(source: Source, clock: Clock, every_s: float) -> dict[Measured, float]:
    """Two readings, so that rates are seen, too. Raises Failure or DynamikosError."""
    try:
        async with asyncio.timeout(LONGEST_S):
            await source.read()
            await clock.at(clock.now() + min(every_s, 1.0))
            return await source.read()
    except TimeoutError:
        raise DynamikosError(f"it did not answer within {LONGEST_S:g} s") from None
    finally:
        await source.aclose()


class Probing:
    """All probes of a run from second 0, the clock's instant `begin`, until it is cancelled."""

    def __init__(
        self,
        probes: Sequence[Probe],
        values: Mapping[str, str],
        network: Network,
        clock: Clock,
        begin: float,
        tell: Callable[[ProbeSecond], None],
        watcher: Callable[[Probe], Source] | None = None,
        secrets: Mapping[str, str] | None = None,
    ) -> None:
        """`watcher` makes the source of probes that are browsers, which only a process of its own
        can have. `secrets`, as "secrets.token", are masked in what is told.
        """
        self._probes, self._values, self._network = probes, {**values, **(secrets or {})}, network
        self._masker = Masker((secrets or {}).values())
        self._clock, self._begin, self._tell, self._watcher = clock, begin, tell, watcher

    async def run(self) -> None:
        await asyncio.gather(*(self._one(each) for each in self._probes))

    async def _one(self, probe: Probe) -> None:
        source: Source | None = None
        turn = max(1, int((self._clock.now() - self._begin) / probe.every_s) + 1)
        try:
            while True:
                await self._clock.at(self._begin + turn * probe.every_s)
                second = max(0, round(turn * probe.every_s) - 1)
                try:
                    if source is None:
                        source = self._source(probe)
                    async with asyncio.timeout(source.longest_s):
                        values = await source.read()
                    told = ProbeSecond(
                        probe=probe.probe,
                        second=second,
                        values={each.name: value for each, value in values.items()},
                        units={each.name: each.unit for each in values},
                        shots=source.shots,
                        unkept=source.unkept,
                    )
                except TimeoutError:
                    told = ProbeSecond(
                        probe=probe.probe, second=second, problem="it did not answer in time"
                    )
                except Failure as failure:
                    told = ProbeSecond(
                        probe=probe.probe, second=second, problem=failure.detail or failure.kind
                    )
                except DynamikosError as problem:
                    shots = source.shots if source is not None else []
                    told = ProbeSecond(
                        probe=probe.probe, second=second, problem=str(problem), shots=shots
                    )
                except Exception as problem:  # the others go on
                    log.exception("the probe %s can't be read", probe.probe)
                    told = ProbeSecond(
                        probe=probe.probe, second=second, problem=f"it can't be read: {problem!r}"
                    )
                self._tell(
                    replace(told, problem=self._masker.text(told.problem)) if told.problem else told
                )
                turn = max(turn + 1, int((self._clock.now() - self._begin) / probe.every_s) + 1)
        finally:
            if source is not None:
                await source.aclose()

    def _source(self, probe: Probe) -> Source:
        if not probe.browser:
            return source_of(probe, self._values, self._network, self._clock)
        if self._watcher is None:
            raise DynamikosError(
                "a browser is started by the process of its own that reads this probe"
            )
        return self._watcher(probe)
