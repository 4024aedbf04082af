from django.db import models
from django.utils import timezone

from dynamikos.core.lifecycles import RUN, moved, over
from dynamikos.core.verdicts.ending import Ending, ending_of, plain
from dynamikos.web.accounts.models import Account
from dynamikos.web.places.models import Generator
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.models import Project
from dynamikos.web.ui.ids import new_id

PROBES = "dynamikos_probes"  # NOTIFY on it wakes the process that reads probes


class Run(models.Model):
    """One execution with its frozen inputs. Second 0 of the run clock is `begins_at` (UTC, the
    database's clock).
    """

    class State(models.TextChoices):
        ASKED = "asked"
        RUNNING = "running"
        ENDED = "ended"
        REFUSED = "refused"

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="runs")
    plan = models.ForeignKey(LoadPlan, on_delete=models.SET_NULL, null=True, related_name="runs")
    number = models.PositiveIntegerField()
    name = models.CharField(max_length=160)
    state = models.CharField(max_length=10, choices=State.choices, default=State.ASKED)
    frozen = models.BinaryField()
    sha256 = models.CharField(max_length=64)
    asked_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    asked_at = models.DateTimeField(auto_now_add=True)
    begins_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    ending = models.JSONField(null=True)  # core.verdicts.ending.Ending
    watermark = models.IntegerField(default=-1)  # seconds up to and with this one are in frames
    chunked = models.IntegerField(
        default=-1
    )  # minutes up to and with this one are in chunks and blocks
    outcome = models.JSONField(null=True)
    remark = models.TextField(blank=True)
    of_set = models.UUIDField(
        null=True
    )  # of runs that repeat each other; and which of how many this one is
    set_place = models.PositiveSmallIntegerField(default=1)
    set_size = models.PositiveSmallIntegerField(default=1)
    not_before = models.DateTimeField(null=True)
    lease_until = models.DateTimeField(
        null=True
    )  # renewed by the shell that waits for it; without one it stops then
    is_trial = models.BooleanField(default=False)
    is_folded = models.BooleanField(
        default=True
    )  # false of a run of an earlier day, until it is folded anew
    rejudged = models.JSONField(null=True)  # judgements with other objectives: at, by, judgements
    figures = models.JSONField(
        null=True
    )  # list of core.comparison.Figure, once it is over: what a trend is made of
    is_archived = models.BooleanField(default=False)
    is_starred = models.BooleanField(default=False)
    tags = models.CharField(max_length=200, blank=True)
    findings = models.JSONField(null=True)  # list of core.findings.Found, once it is over
    capacity = models.JSONField(
        null=True
    )  # core.analysis.Capacity, where it had several levels of load
    differs = models.JSONField(
        null=True
    )  # from the run of its plan before, in words; null where there is none
    marks = models.JSONField(
        default=dict
    )  # of objectives by interval, while it runs: number → list of Mark

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "number"], name="run_number")]
        ordering = ["-asked_at"]

    @property
    def is_over(self) -> bool:
        return self.state in over(RUN)

    @property
    def ended(self) -> str:
        """How it ended, in words; nothing while it goes on."""
        known = ending_of(self.ending)
        return known.words if known is not None else ""

    def end(self, state: str, ending: Ending) -> None:
        """It ends so, now; the caller saves it. Raises WrongStep."""
        self.state, self.ending, self.ended_at = (
            moved(RUN, self.state, state),
            plain(ending),
            timezone.now(),
        )


class Shard(models.Model):
    """The part of a run that one generator performs."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="shards")
    number = models.PositiveIntegerField()
    generator = models.ForeignKey(Generator, on_delete=models.SET_NULL, null=True)
    generator_name = models.CharField(max_length=120, default="")
    place = models.CharField(max_length=60, default="")  # where the generator stands
    state = models.CharField(max_length=10, default="assigned")  # core.lifecycles.SHARD
    ending = models.JSONField(null=True)  # core.verdicts.ending.Ending
    offset_us = models.BigIntegerField(default=0)
    offset_error_us = models.IntegerField(default=0)
    lost_at_s = models.IntegerField(null=True)
    by_value = models.BinaryField(
        default=bytes
    )  # core.reports.by_value.ByValue, the newest that came

    class Meta:
        constraints = [models.UniqueConstraint(fields=["run", "number"], name="shard_number")]
        ordering = ["number"]


class ByValueAt(models.Model):
    """What a shard had counted by value since its begin, at the end of a second
    (core.reports.by_value.is_kept).
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="by_value_at")
    shard = models.PositiveIntegerField()
    second = models.PositiveIntegerField()
    body = models.BinaryField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["run", "shard", "second"], name="by_value_at_once")
        ]


