from django.db import models

from dynamikos.web.projects.models import Project
from dynamikos.web.ui.ids import new_id


class DataSet(models.Model):
    """A table of test data. `blocks` lists the hashes of its blocks of 1,000 rows, in order."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="datasets")
    key = models.CharField(max_length=80)
    name = models.CharField(max_length=120)
    columns = models.JSONField(default=list)
    secret = models.JSONField(default=list)
    rows = models.PositiveIntegerField(default=0)
    blocks = models.JSONField(default=list)
    sizes = models.JSONField(
        default=list
    )  # rows of each block; empty: a thousand each, but the last
    deal = models.JSONField(default=dict)  # core.dealing.Deal
    form = models.JSONField(default=dict)  # core.dealing.Form, of the file it was read from
    version = models.PositiveIntegerField(default=1)
    rehearsed = models.PositiveIntegerField(default=0)  # rows from the end, dealt to rehearsals
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="dataset_key")]
        ordering = ["key"]

    def __str__(self) -> str:
        return self.name


class DataState(models.Model):
    """What a data set was before a change, to go back to: lists of hashes, not rows."""

    dataset = models.ForeignKey(DataSet, on_delete=models.CASCADE, related_name="states")
    version = models.PositiveIntegerField()
    columns = models.JSONField()
    secret = models.JSONField()
    rows = models.PositiveIntegerField()
    blocks = models.JSONField()
    sizes = models.JSONField()
    label = models.CharField(max_length=120)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-version"]


class Upload(models.Model):
    """A file on its way into a data set: kept as it came while it is looked at."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="+")
    name = models.CharField(max_length=120)
    size = models.BigIntegerField()
    form = models.JSONField(default=dict)
    at = models.DateTimeField(auto_now_add=True)


class DataBlock(models.Model):
    """1,000 rows as compressed msgpack, by the sha256 of their plain form; shared by every table
    that holds them.
    """

    sha256 = models.CharField(primary_key=True, max_length=64)
    body = models.BinaryField()
