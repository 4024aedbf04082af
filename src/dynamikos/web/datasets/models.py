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
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "key"], name="dataset_key")]
        ordering = ["key"]

    def __str__(self) -> str:
        return self.name


class DataBlock(models.Model):
    """1,000 rows as compressed msgpack, by the sha256 of their plain form; shared by every table that holds them."""

    sha256 = models.CharField(primary_key=True, max_length=64)
    body = models.BinaryField()
