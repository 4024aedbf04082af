"""One message a second and shard: complete when sent, empty ones too (absent = unknown, zero =
zero).
"""

import zlib

import msgspec

from dynamikos.core.failure_kinds import Leaving
from dynamikos.core.reports.by_value import ByValue

VERSION = 1
FAILED = "failed: "  # what the reason of an exchange that was kept for its failure begins with
QUIET_US = 1000  # own delay up to which a second is quiet


class SeriesSecond(msgspec.Struct, array_like=True, kw_only=True):
    """One series in one second. Histograms are `Histogram.to_bytes`; sums in µs and µs²; `failed`
    counts by kind.
    """

    no: int
    n: int = 0
    sum_us: int = 0
    squares: str = "0"  # Σx² in µs², as decimal text: it outgrows 64 bits
    hist: bytes = b""
    failed: dict[str, int] = {}
    failed_sum_us: int = 0
    failed_hist: bytes = b""
    ttfb_hist: bytes = b""
    bytes_out: int = 0
    bytes_in: int = 0
    tries: int = 0  # of a step that repeats
    connects: int = 0  # connections opened for it, and how long that took, names looked up too
    connect_us: int = 0
    handshakes: int = 0  # TLS handshakes among them, and how many resumed an earlier session
    tls_us: int = 0
    resumed: int = 0
    left: int = 0  # that a user did not wait for
    cached: int = 0  # that a user had fresh in its cache: nothing was sent
    # what did not end by itself (own time-outs, patience, users taken away), at its age when it was
    # cut off; of what is carried beyond the measured part: the age that it had at the end of that
    cut_hist: bytes = b""
    cut_sum_us: int = 0
    # the generator's own delay: what each sample can have lost by it at most, in µs; where that is
    # much (QUIET_US), the distribution without it instead: each sample less what it can have lost
    own_us: int = 0
    low_hist: bytes = b""
    quiet_us: int = 0  # the smallest sample of seconds in which little was lost; 0: there is none


class Health(msgspec.Struct, array_like=True, frozen=True, kw_only=True):
    """The generator's own health in a second. Shares 0…1 of one core; lateness of planned instants
    in µs.
    """

    cpu_share: float = 0.0
    late_p50_us: int = 0
    late_p99_us: int = 0
    late_max_us: int = 0
    stall_max_us: int = 0
    memory_bytes: int = 0
    sockets: int = 0
    unsent: int = 0
    machine_share: float = 0.0
    wait_share: float = 0.0  # of the second in which it was ready to go on and got no processor
    throttled_share: float = 0.0  # in which the container's limit held it back
    stolen_share: float = 0.0  # of the machine's time that its host gave to others
    # how long it could not run although it was ready, or was stopped, and the longest such time
    stopped_us: int = 0
    stopped_max_us: int = 0
    stopped_long_us: int = 0  # of it in stops of 20 ms and more
    stops_by: str = ""  # what those were seen by: "thread", or "loop" where there was no compiler

    @property
    def late_by(self) -> tuple[str, ...]:
        """Why a second is late, if it is: planned instants at p99 more than 10 ms late; the loop
        stalled for more than 20 ms; more than 85 % of a core; the machine busy to more than 95 %,
        its time stolen, or no processor for more than 10 %; the container's limit.
        """
        machine = self.machine_share > 0.95 or self.wait_share > 0.1 or self.stolen_share > 0.1
        found = {
            "lateness": self.late_p99_us > 10_000,
            "stall": self.stall_max_us > 20_000,
            "processor": self.cpu_share > 0.85,
            "machine": machine,
            "container limit": self.throttled_share > 0,
        }
        return tuple(name for name, is_so in found.items() if is_so)

    def worse(self, other: "Health") -> "Health":
        """Each share, delay and stop as the worse of both."""
        names = (
            "cpu_share",
            "late_p99_us",
            "stall_max_us",
            "wait_share",
            "throttled_share",
            "stolen_share",
            "stopped_max_us",
        )
        return Health(**{name: max(getattr(self, name), getattr(other, name)) for name in names})

    @property
    def is_late(self) -> bool:
        return bool(self.late_by)