class Pile(models.Model):
    """A pile of rows that the run's shards share: `next` is the first taking nobody was granted
    yet.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="piles")
    name = models.CharField(max_length=170)
    rows = models.BigIntegerField()
    endless = models.BooleanField(default=False)
    next = models.BigIntegerField(default=0)
    wanted = models.BooleanField(
        default=False
    )  # somebody waits for rows that others hold and have not used

    class Meta:
        constraints = [models.UniqueConstraint(fields=["run", "name"], name="pile_once")]


class Lease(models.Model):
    """Takings granted to a shard (−1: returned, free for the next); `begun` as soon as a later one
    was asked for, `done` when they are used up.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="leases")
    name = models.CharField(max_length=170)
    shard = models.IntegerField()
    first = models.BigIntegerField()
    count = models.BigIntegerField()
    begun = models.BooleanField(default=False)
    done = models.BooleanField(default=False)

    class Meta:
        indexes = [models.Index(fields=["run", "name", "shard"])]


class Delivery(models.Model):
    """The run's secrets boxed for the generator of one shard; deleted at the end of the run."""

    shard = models.OneToOneField(Shard, on_delete=models.CASCADE, related_name="delivery")
    body = models.BinaryField()


class WrittenRow(models.Model):
    """A row that a journey wrote back, on its way into its data set.

    A shard numbers its own, so that none comes twice.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="written")
    shard = models.PositiveIntegerField(default=0)
    sequence = models.PositiveIntegerField(null=True)
    into = models.CharField(max_length=80)
    row = models.JSONField()  # (column, text) in order

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["run", "shard", "sequence"], name="written_once")
        ]


class Report(models.Model):
    """A shard's second as the generator sent it. Nothing lost, nothing twice."""

    shard = models.ForeignKey(Shard, on_delete=models.CASCADE, related_name="reports")
    second = models.IntegerField()
    body = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shard", "second"], name="report_once")]


class Command(models.Model):
    """An order to a run's generators, numbered; NOTIFY is only a hint."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="commands")
    verb = models.CharField(max_length=20)  # stop-gently, stop-now, hold, go-on, change
    ending = models.JSONField(
        null=True
    )  # of a stop that nobody's hand gave: core.verdicts.ending.Ending
    at_s = models.IntegerField(null=True)  # second of the run from which on it holds
    factor = models.FloatField(null=True)  # of a change of load
    asked_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]


class Chunk(models.Model):
    """A minute of one series: list of (second, wire form), their total, and
    core.reports.folding.Coarse of it. Of all shards added up (`shard` −1); rounds and steps of each
    shard besides, where there are several.
    """

    ALL = -1

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="chunks")
    series = models.PositiveIntegerField()
    shard = models.IntegerField(default=ALL)
    minute = models.PositiveIntegerField()
    seconds = models.BinaryField()
    total = models.BinaryField()
    coarse = models.BinaryField(default=bytes)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["run", "series", "shard", "minute"], name="chunk_once")
        ]


class Second(models.Model):
    """A second of the whole run that is in no chunk yet: compressed
    core.reports.chunk_extras.Folded.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="seconds")
    second = models.PositiveIntegerField()
    body = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["run", "second"], name="second_once")]


class Minute(models.Model):
    """A minute of the whole run besides its series: compressed lists of
    core.reports.chunk_extras.Beside, and of rows dealt.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="minutes")
    minute = models.PositiveIntegerField()
    besides = models.BinaryField()
    dealt = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["run", "minute"], name="minute_once")]


class Measure(models.Model):
    """A measure that a probe of a run told of, numbered as it came; `unit` stands behind its
    figures.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="measures")
    no = models.PositiveIntegerField()
    probe = models.CharField(max_length=64)
    name = models.CharField(max_length=300)
    unit = models.CharField(max_length=30, blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["run", "no"], name="measure_no"),
            models.UniqueConstraint(fields=["run", "probe", "name", "unit"], name="measure_once"),
        ]
        ordering = ["no"]


