from django.contrib.auth.models import AbstractUser
from django.db import models

from dynamikos.web.ui.ids import new_id


class Account(AbstractUser):
    """A person who can sign in. Rights are in memberships, not here."""

    id = models.UUIDField(primary_key=True, default=new_id, editable=False)
