from django.apps import AppConfig


class StrandsConfig(AppConfig):
    name = "dynamikos.web.strands"
    label = "strands"
    default_auto_field = "django.db.models.BigAutoField"
