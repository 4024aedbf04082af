from django.apps import AppConfig


class RecordingsConfig(AppConfig):
    name = "dynamikos.web.recordings"
    label = "recordings"
    default_auto_field = "django.db.models.BigAutoField"