class MeasureMinute(models.Model):
    """A minute of one measure: 60 little-endian float64, NaN where there is none."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="measure_minutes")
    no = models.PositiveIntegerField()
    minute = models.PositiveIntegerField()
    values = models.BinaryField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["run", "no", "minute"], name="measure_minute_once")
        ]


class Reading(models.Model):
    """What all probes told of one second that is in no MeasureMinute yet: values by number."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="readings")
    second = models.PositiveIntegerField()
    values = models.JSONField()

    class Meta:
        ordering = ["id"]


class ProbeTry(models.Model):
    """A probe of a plan is to be read twice, for whoever writes the plan; `answer` is (name, unit,
    value) of what it told, or why it told nothing.
    """

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="+")
    frozen = models.BinaryField()
    probe = models.CharField(max_length=64)
    is_taken = models.BooleanField(default=False)
    answer = models.JSONField(null=True)
    at = models.DateTimeField(auto_now_add=True)


class Baseline(models.Model):
    """Runs that those of a plan are held against; the newest of a plan counts."""

    plan = models.ForeignKey(LoadPlan, on_delete=models.CASCADE, related_name="baselines")
    runs = models.ManyToManyField(Run, related_name="baselines")
    by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)
    why = models.TextField(blank=True)


class Shot(models.Model):
    """What a browser saw of a page at a second of a run, with the figures of that look (ms; layout
    shift has none).
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="shots")
    probe = models.CharField(max_length=64)
    page = models.CharField(max_length=300)
    second = models.PositiveIntegerField()
    figures = models.JSONField()
    problem = models.CharField(max_length=300, blank=True)
    jpeg = models.BinaryField()

    class Meta:
        indexes = [models.Index(fields=["run", "second"], name="shot_second")]
        ordering = ["second", "id"]


class Remark(models.Model):
    """Something to be known of a second of the run: a person wrote it, or (`by` none) Dynamikos."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="remarks")
    second = models.PositiveIntegerField()
    text = models.CharField(max_length=500)
    by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["second", "id"]


class Watch(models.Model):
    """Somebody looks at the users of a run, or follows one of them (0: none), until then."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="watches")
    user = models.PositiveIntegerField(default=0)
    until = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["run", "user"], name="watch_once")]


class Seen(models.Model):
    """Who is on a shard: core.reports.present.Present as JSON, while somebody watches."""

    shard = models.OneToOneField(Shard, on_delete=models.CASCADE, related_name="seen")
    body = models.BinaryField()
    at = models.DateTimeField()


class Followed(models.Model):
    """A user that somebody follows or followed, as last shown: core.reports.present.UserNow as
    JSON.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="followed")
    user = models.PositiveIntegerField()
    second = models.PositiveIntegerField()
    generator_name = models.CharField(max_length=120)
    body = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["run", "user"], name="followed_once")]


class Block(models.Model):
    """Ten minutes of one series: the fine total, and core.reports.folding.Coarse of it."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="blocks")
    series = models.PositiveIntegerField()
    ten_minutes = models.PositiveIntegerField()
    total = models.BinaryField()
    coarse = models.BinaryField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["run", "series", "ten_minutes"], name="block_once")
        ]


class Kept(models.Model):
    """An exchange kept for reading: compressed msgpack of core.reports.KeptExchange, masked by the
    generator. A shard numbers its own, so that none comes twice.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="kept")
    shard = models.PositiveIntegerField()
    sequence = models.PositiveIntegerField(null=True)
    second = models.IntegerField()
    series = models.PositiveIntegerField()
    reason = models.CharField(max_length=120)
    user = models.PositiveIntegerField()
    round = models.PositiveIntegerField()
    body = models.BinaryField()

    class Meta:
        indexes = [models.Index(fields=["run", "second"])]
        constraints = [
            models.UniqueConstraint(fields=["run", "shard", "sequence"], name="kept_once")
        ]
