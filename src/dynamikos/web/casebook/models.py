from django.db import models

from dynamikos.web.accounts.models import Account
from dynamikos.web.projects.models import Project, Revised


class Casebook(Revised):
    """Its content is the head revision (core.telling.casebook.Casebook); what it showed when it was
    closed is kept.
    """

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="casebooks")
    by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True, related_name="+")
    closed_at = models.DateTimeField(null=True)
    closed_by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True, related_name="+")
    html = models.TextField(blank=True)  # as it was when it was closed
    markdown = models.TextField(blank=True)
    folder = models.BinaryField(default=bytes)

    class Meta(Revised.Meta):
        ordering = ["-changed_at"]


class ReadLink(models.Model):
    """Lets people without an account read a casebook until a day. Of its word only the hash is
    kept.
    """

    casebook = models.ForeignKey(Casebook, on_delete=models.CASCADE, related_name="links")
    sha256 = models.CharField(max_length=64, unique=True)
    until = models.DateTimeField()
    by = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True, related_name="+")
    at = models.DateTimeField(auto_now_add=True)
    revoked_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-at"]
