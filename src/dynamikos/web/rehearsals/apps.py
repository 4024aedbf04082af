from django.apps import AppConfig


class RehearsalsConfig(AppConfig):
    name = "dynamikos.web.rehearsals"
    label = "rehearsals"
    default_auto_field = "django.db.models.BigAutoField"