class ShardSecond(msgspec.Struct, array_like=True, kw_only=True):
    """All of a shard's second. `users` by state; the counters count exchanges on the wire, redirect
    hops and embedded too.
    """

    version: int = VERSION
    shard: int
    second: int
    planned_users: int = 0
    users: dict[str, int] = {}
    sent: int = 0
    answered: int = 0
    failed: int = 0
    in_flight: int = 0
    oldest_us: int = 0
    reopened: int = 0
    skipped_steps: int = 0
    checks_passed: int = 0
    checks_failed: int = 0
    retired: dict[str, int] = {}  # of an earlier day: sentences of `leavings`
    leavings: list[Leaving] = []
    series: list[SeriesSecond] = []
    health: Health = Health()
    last: bool = False
    # (number of the pile, user, round, row from 0): who got what in this second
    dealt: list[tuple[int, int, int, int]] = []
    judged: dict[
        int, int
    ] = {}  # how often the checks of a request were asked, by its first check's number
    missed: dict[int, int] = {}  # how often a check was not passed, by its number
    # what was under way when the measured part ended: what ended in this second, and, in the last
    # message, (series, age in µs) of what never did
    carried: list[SeriesSecond] = []
    open: list[tuple[int, int]] = []
    arrivals: tuple[int, int, int] = (
        0,
        0,
        0,
    )  # planned for this second: started, turned away, not started
    late_rounds: int = 0
    abandoned: int = 0  # exchanges that users left without waiting for them
    by_row: dict[int, int] = {}  # users there, by the number of their row
    # by the number of an objective that is judged by interval: what is under way for longer than
    # its limit
    older: dict[int, int] = {}
    left: int = 0  # users who did not wait for a step and left, and who began it anew
    reloaded: int = 0
    learned_late: int = 0  # changes of the load that the shard learned of after their second
    by_value: ByValue | None = None  # every ten seconds and in the last one, once something failed


class KeptExchange(msgspec.Struct, kw_only=True):
    """An exchange kept for reading, masked before it left the generator. Bodies are texts cut at 64
    kB.
    """

    second: int
    series: int
    step: str
    request: str
    reason: str
    user: int
    round: int
    method: str
    url: str
    sent_headers: list[tuple[str, str]] = []
    sent_body: str = ""
    status: int = 0
    headers: list[tuple[str, str]] = []
    body: str = ""
    size_bytes: int = 0
    duration_us: int = 0
    parts_us: dict[str, int] = {}
    error: str = ""
    expected: str = ""
    actual: str = ""
    variables: dict[str, str] = {}
    captured: dict[str, str] = {}
    recorded: int | None = None
    trace: str = ""
    hop: int = 0  # how many redirects came before it
    resumed: bool = False  # whether its connection resumed an earlier TLS session
    before: dict[str, str] = {}  # the values before its request was built
    rows: dict[
        str, int
    ] = {}  # data set, or data set.column, → number of the row its values came from
    resource: bool = False  # whether it is a resource that the answer to `request` embeds
    ended_us: int = 0  # when it ended, on the run's clock; 0 in those of earlier days
    item: str = (
        ""  # what else was done, when it is no exchange: set, log, choose, …; `error` says it then
    )

    @property
    def failure(self) -> str:
        """Its kind of failure; "" where it passed."""
        return self.reason.removeprefix(FAILED) if self.reason.startswith(FAILED) else ""


_encoder = msgspec.msgpack.Encoder()
_decoder = msgspec.msgpack.Decoder(ShardSecond)


_kept_encoder = msgspec.msgpack.Encoder()
_kept_decoder = msgspec.msgpack.Decoder(KeptExchange)


def pack_kept(exchange: KeptExchange) -> bytes:
    """As it lies in the database: msgpack, compressed."""
    return zlib.compress(_kept_encoder.encode(exchange), 1)


def unpack_kept(body: bytes) -> KeptExchange:
    return _kept_decoder.decode(zlib.decompress(body))


def encode(message: ShardSecond) -> bytes:
    return _encoder.encode(message)


def decode(data: bytes) -> ShardSecond:
    """Raises ValueError for another version or a damaged message."""
    try:
        message = _decoder.decode(data)
    except msgspec.MsgspecError as problem:
        raise ValueError(f"a report can't be read: {problem}") from problem
    if message.version != VERSION:
        raise ValueError(f"a report has version {message.version}; this one reads {VERSION}")
    return message
