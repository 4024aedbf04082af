from django.apps import AppConfig


class UiConfig(AppConfig):
    name = "dynamikos.web.ui"
    label = "ui"
    default_auto_field = "django.db.models.BigAutoField"
