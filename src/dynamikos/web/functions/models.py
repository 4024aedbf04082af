from django.db import models

from dynamikos.web.accounts.models import Account
from dynamikos.web.places.models import Generator
from dynamikos.web.projects.models import Project
from dynamikos.web.ui.ids import new_id


class Module(models.Model):
    """A Python module of the project; `names` are the functions it has, found by reading it, never
    by running it.
    """

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="modules")
    name = models.CharField(max_length=60)
    source = models.TextField()
    names = models.JSONField(default=list)
    problem = models.CharField(max_length=300, blank=True)
    changed_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "name"], name="module_name")]
        ordering = ["name"]


class Attempt(models.Model):
    """A function tried on a generator: what it was called with, and what came of it."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="+")
    generator = models.ForeignKey(Generator, on_delete=models.SET_NULL, null=True)
    function = models.CharField(max_length=130)
    given = models.JSONField()
    modules = models.JSONField()
    agreed = models.BooleanField(default=False)
    state = models.CharField(max_length=10, default="asked")  # asked, returned, failed
    answer = models.TextField(blank=True)
    took_ms = models.FloatField(null=True)
    at = models.DateTimeField(auto_now_add=True)
