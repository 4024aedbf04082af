from django.db import models

from dynamikos.web.accounts.models import Account
from dynamikos.web.journeys.models import Journey
from dynamikos.web.projects.models import Project
from dynamikos.web.ui.ids import new_id


class Search(models.Model):
    """The last search for a journey: what it looked at and the strands it found (compressed msgpack
    of core.correlation.Strand).
    """

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    journey = models.OneToOneField(Journey, on_delete=models.CASCADE, related_name="search")
    evidence = models.JSONField(default=list)  # in words
    body = models.BinaryField()
    said = models.JSONField(default=dict)  # what the last accepting did and left
    searched_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    searched_at = models.DateTimeField(auto_now=True)


class Dismissal(models.Model):
    """A strand a person does not want to see again: known by the place it is first sent from, so
    that a new search keeps it.
    """

    journey = models.ForeignKey(Journey, on_delete=models.CASCADE, related_name="dismissals")
    entry = models.PositiveIntegerField()
    place = models.CharField(max_length=400)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["journey", "entry", "place"], name="dismissed_once")
        ]


class Rule(models.Model):
    """Always treat a value of this name so, in every journey of the project."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="strand_rules")
    name = models.CharField(max_length=120)
    kind = models.CharField(
        max_length=12,
        choices=[(kind, kind) for kind in ("issued", "client-made", "typed", "constant")],
    )
    ignore = models.BooleanField(default=False)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "name"], name="one_rule_a_name")]
        ordering = ["name"]
