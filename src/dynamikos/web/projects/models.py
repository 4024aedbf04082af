from django.db import models

from dynamikos.web.accounts.models import Account
from dynamikos.web.ui.ids import new_id


class Project(models.Model):
    """Everything about one application under test."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    name = models.CharField(max_length=120)
    created_at = models.DateTimeField(auto_now_add=True)
    # an owner's word that functions may run where the network can't be taken away
    functions_agreed = models.BooleanField(default=False)
    hour_price = models.FloatField(default=0.0)  # of a generator's hour; 0: nothing is said of cost
    currency = models.CharField(max_length=8, blank=True, default="")

    def __str__(self) -> str:
        return self.name


class Membership(models.Model):
    """What an account may do in a project. Order of rights: reader < engineer < owner."""

    class Role(models.TextChoices):
        READER = "reader"
        ENGINEER = "engineer"
        OWNER = "owner"

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="memberships")
    account = models.ForeignKey(Account, on_delete=models.CASCADE, related_name="memberships")
    role = models.CharField(max_length=10, choices=Role.choices)
    may_script = models.BooleanField(default=False)  # write Python functions; owners always may

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "account"], name="one_role_each")]

    @property
    def may_write_functions(self) -> bool:
        return self.role == self.Role.OWNER or (self.may_script and self.role == self.Role.ENGINEER)

    @property
    def may_edit(self) -> bool:
        return self.role in (self.Role.ENGINEER, self.Role.OWNER)

    @property
    def may_own(self) -> bool:
        return self.role == self.Role.OWNER


class Event(models.Model):
    """Who did what to what, when. Append-only: the web's database role can't change or delete
    one.
    """

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="events")
    account = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    what = models.CharField(max_length=60)
    subject = models.CharField(max_length=200)
    detail = models.JSONField(default=dict)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-at"]


class Revision(models.Model):
    """Canonical JSON of a core value with its parent. `subject` is the journey or plan it
    belongs to.
    """

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    subject = models.UUIDField(db_index=True)
    number = models.PositiveIntegerField()
    parent = models.ForeignKey("self", on_delete=models.PROTECT, null=True, related_name="children")
    form = models.PositiveSmallIntegerField(default=1)
    document = models.BinaryField()
    sha256 = models.CharField(max_length=64)
    author = models.ForeignKey(Account, on_delete=models.SET_NULL, null=True)
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)
    label = models.CharField(
        max_length=200, blank=True
    )  # what was edited, for folding and for undo
    # of the browser it was made in: another tab does not fold into it
    tab = models.CharField(max_length=16, blank=True)
    used = models.BooleanField(default=False)  # frozen into a run or rehearsal: never folded into

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["subject", "number"], name="revision_number")
        ]


class Revised(models.Model):
    """Something of a project with a key, a name and a content that is its head revision."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
    key = models.CharField(max_length=80)
    name = models.CharField(max_length=160)
    head = models.ForeignKey(Revision, on_delete=models.PROTECT, null=True, related_name="+")
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        abstract = True
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name
