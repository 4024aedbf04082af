from django.apps import AppConfig


class StreamsConfig(AppConfig):
    name = "dynamikos.web.streams"
    label = "streams"
    default_auto_field = "django.db.models.BigAutoField"
